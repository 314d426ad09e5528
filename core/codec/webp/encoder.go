package webp

import (
	"encoding/binary"
	"math"

	"echolane/core/codec"
	"echolane/core/codec/webp/vp8"
	"echolane/core/raster"
)

// An Encoder is an opaque picture that is written at one fineness after the other by our own encoder, which takes fewer bytes
// than libwebp (package vp8). It isn't safe for concurrent use.
type Encoder struct{ plan *vp8.Plan }

// indexes is how many of VP8's quantizer indices a step of fineness is.
const indexes = 1.27

// plain is the fineness from which on λ fades, to 0 at 100.
const plain = 96

// NewEncoder opens a 4:2:0 picture in Limited range. It may be freed.
func NewEncoder(p *raster.YCbCr) *Encoder { return &Encoder{plan: vp8.New(p)} }

// Free gives back the encoder's room; it isn't used any more.
func (w *Encoder) Free() { w.plan.Free() }

// Write encodes at a fineness of 0–100, which comes as near as libwebp's.
func (w *Encoder) Write(fineness float64) ([]byte, error) {
	w.Choose(fineness, false)
	return w.File()
}

// Choose makes the frame of a fineness: quick in half the time, with a fiftieth more bytes.
func (w *Encoder) Choose(fineness float64, quick bool) {
	w.plan.Choose(Index(fineness), thriftAt(fineness), quick)
}

// Again makes the frame of another fineness with the modes of the last Choose: in a quarter of the time of a quick one, with a
// twentieth more bytes.
func (w *Encoder) Again(fineness float64) { w.plan.Again(Index(fineness), thriftAt(fineness)) }

// Shown is what decoders show of the frame made last, in Limited range. It and File may be called at the same time.
func (w *Encoder) Shown() *raster.YCbCr { return w.plan.Shown() }

// File writes the frame made last.
func (w *Encoder) File() ([]byte, error) {
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

// Index is VP8's quantizer index at a fineness, in the middle of the picture's segments.
func Index(fineness float64) float64 { return max(0, (100-fineness)*indexes) }

func thriftAt(fineness float64) float64 {
	return math.Min(1, math.Max(0, (100-fineness)/(100-plain)))
}
