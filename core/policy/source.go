package policy

import (
	"fmt"
	"strings"

	"echolane/core/codec"
	"echolane/core/declare"
	"echolane/core/geometry"
)

// Use is what is made of a source.
type Use uint8

const (
	Render    Use = iota // a variant
	Untouched            // the source as it is: a drawing that its lane lets through
)

// Readable names the formats that are read, for people.
const Readable = "JPEG, PNG, WebP, AVIF, JPEG XL, GIF, HEIC, TIFF, BMP, SVG"

// NotRead is the refusal for a source that is of none of the formats that are read; kind is what it is by its first bytes,
// "" where that isn't known.
func NotRead(kind string) *Refusal {
	r := Refusal{
		Reason: ReasonNotAnImage, Given: kind, Allowed: Readable,
		Detail: "the source's first bytes are of no format that is known", Remedy: "put a picture in one of these formats in its place",
	}
	if kind != "" {
		r.Detail = fmt.Sprintf("whatever its name says, by its first bytes the source is %s", kind)
	}
	return No(r)
}

// CheckSource says whether a source with this header may be used in a lane: its format, its pixels, its frames.
func (l *CompiledLane) CheckSource(site string, h codec.Header) (Use, *Refusal) {
	if strings.HasPrefix(h.Type, "font/") {
		return Render, No(Refusal{
			Reason: ReasonNotAnImage, Given: h.Type, Allowed: Readable, Detail: "the source is a font", Remedy: "name it in an @font-face rule of the sheet; as a picture ask for one",
		})
	}
	if h.Type == declare.Drawing {
		switch l.SVG {
		case "untouched":
			return Untouched, nil
		case "refuse":
			return Render, No(Refusal{
				Reason: ReasonNotAnImage, Given: h.Type, Allowed: Readable, Detail: "the source is a drawing (SVG), which the lane refuses",
				Remedy: fmt.Sprintf("let the lane draw drawings: echolane lane set %s/%s --svg draw; or put a picture in another format in its place", site, l.Name),
			})
		}
	}
	if no := l.Limits.CheckPixels(h.W, h.H); no != nil {
		return Render, no
	}
	return Render, l.Limits.CheckFrames(h.Frames)
}

// DecideSource says whether a request may have what it asks of a source with this header: all that depends on the source's
// own size, before anything is looked up or made. A hit is held to it like a miss. trace may be nil.
func (s *Site) DecideSource(l *CompiledLane, r declare.Resolved, h codec.Header, trace *[]Step) (Use, *Refusal) {
	use, no := l.CheckSource(s.Name, h)
	if no != nil {
		refused(trace, "source", no.Detail)
		return use, no
	}
	if use == Untouched && (r.Redact != "" || r.Erase != "") { // what is to be gone mustn't go out
		note(trace, "lanes.svg", "passed", "the drawing is drawn, since some of it is to be taken away")
		use = Render
	}
	if use == Untouched {
		note(trace, "lanes.svg", "passed", "the drawing goes out as it is")
		return use, nil
	}
	h.Orientation = r.Orientation.Of(h.Type, h.Orientation)
	w, hh := h.Upright()
	plan, ok := geometry.New(geometry.Size{W: w, H: hh}, r.For(h.Type))
	if !ok {
		no := NothingLeft(r.XYWH, w, hh)
		refused(trace, "xywh", no.Detail)
		return use, no
	}
	if no := l.Limits.CheckOutput(plan.Canvas.W, plan.Canvas.H); no != nil {
		refused(trace, "limits", no.Detail)
		return use, no
	}
	switch {
	case trace == nil || h.Range == "":
	case h.Range == "gain map":
		note(trace, "source", "passed", "the source has a gain map for screens of a higher dynamic range: what is delivered is what others show")
	default:
		note(trace, "source", "passed", fmt.Sprintf("the source has a high dynamic range (%s): its light is toned down to what every screen shows", h.Range))
	}
	if trace != nil {
		note(trace, "limits", "passed", fmt.Sprintf("the source is %d × %d, what is delivered %d × %d", w, hh, plan.Canvas.W, plan.Canvas.H))
	}
	return use, nil
}

// NothingLeft is the refusal for an xywh that lies beside a picture of w×h.
func NothingLeft(r declare.Region, w, h int) *Refusal {
	return No(Refusal{
		Reason: ReasonNothingLeft, Parameter: "xywh", Given: r.String(), Detail: fmt.Sprintf("the part lies beside the picture, which is %d × %d pixels", w, h),
		Allowed: fmt.Sprintf("a part of 0,0,%d,%d", w, h), Remedy: "give xywh a part of the picture",
	})
}
