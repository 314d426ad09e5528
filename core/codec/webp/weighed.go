package webp

import (
	"encoding/binary"
	"math"

	"echolane/core/codec"
	"echolane/core/codec/webp/vp8"
	"echolane/core/raster"
)

// A Weighed is an opaque picture that is written at one fineness after the other by our own encoder, which takes fewer bytes
// than libwebp (package vp8). It isn't safe for concurrent use.
type Weighed struct {
	plan *vp8.Plan
	made float64 // the fineness of what was made last
}

// indexes are how many of VP8's indexes a fineness is.
const indexes = 1.27

// plain is from which fineness on less and less is dropped, down to nothing at 100.
const plain = 96

// Weigh takes a 4:2:0 picture in Limited range.
func Weigh(p *raster.YCbCr) *Weighed { return &Weighed{plan: vp8.New(p)} }

// Write gives the file at a fineness of 0–100, which comes as near as libwebp's.
func (w *Weighed) Write(fineness float64) ([]byte, error) {
	w.made = fineness
	w.plan.Choose(Index(fineness), thriftAt(fineness), false)
	return w.file()
}

// Shown is what decoders show of what was made last, in Limited range.
func (w *Weighed) Shown() *raster.YCbCr { return w.plan.Shown() }

// Glimpse says what decoders would show of the file at a fineness, in Limited range, before it is written: in less time than
// Write, for a few more bytes.
func (w *Weighed) Glimpse(fineness float64) *raster.YCbCr {
	w.made = fineness
	w.plan.Choose(Index(fineness), thriftAt(fineness), true)
	return w.Shown()
}

// Glimpsed gives the file of the last glimpse, at its fineness or at another one, however far, by the same modes.
func (w *Weighed) Glimpsed(fineness float64) ([]byte, error) {
	if fineness != w.made {
		w.made = fineness
		w.plan.Again(Index(fineness), thriftAt(fineness))
	}
	return w.file()
}

// Index is VP8's index at a fineness, in the middle of the picture's segments.
func Index(fineness float64) float64 { return max(0, (100-fineness)*indexes) }

func thriftAt(fineness float64) float64 {
	return math.Min(1, math.Max(0, (100-fineness)/(100-plain)))
}

// file is that of what was made last.
func (w *Weighed) file() ([]byte, error) {
	frame, err := w.plan.Frame()
	if err != nil {
		return nil, &codec.Error{Type: Type, Problem: "encoding failed: " + err.Error()}
	}
	padded := uint32(len(frame) + len(frame)&1)
	out := make([]byte, 0, 20+padded)
	out = binary.LittleEndian.AppendUint32(append(out, "RIFF"...), 12+padded)
	out = binary.LittleEndian.AppendUint32(append(out, "WEBPVP8 "...), uint32(len(frame)))
	return append(out, frame...)[:20+padded], nil
}
