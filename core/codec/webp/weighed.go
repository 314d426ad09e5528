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
type Weighed struct{ plan *vp8.Plan }

// indexes are how many of VP8's indexes a fineness is.
const indexes = 1.27

// plain is from which fineness on less and less is dropped, down to nothing at 100.
const plain = 96

// Weigh takes a 4:2:0 picture in Limited range.
func Weigh(p *raster.YCbCr) *Weighed { return &Weighed{plan: vp8.New(p)} }

// Write gives the file at a fineness of 0–100, which comes as near as libwebp's.
func (w *Weighed) Write(fineness float64) ([]byte, error) {
	w.Choose(fineness, false)
	return w.File()
}

// Choose decides on everything for a fineness; quick in half the time, for a fiftieth more bytes.
func (w *Weighed) Choose(fineness float64, quick bool) {
	w.plan.Choose(Index(fineness), thriftAt(fineness), quick)
}

// Again is of another fineness by the modes of the last choice: in a quarter of the time of a quick one, for a twentieth more bytes.
func (w *Weighed) Again(fineness float64) { w.plan.Again(Index(fineness), thriftAt(fineness)) }

// Shown is what decoders show of the last choice, in Limited range. It and File may be called at the same time.
func (w *Weighed) Shown() *raster.YCbCr { return w.plan.Shown() }

// File is that of the last choice.
func (w *Weighed) File() ([]byte, error) {
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

// Index is VP8's index at a fineness, in the middle of the picture's segments.
func Index(fineness float64) float64 { return max(0, (100-fineness)*indexes) }

func thriftAt(fineness float64) float64 {
	return math.Min(1, math.Max(0, (100-fineness)/(100-plain)))
}
