package webp

import (
	"encoding/binary"
	"math"

	"echolane/core/codec"
	"echolane/core/codec/webp/vp8"
	"echolane/core/raster"
)

// A Weighed is a picture that libwebp has written once, from whose modes it is written anew at any fineness, in fewer
// bytes and less time (package vp8). It isn't safe for concurrent use.
type Weighed struct {
	plan     *vp8.Plan
	fineness float64
}

// A fineness is so many indexes of VP8's steps.
const indexes = 1.27

// finer is how many indexes finer frames are written than libwebp would, which makes up for what is dropped.
const finer = 1

// plain is from which fineness on less and less is dropped, down to nothing at 100.
const plain = 88

// Weigh has libwebp write a 4:2:0 picture in Limited range. fineness should be near those it'll be written at.
func Weigh(p *raster.YCbCr, fineness float64) (*Weighed, error) {
	data, err := EncodePlanes(p, Quality(fineness))
	if err != nil {
		return nil, err
	}
	frame := frameOf(data)
	if frame == nil {
		return nil, &codec.Error{Type: Type, Problem: "encoding gave no lossy frame"}
	}
	plan, err := vp8.Read(frame, p)
	if err != nil {
		return nil, &codec.Error{Type: Type, Problem: "reading its own frame failed: " + err.Error()}
	}
	return &Weighed{plan, fineness}, nil
}

// Near says whether the modes are still good at a fineness.
func (w *Weighed) Near(fineness float64) bool { return math.Abs(fineness-w.fineness) <= 1.5 }

// Write gives the file at a fineness of 0–100, which comes as near as libwebp's.
func (w *Weighed) Write(fineness float64) ([]byte, error) {
	thrift := math.Min(1, math.Max(0, (100-fineness)/(100-plain)))
	frame, err := w.plan.Write(indexes*(w.fineness-fineness)-finer*thrift, thrift)
	if err != nil {
		return nil, &codec.Error{Type: Type, Problem: "encoding failed: " + err.Error()}
	}
	padded := uint32(len(frame) + len(frame)&1)
	out := make([]byte, 0, 20+padded)
	out = binary.LittleEndian.AppendUint32(append(out, "RIFF"...), 12+padded)
	out = binary.LittleEndian.AppendUint32(append(out, "WEBPVP8 "...), uint32(len(frame)))
	return append(out, frame...)[:20+padded], nil
}
