package sheet

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"echolane/core/declare"
	"echolane/core/wording"
)

const mostKeyframes = 100 // of one name

// moved is an animation that was declared somewhere.
type moved struct {
	at    int
	name  string
	layer bool
}

// checkMoved says where keyframes are named that there are none of.
func (p *parser) checkMoved() {
	for _, m := range p.moved {
		if frames, ok := p.frames[m.name]; ok {
			if of := map[bool]string{false: "a picture", true: "a layer"}[m.layer]; !declare.Move(frames, m.layer) {
				p.wrong(m.at, Problem{Given: m.name, Detail: fmt.Sprintf("@keyframes %s move nothing of %s", m.name, of), Allowed: "keyframes that have " + strings.Join(declare.Movable(m.layer), ", ")})
			}
			continue
		}
		var names []string
		for name := range p.frames {
			names = append(names, name)
		}
		slices.Sort(names)
		problem := Problem{Given: m.name, Detail: fmt.Sprintf("there are no @keyframes %s", m.name), Allowed: strings.Join(names, ", "), Nearest: wording.Nearest(m.name, names)}
		if problem.Allowed == "" {
			problem.Allowed = "a name that has @keyframes in the sheet"
		}
		p.wrong(m.at, problem)
	}
}

// keyframes reads the block of @keyframes, whose brace was taken where there is one. As in CSS the later ones of a name count.
func (p *parser) keyframes(t token, words []token, block bool) {
	name := strings.Trim(strings.TrimSpace(joined(words)), `"'`)
	switch {
	case !block:
		p.wrong(t.at, Problem{Detail: "@keyframes has no block", Allowed: "@keyframes name { from { … } to { … } }"})
		return
	case !declare.IsKeyframes(name):
		p.wrong(t.at, Problem{Given: name, Detail: fmt.Sprintf("%q can't be the name of @keyframes", wording.Cut(name, 60)), Allowed: "a name such as drift"})
		p.skip()
		return
	}
	opened := p.tokens[p.at-1].at
	var list []declare.Keyframe
	if !p.block(opened, func() { p.keyframe(&list) }) {
		return
	}
	if len(list) == 0 {
		p.wrong(opened, Problem{Given: name, Detail: "@keyframes " + name + " says nothing", Allowed: "from { … } to { … }"})
	}
	if p.frames == nil {
		p.frames = map[string][]declare.Keyframe{}
	}
	slices.SortStableFunc(list, func(a, b declare.Keyframe) int { return cmp.Compare(a.At, b.At) })
	p.frames[name] = list
}

// keyframe reads one of a list: its times, and what holds then.
func (p *parser) keyframe(list *[]declare.Keyframe) {
	start, _ := p.peek()
	words, block := p.prelude()
	text := strings.TrimSpace(joined(words))
	if !block {
		p.wrong(start.at, Problem{Given: text, Detail: "a keyframe has no block", Allowed: "from { property: value }"})
		return
	}
	var times []float64
	for part := range strings.SplitSeq(strings.ToLower(text), ",") {
		switch part = strings.TrimSpace(part); part {
		case "from":
			times = append(times, 0)
		case "to":
			times = append(times, 1)
		default:
			number, ok := strings.CutSuffix(part, "%")
			v, err := strconv.ParseFloat(number, 64)
			if !ok || err != nil || !(v >= 0 && v <= 100) {
				p.wrong(start.at, Problem{Given: text, Detail: fmt.Sprintf("%q is no time of a keyframe", wording.Cut(part, 40)), Allowed: "from, to, or a percentage from 0% to 100%"})
				p.skip()
				return
			}
			times = append(times, v/100)
		}
	}
	opened := p.tokens[p.at-1].at
	said := declare.Keyframe{}
	closed := p.block(opened, func() {
		if property, value, name, at, ok := p.property(); ok {
			said.Forget(property)
			p.report(said.SetInKeyframe(property, value), name, at)
		}
	})
	if closed {
		for _, at := range times {
			p.addKeyframe(list, at, said, start.at)
		}
	}
}

// addKeyframe adds one, or lays it over what was said of its time.
func (p *parser) addKeyframe(list *[]declare.Keyframe, at float64, said declare.Keyframe, where int) {
	for i := range *list {
		if k := &(*list)[i]; k.At == at {
			*k = said.Over(*k)
			return
		}
	}
	if len(*list) == mostKeyframes {
		p.wrong(where, Problem{Detail: "there are too many keyframes", Allowed: fmt.Sprintf("at most %d of a name", mostKeyframes)})
		return
	}
	said.At = at
	*list = append(*list, said)
}
