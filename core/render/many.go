package render

import (
	"cmp"
	"maps"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"

	"echolane/core/codec"
	"echolane/core/declare"
	"echolane/core/policy"
	"echolane/core/raster"
)

// An Outcome is what became of one of many jobs: a Result, or an error, which is a *policy.Refusal.
type Outcome struct {
	Result Result
	Err    error
}

// Variants makes many variants of one source, and tells done what Variant gives for each, by its place among the jobs, as soon as
// it is there; done is called once for each, one call at a time. The bytes are the same, too: the
// source is decoded once for all that need it at the same scale (a JPEG at four, others at one), and what differs in its format and
// quality alone is painted once. As many are made at a time as Go may use processors.
func Variants(source []byte, jobs []Job, done func(int, Outcome)) {
	d := decoder{}
	groups := map[string][]*task{} // by what they look like: what is painted once
	place := map[*task]int{}
	for i, j := range jobs {
		t, err := begin(source, j)
		switch {
		case err != nil:
			done(i, Outcome{Err: err})
		case t.done:
			done(i, Outcome{Result: t.result})
		default:
			defer t.close()
			place[t] = i
			d.want(t)
			groups[t.looks()] = append(groups[t.looks()], t)
		}
	}
	defer d.free()
	area := func(key string) int { c := groups[key][0].plan.Canvas; return c.W * c.H }
	procs := min(runtime.GOMAXPROCS(0), len(groups))
	order := slices.SortedFunc(maps.Keys(groups), func(a, b string) int { // the quickest first
		return cmp.Or(area(a)-area(b), strings.Compare(a, b))
	})
	if procs > 1 { // or the slowest, so that none is left alone at the end
		slices.Reverse(order)
	}
	var mu sync.Mutex
	tell := func(t *task, err error) {
		mu.Lock()
		defer mu.Unlock()
		o := Outcome{Err: err}
		if err == nil {
			o.Result = t.result
		}
		done(place[t], o)
	}
	var all sync.WaitGroup
	var next atomic.Int64
	for range procs {
		all.Go(func() {
			for i := int(next.Add(1)) - 1; i < len(order); i = int(next.Add(1)) - 1 {
				d.make(groups[order[i]], tell)
			}
		})
	}
	all.Wait()
}

// make makes tasks that look alike.
func (d decoder) make(alike []*task, tell func(*task, error)) {
	first := alike[0]
	err := d.paint(first)
	if err == nil {
		defer first.free()
	}
	for _, t := range alike {
		switch {
		case err != nil: // the same for all of them
			tell(t, err)
		case t == first:
			tell(t, t.deliver())
		default:
			tell(t, t.deliverAs(first))
		}
	}
}

// looks is what the painted picture depends on: tasks with equal looks are painted once.
func (t *task) looks() string {
	d := t.job.Request.Declarations
	d.EncodingValues = declare.EncodingValues{}
	return d.AddressForm() + "\n" + strconv.FormatBool(t.byPlanes)
}

// deliverAs encodes what another task has painted.
func (t *task) deliverAs(same *task) error {
	t.begin()
	t.fill()
	t.picture.YCbCr, t.picture.Pixels = same.picture.YCbCr, same.picture.Pixels
	defer func() { // what it has made of them is the other's, and so the next one's too
		same.picture.YCbCr, t.picture.YCbCr = t.picture.YCbCr, nil
		t.picture.Free()
	}()
	if t.picture.Pixels != nil {
		var r *policy.Refusal
		if t.tried, r = t.job.choose(t.plan.Canvas, t.picture.Pixels.Opaque, t.picture.Kind()); r != nil {
			return r
		}
	}
	return t.deliver()
}

// A decoder decodes a source once for all tasks that need it at the same scale.
type decoder map[need]*decoded

type need struct {
	scale    int
	byPlanes bool

	part codec.Part // of a drawing, and the pixels that it is drawn on
	w, h int

	revision string // what is altered
}

// need is what a task needs of its source.
func (t *task) need() need {
	return need{t.scale, t.byPlanes, t.part, t.info.W, t.info.H, t.revision.key}
}

// decoded is what tasks of one sort need of a source, and that.
type decoded struct {
	bottom  int
	once    sync.Once
	done    bool
	err     error
	picture codec.Picture // in planes, if the decoder gave them
	own     *raster.RGBA  // else in pixels, premultiplied in sRGB
}

// want notes what a task needs.
func (d decoder) want(t *task) {
	key := t.need()
	if d[key] == nil {
		d[key] = &decoded{}
	}
	d[key].bottom = max(d[key].bottom, t.bottom)
}

// paint paints a task's picture.
func (d decoder) paint(t *task) error {
	o := d[t.need()]
	t.begin()
	o.once.Do(func() {
		o.done = true
		if o.picture, o.err = decode(t.source, t.info, t.part, t.scale, o.bottom, t.byPlanes); o.err == nil {
			t.lap("decode")
			if o.picture.YCbCr == nil || !t.byPlanes {
				o.own = t.inSRGB(o.picture)
			}
		}
	})
	if o.err != nil {
		return refuseSource(o.err)
	}
	if o.own == nil {
		t.fromPlanes(o.picture.YCbCr)
		return nil
	}
	return t.fromPixels(o.own, true)
}

func (d decoder) free() {
	for _, o := range d {
		if o.done && o.err == nil {
			o.picture.Free()
		}
	}
}
