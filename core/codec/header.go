package codec

import (
	"fmt"
	"slices"
)

// A Header is what an Info says that may be told between processes: all but the profile itself.
type Header struct {
	Type        string `json:"type"`
	W           int    `json:"w"`           // as stored
	H           int    `json:"h"`           // as stored
	Orientation int    `json:"orientation"` // 1–8
	Alpha       bool   `json:"alpha,omitempty"`
	Frames      int    `json:"frames"`
	Depth       int    `json:"depth"`
	Coding      string `json:"coding,omitempty"`
	HasProfile  bool   `json:"has_profile,omitempty"`
	Range       string `json:"range,omitempty"` // high dynamic range: PQ, HLG, gain map
}

// Header is the info without its profile.
func (i Info) Header() Header {
	h := Header{i.Type, i.W, i.H, i.Orientation, i.Alpha, i.Frames, i.Depth, i.Coding, len(i.Profile) > 0, ""}
	switch {
	case len(i.Profile) == 0 && i.Colour.HighRange():
		h.Range = i.Colour.Range()
	case i.GainMap:
		h.Range = "gain map"
	}
	return h
}

// Upright is the size after Orientation: the picture's natural size.
func (h Header) Upright() (w, hh int) {
	return Info{W: h.W, H: h.H, Orientation: h.Orientation}.Upright()
}

// Check says what can't be in a header that somebody else has read. types are the media types that it may be of.
func (h Header) Check(types []string) error {
	const most = 1<<31 - 1
	switch {
	case !slices.Contains(types, h.Type):
		return fmt.Errorf("a header of type %.40q", h.Type)
	case h.W < 1 || h.H < 1 || h.W > most || h.H > most:
		return fmt.Errorf("a header of %d × %d pixels", h.W, h.H)
	case h.Orientation < 1 || h.Orientation > 8 || h.Frames < 1 || h.Frames > most || h.Depth < 0 || h.Depth > 64 || len(h.Coding) > 64 || len(h.Range) > 16:
		return fmt.Errorf("a header that says orientation %d, %d frames, depth %d, coding %.64q", h.Orientation, h.Frames, h.Depth, h.Coding)
	}
	return nil
}
