package main

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"

	"echolane/bench/direct"
	"echolane/core/codec"
	"echolane/core/codec/avif"
	"echolane/core/codec/heic"
	"echolane/core/codec/jpeg"
	"echolane/core/codec/png"
	"echolane/core/codec/webp"
)

// codecs holds our calls of the codec libraries against the same calls made in C.
func codecs(r *report) error {
	source, err := photograph()
	if err != nil {
		return err
	}
	planes, err := asPlanes(source, 1280)
	if err != nil {
		return err
	}
	limited := planes.ToLimited()
	const quality, webpQuality, quantizer = 80, 80, 26
	encoders := []struct {
		name   string
		ours   func() ([]byte, error)
		direct func() error
	}{
		{"JPEG", func() ([]byte, error) { return jpeg.EncodePlanes(planes, quality) }, func() error { return direct.ToJPEG(quality)(planes) }},
		{"WebP", func() ([]byte, error) { return webp.EncodePlanes(limited, webpQuality) }, func() error { return direct.ToWebP(webpQuality, webp.Effort)(limited) }},
		{"AVIF", func() ([]byte, error) {
			return avif.EncodePlanes(planes, avif.Settings{Quantizer: quantizer, Speed: avif.KeptSpeed})
		}, func() error { return direct.ToAVIF(quantizer, avif.KeptSpeed)(planes) }},
	}
	files := map[string][]byte{}
	for _, e := range encoders {
		if files[e.name], err = e.ours(); err != nil {
			return err
		}
	}
	if files["HEIC"], err = fromPhone(files["JPEG"]); err != nil {
		return err
	}
	var broke error
	check := func(err error) {
		if broke == nil {
			broke = err
		}
	}
	r.say("%d×%d pixels; our call's speed as a share of the C library's own, on one thread", planes.W, planes.H)
	for _, d := range []struct {
		name   string
		ours   func([]byte) (codec.Picture, error)
		direct direct.Decoder
	}{
		{"JPEG", func(b []byte) (codec.Picture, error) { return jpeg.Decode(b, codec.Want{Scale: 8}) }, direct.JPEG},
		{"WebP", webp.Decode, direct.WebP}, {"AVIF", avif.Decode, direct.AVIF}, {"HEIC", heic.Decode, direct.HEIC},
	} {
		file := files[d.name]
		times := alternate(25, func() {
			p, err := d.ours(file)
			p.Free()
			check(err)
		}, func() { check(d.direct(file)) })
		if broke != nil {
			return broke
		}
		r.atLeast(fmt.Sprintf("decoding %s (%.1f ms)", d.name, median(times[0])), ratio(times[1], times[0]), "×", 0.95)
	}
	for _, e := range encoders {
		times := alternate(11, func() { _, err := e.ours(); check(err) }, func() { check(e.direct()) })
		if broke != nil {
			return broke
		}
		r.atLeast(fmt.Sprintf("encoding %s (%.1f ms)", e.name, median(times[0])), ratio(times[1], times[0]), "×", 0.95)
	}
	return nil
}

// fromPhone is a picture as a phone would upload it.
func fromPhone(source []byte) ([]byte, error) {
	dir, err := os.MkdirTemp("", "echolane-bench-*")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(dir)
	picture, err := jpeg.Decode(source, codec.Want{Scale: 8})
	if err != nil {
		return nil, err
	}
	plain, err := png.Encode(picture.RGBA)
	if err != nil {
		return nil, err
	}
	in, out := filepath.Join(dir, "a.png"), filepath.Join(dir, "a.heic")
	if err := os.WriteFile(in, plain, 0o600); err != nil {
		return nil, err
	}
	if says, err := exec.Command("heif-enc", "-q", "80", "-o", out, in).CombinedOutput(); err != nil {
		return nil, fmt.Errorf("heif-enc (Debian's libheif-examples): %w: %s", err, says)
	}
	return os.ReadFile(out)
}
