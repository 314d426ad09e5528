package workshop

import (
	"bufio"
	"bytes"
	"math"
	"strings"
	"testing"
	"time"

	"echolane/core/codec"
	"echolane/core/declare"
	"echolane/core/geometry"
	"echolane/core/metadata"
	"echolane/core/policy"
	"echolane/core/render"
	"echolane/service/source/held"
)

func TestWhatAWorkerSaysIsHeldAgainstWhatItMaySay(t *testing.T) {
	order := &message{Kind: toRender, Inputs: make([]input, 1)}
	good := func() answer {
		return answer{
			Digests: make([]held.Digest, 1),
			Result:  render.Result{Data: []byte("x"), Format: declare.WebP, Canvas: geometry.Size{W: 1, H: 1}, Natural: geometry.Size{W: 1, H: 1}, Stages: []render.Stage{{Name: "decode", Took: 5}}},
		}
	}
	a := good()
	if err := a.check(order); err != nil {
		t.Fatal(err)
	}
	for name, change := range map[string]func(*answer){
		"a stage that there isn't":  func(a *answer) { a.Result.Stages[0].Name = "exfiltrate" },
		"a stage with a header":     func(a *answer) { a.Result.Stages[0].Name = "x\r\nSet-Cookie: a=b" },
		"a time before":             func(a *answer) { a.Result.Stages[0].Took = -1 },
		"a time of hours":           func(a *answer) { a.Result.Stages[0].Took = 2 * time.Hour },
		"many stages":               func(a *answer) { a.Result.Stages = make([]render.Stage, 1000) },
		"a format that there isn't": func(a *answer) { a.Result.Format = 200 },
		"no bytes":                  func(a *answer) { a.Result.Data = nil },
		"no size":                   func(a *answer) { a.Result.Canvas.W = 0 },
		"a natural size below 0":    func(a *answer) { a.Result.Natural.H = -4 },
		"many layers":               func(a *answer) { a.Result.Layers = make([]render.Laid, 1000) },
		"a layer without a name":    func(a *answer) { a.Result.Layers = []render.Laid{{}} },
		"an overflow of its own":    func(a *answer) { a.Result.Layers = []render.Laid{{Name: "after", Over: []render.Overflow{"sideways"}}} },
		"no digest":                 func(a *answer) { a.Digests = nil },
		"many digests":              func(a *answer) { a.Digests = make([]held.Digest, 9) },
		"policy's reasons":          func(a *answer) { a.Refusal = policy.No(policy.Refusal{Reason: policy.ReasonNotSignedIn}) },
		"that the month is over":    func(a *answer) { a.Refusal = policy.No(policy.Refusal{Reason: policy.ReasonMonthUsedUp}) },
		"a reason of its own":       func(a *answer) { a.Refusal = &policy.Refusal{Reason: "because"} },
		"when to come back": func(a *answer) {
			a.Refusal = policy.No(policy.Refusal{Reason: policy.ReasonSourceBroken, RetryIn: 5})
		},
		"a change of settings": func(a *answer) {
			a.Refusal = policy.No(policy.Refusal{Reason: policy.ReasonSourceBroken, Mend: &policy.Mend{Action: "allow"}})
		},
		"another limit": func(a *answer) {
			a.Refusal = policy.No(policy.Refusal{Reason: policy.ReasonSourceBroken, Mend: &policy.Mend{Action: "set-limit", Value: "render_ms=99999"}})
		},
	} {
		a := good()
		change(&a)
		if err := a.check(order); err == nil {
			t.Errorf("%s is taken", name)
		}
	}
	a = answer{Refusal: policy.No(policy.Refusal{Reason: policy.ReasonSourceBroken, Detail: strings.Repeat("long\r\n", 1e5)})}
	if err := a.check(order); err != nil || len(a.Refusal.Detail) > mostRefusal || strings.Contains(a.Refusal.Detail, "\r") {
		t.Errorf("%v, %d bytes", err, len(a.Refusal.Detail))
	}
	tooMany := policy.DefaultLimits.CheckFrames(1e9)
	if err := (&answer{Refusal: tooMany}).check(order); tooMany == nil || err != nil {
		t.Errorf("a limit that was met: %v", err)
	}
	for name, h := range map[string]codec.Header{
		"an unknown type": {Type: "text/html", W: 1, H: 1, Orientation: 1, Frames: 1}, "no size": {Type: "image/png", Orientation: 1, Frames: 1},
		"a size below 0": {Type: "image/png", W: -1, H: 1, Orientation: 1, Frames: 1}, "orientation 9": {Type: "image/png", W: 1, H: 1, Orientation: 9, Frames: 1},
	} {
		a := answer{Digests: make([]held.Digest, 1), Header: h}
		if err := a.check(&message{Kind: toHeader, Inputs: make([]input, 1)}); err == nil {
			t.Errorf("a header with %s is taken", name)
		}
	}
	a = answer{Digests: make([]held.Digest, 1), Splices: []metadata.Splice{{From: 5, N: math.MaxInt64}}}
	if err := a.check(&message{Kind: toStrip, Inputs: []input{{Size: 100}}}); err == nil {
		t.Error("splices beyond the source are taken")
	}
}

// FuzzWhatAWorkerSays gives the service's side whatever a worker that was taken over could send.
func FuzzWhatAWorkerSays(f *testing.F) {
	seed := func(a answer) {
		var b bytes.Buffer
		if err := send(bufio.NewWriter(&b), a, a.Result.Data); err != nil {
			f.Fatal(err)
		}
		f.Add(b.Bytes())
	}
	seed(answer{Digests: make([]held.Digest, 1), Result: render.Result{Data: []byte("x"), Format: declare.WebP, Canvas: geometry.Size{W: 1, H: 1}}})
	seed(answer{Refusal: policy.No(policy.Refusal{Reason: policy.ReasonSourceBroken, Detail: "x"})})
	seed(answer{Header: codec.Header{Type: "image/png", W: 3, H: 2, Orientation: 1, Frames: 1}})
	f.Fuzz(func(t *testing.T, data []byte) {
		for _, kind := range []kind{toRender, toHeader, toStrip} {
			o := &message{Kind: kind, Inputs: []input{{Size: 100}}}
			var a answer
			body, err := receive(bytes.NewReader(data), &a, 1<<20)
			if err != nil {
				return
			}
			a.Result.Data = body
			if a.check(o) != nil {
				continue
			}
			if no := a.Refusal; no != nil && (len(no.Detail) > mostRefusal || no.RetryIn != 0 || no.Mend != nil) {
				t.Errorf("%+v", no)
			}
			if kind == toRender && a.Refusal == nil && !a.Changed && a.Result.Format.MediaType() == "image/" {
				t.Errorf("%+v", a.Result)
			}
		}
	})
}

// FuzzWhatAWorkerIsTold gives the worker's side whatever could come to it.
func FuzzWhatAWorkerIsTold(f *testing.F) {
	for _, o := range []message{{}, {Kind: toHeader, Inputs: []input{{Size: 3}}}, {Inputs: []input{{}, {Name: "lane/path"}}, More: make([]render.Job, 2)}} {
		head, err := pack(o)
		if err != nil {
			f.Fatal(err)
		}
		f.Add(append(lengths(int64(len(head)), 3), append(head, "abc"...)...))
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		var o message
		body, err := receive(bytes.NewReader(data), &o, 1<<20)
		if err != nil {
			return
		}
		var room []byte
		if all, _, err := o.sources(body, nil, &room); err == nil && len(all) != len(o.Inputs) {
			t.Errorf("%d sources of %d", len(all), len(o.Inputs))
		}
	})
}
