package weighing

import (
	"bytes"

	"echolane/core/weighin"
)

// mostShots is how many bytes the screenshots of a weigh-in have together.
const mostShots = 6 << 20

// number puts the reports' screenshots into one list: whole pages first, then what was seen while they loaded.
func (o *Outcome) number() {
	held := 0
	shot := func(data []byte) int {
		if len(data) == 0 {
			return 0
		}
		for i, s := range o.Shots {
			if bytes.Equal(s, data) {
				return i + 1
			}
		}
		if held += len(data); held > mostShots {
			return 0
		}
		o.Shots = append(o.Shots, data)
		return len(o.Shots)
	}
	for _, r := range []*weighin.Report{&o.Report, o.After} {
		if r == nil {
			continue
		}
		for i := range r.Views {
			r.Views[i].Shot = shot(r.Views[i].ShotData)
		}
	}
	for _, r := range []*weighin.Report{&o.Report, o.After} {
		if r == nil {
			continue
		}
		for i := range r.Loads {
			for j := range r.Loads[i].Frames {
				f := &r.Loads[i].Frames[j]
				f.Shot = shot(f.Data)
			}
		}
	}
}
