package webp

import (
	"fmt"

	"golang.org/x/sync/errgroup"

	"echolane/core/codec"
	"echolane/core/raster"
)

// Format is WebP (RFC 9649), animated too. Its settings are finenesses, 0–100: see Quality.
var Format = &codec.Format{
	Type: Type, Name: "WebP", Endings: []string{".webp"},
	Sniff: func(data []byte) bool {
		return len(data) >= 12 && string(data[:4]) == "RIFF" && string(data[8:12]) == "WEBP"
	},
	Probe: Probe, Decode: func(data []byte, w codec.Want) (codec.Picture, error) { return DecodeRows(data, w.Rows) }, Frames: Frames,
	Quality: func(data []byte) int {
		index, ok := Quantizer(data)
		if !ok {
			return 0
		}
		return fit.QualityOf(100 - float64(index)*100/127)
	},
	Write: &codec.Writer{
		MaxSide: MaxSide, Lossy: lossy, Fit: fit, OftenLossless: true,
		Lossless: func(p *raster.RGBA, _ codec.Options) ([]byte, error) { return EncodeLossless(p) },
		Animate:  func(w, h, plays, _ int, _ bool) (codec.Animation, error) { return NewAnimation(w, h, plays) },
	},
}

// trellisBelow is up to how many pixels our own encoder is used, which takes nine bytes a pixel.
const trellisBelow = 8_000_000

// Alone is how much finer libwebp's settings have to be than those of our own encoder.
const Alone = 0.5

// quickLoss is how much finer a first answer's settings have to be than those of what is kept.
const quickLoss = 1.6

// quarter is how near a search comes that steps by a quarter of a quantizer index, in points of quality: a little less than half
// a point.
const quarter = 0.5

// lossy opens a picture: for our own encoder where it's opaque, else for libwebp.
func lossy(p codec.Painted, o codec.Options) (*codec.Encoder, error) {
	e := &codec.Encoder{
		Least: 0, Most: 100, Step: 0.25, Finer: Alone,
		Name: func(s float64) string { return fmt.Sprintf("libwebp %.1f, method %d", Quality(s), Effort) },
	}
	if !p.Opaque() {
		straight := p.Straight()
		e.Write = func(s float64) ([]byte, error) { return EncodeRGBA(straight, Quality(s)) }
		return e, nil
	}
	limited := p.Planes().ToLimited()
	if w, h := p.Size(); o.Frame || w*h > trellisBelow {
		e.Write = func(s float64) ([]byte, error) { return EncodePlanes(limited, Quality(s)) }
		e.Read = DecodePlanes
		e.Free = limited.Free
		return e, nil
	}
	e.Finer, e.Near = 0, quarter
	e.Name = func(s float64) string { return fmt.Sprintf("VP8 quantizer %.1f, rate-distortion", Index(s)) }
	var opened *Encoder
	var ready errgroup.Group // while the setting is thought of
	ready.Go(func() error {
		opened = NewEncoder(limited)
		return nil
	})
	encoder := func() *Encoder {
		ready.Wait()
		return opened
	}
	e.Show = func(s float64) (func() *raster.YCbCr, func() ([]byte, error)) {
		w := encoder()
		w.Choose(s, o.Quick)
		return w.Shown, w.File
	}
	e.Write = func(s float64) ([]byte, error) { return encoder().Write(s) }
	e.Free = func() {
		encoder().Free()
		limited.Free()
	}
	if o.Quick {
		e.Glances, e.Finer = 2, quickLoss
		e.Write = func(s float64) ([]byte, error) {
			encoder().Again(s)
			return encoder().File()
		}
	}
	return e, nil
}
