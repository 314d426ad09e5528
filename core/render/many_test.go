package render

import (
	"bytes"
	"errors"
	"testing"

	"echolane/core/policy"
)

func TestManyVariantsAreAsEachAlone(t *testing.T) {
	moving := clip(t)
	for _, c := range []struct {
		name    string
		source  []byte
		queries []string
	}{
		{"a photograph", drawn(t, "coast-panorama.jpg"), []string{
			"width=160&format=jpeg", "width=160&format=webp", "width=320&format=webp", "width=640&format=jpeg", "width=90&aspect-ratio=1&object-position=subject&format=webp",
			"width=640&filter=grayscale(1)&format=jpeg", "width=640&filter=grayscale(1)&format=webp", "width=200&rotate=90deg&format=jpeg", "width=60000&format=jpeg", "width=300&quality=lossless&format=webp",
		}},
		{"a turned one", drawn(t, "spool-turned.jpg"), []string{"width=120&format=webp", "width=240&format=webp", "width=240&format=jpeg", "width=120&rotate=30deg&format=png"}},
		{"a drawing with holes", drawn(t, "mark.png"), []string{"width=64&format=webp", "width=64&format=jpeg&matte=red", "width=64&format=png", "width=128&format=webp", "width=64&border-radius=9px&format=webp"}},
		{"one that moves", moving, []string{"width=30&format=webp", "width=20&format=gif", "width=30&animation=none&format=png", "width=20&animation=none&format=jpeg"}},
		{"a broken one", drawn(t, "mark.png")[:3000], []string{"width=64&format=webp", "width=32&format=png"}},
	} {
		for _, predict := range []bool{true, false} {
			var jobs []Job
			for _, q := range c.queries {
				j := job(t, q)
				j.Predict = predict
				jobs = append(jobs, j)
			}
			got := make([]Outcome, len(jobs))
			told := 0
			Variants(c.source, jobs, func(i int, o Outcome) {
				got[i] = o
				told++
			})
			if told != len(jobs) {
				t.Errorf("%s: %d of %d were told", c.name, told, len(jobs))
			}
			for i, o := range got {
				alone, err := Variant(c.source, jobs[i])
				var no, want *policy.Refusal
				if errors.As(err, &want) || o.Err != nil {
					if !errors.As(o.Err, &no) || want == nil || no.Reason != want.Reason || no.Detail != want.Detail {
						t.Errorf("%s, %s: %v, want %v", c.name, c.queries[i], o.Err, err)
					}
					continue
				}
				r := o.Result
				if r.Format != alone.Format || r.Canvas != alone.Canvas || r.Natural != alone.Natural || r.Source != alone.Source || r.How.Kind != alone.How.Kind || r.How.Way != alone.How.Way {
					t.Errorf("%s, %s: %+v, want %+v", c.name, c.queries[i], r, alone)
				}
				if !bytes.Equal(r.Data, alone.Data) {
					t.Errorf("%s, %s: other bytes than alone", c.name, c.queries[i])
				}
			}
		}
	}
	Variants(nil, nil, func(int, Outcome) { t.Error("nothing was asked for") })
}
