package render

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"image"
	stdjpeg "image/jpeg"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"echolane/core/codec/formats"
	"echolane/core/policy"
)

// madeBy has one of Debian's programs make a file of another: IN and OUT in args stand for the two.
func madeBy(t testing.TB, source []byte, kind, made, program string, args ...string) []byte {
	t.Helper()
	dir := t.TempDir()
	in, to := filepath.Join(dir, "in."+kind), filepath.Join(dir, "out."+made)
	if err := os.WriteFile(in, source, 0o600); err != nil {
		t.Fatal(err)
	}
	for i, a := range args {
		args[i] = strings.NewReplacer("IN", in, "OUT", to).Replace(a)
	}
	if says, err := exec.Command(program, args...).CombinedOutput(); err != nil {
		t.Fatalf("%s %v: %v: %s", program, args, err, says)
	}
	data, err := os.ReadFile(to)
	if err != nil {
		t.Fatal(err)
	}
	return data
}

// cjpeg makes a JPEG, which it does of a portable pixmap.
func cjpeg(t testing.TB, m *image.NRGBA, args ...string) []byte {
	t.Helper()
	var b bytes.Buffer
	fmt.Fprintf(&b, "P6 %d %d 255\n", m.Rect.Dx(), m.Rect.Dy())
	for i := 0; i < len(m.Pix); i += 4 {
		b.Write(m.Pix[i : i+3])
	}
	return madeBy(t, b.Bytes(), "ppm", "jpg", "cjpeg", append(args, "-outfile", "OUT", "IN")...)
}

// fromPhone is a picture as a phone would upload it, from a PNG or a JPEG, whose facts are kept.
func fromPhone(t testing.TB, source []byte) []byte {
	t.Helper()
	return madeBy(t, source, strings.TrimPrefix(formats.Sniff(source), "image/"), "heic", "heif-enc", "-q", "80", "-o", "OUT", "IN")
}

func TestEveryKindOfJPEG(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes long")
	}
	m := scene(157, 93)
	want := pixels(t, variant(t, asPNG(t, m), "format=png"))
	small := pixels(t, variant(t, asPNG(t, m), "width=50&format=png"))
	grey := pixels(t, variant(t, asPNG(t, m), "filter=grayscale(1)&format=png"))
	for _, kind := range []string{
		"-sample 1x1", "-sample 2x1", "-sample 1x2", "-sample 2x2", "-sample 4x1", "-sample 4x2", "-sample 2x2,1x2,1x2", "-sample 1x1,2x1,1x1",
		"-progressive", "-sample 2x1 -progressive", "-restart 1", "-restart 3B", "-restart 1 -progressive", "-optimize", "-grayscale", "-grayscale -progressive", "-rgb", "-dct float", "-quality 100",
	} {
		args := append([]string{"-quality", "92"}, strings.Fields(kind)...)
		source := cjpeg(t, m, args...)
		r := variant(t, source, "format=png")
		if r.Natural.W != 157 || r.Natural.H != 93 {
			t.Fatalf("%s: %v", kind, r.Natural)
		}
		to, least := want, 28.0
		if strings.Contains(kind, "grayscale") {
			to, least = grey, 30
		}
		if db := psnr(t, pixels(t, r), to); db < least {
			t.Errorf("%s: %.1f dB from the picture", kind, db)
		}
		if strings.Contains(kind, "grayscale") {
			continue
		}
		for _, format := range []string{"webp", "jpeg"} { // by way of planes
			if db := psnr(t, pixels(t, variant(t, source, "width=50&quality=95&format="+format)), small); db < 27 {
				t.Errorf("%s, reduced as %s: %.1f dB", kind, format, db)
			}
		}
	}
}

// What browsers show of a JPEG that isn't quite right is delivered; what ends too early is told.
func TestSlightlyBrokenJPEGs(t *testing.T) {
	m := scene(120, 90)
	whole := cjpeg(t, m, "-restart", "1")
	want := pixels(t, variant(t, whole, "format=png"))
	scan := bytes.Index(whole, []byte{0xff, 0xda})
	for name, change := range map[string]func() []byte{
		"bytes behind the end":           func() []byte { return append(bytes.Clone(whole), "left over"...) },
		"no end marker":                  func() []byte { return whole[:len(whole)-2] },
		"fill bytes before a marker":     func() []byte { return append(append(bytes.Clone(whole[:scan]), 0xff, 0xff), whole[scan:]...) },
		"a byte that is wrong in a scan": func() []byte { b := bytes.Clone(whole); b[len(b)*3/4] ^= 0x10; return b },
		"metadata of megabytes": func() []byte {
			segment := append([]byte{0xff, 0xe1, 0xff, 0xff}, bytes.Repeat([]byte("x"), 0xffff-2)...)
			return append(append(bytes.Clone(whole[:2]), bytes.Repeat(segment, 60)...), whole[2:]...)
		},
	} {
		r, err := Variant(change(), job(t, "format=png"))
		if err != nil {
			if name == "no end marker" { // as libjpeg-turbo says it
				var no *policy.Refusal
				if !errors.As(err, &no) || no.Reason != "source-truncated" {
					t.Errorf("%s: %v", name, err)
				}
				continue
			}
			t.Errorf("%s: %v", name, err)
			continue
		}
		if db := psnr(t, pixels(t, r), want); db < 15 {
			t.Errorf("%s: %.1f dB from the whole picture", name, db)
		}
	}
}

func TestEveryKindOfAVIF(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes long")
	}
	m := scene(256, 192)
	clear := scene(256, 192)
	for i := 3; i < len(clear.Pix); i += 4 {
		clear.Pix[i] = uint8(i / 4 % 256)
	}
	want := pixels(t, variant(t, asPNG(t, m), "format=png"))
	for _, c := range []struct {
		args    string
		picture *image.NRGBA
		like    string // what of the picture is expected
		least   float64
	}{
		{"-d 8 -y 420", m, "", 30}, {"-d 10 -y 420", m, "", 30}, {"-d 12 -y 444", m, "", 33}, {"-d 8 -y 422", m, "", 30}, {"-d 10 -y 444 -r limited", m, "", 33},
		{"-d 8 -y 400", m, "filter=grayscale(1)", 28}, {"-g 2x2 -y 420", m, "", 30}, {"--irot 1", m, "rotate=-90deg", 30}, {"--imir 1", m, "scale=-1 1", 30}, {"--imir 0", m, "scale=1 -1", 30},
		{"--crop 32,16,128,96", m, "xywh=32,16,128,96", 30}, {"-y 444", clear, "", 26}, {"-p -y 444", clear, "", 24}, {"-g 2x2 -d 10 --irot 3", m, "rotate=90deg", 30},
	} {
		args := append([]string{"-s", "9", "--min", "4", "--max", "8", "--minalpha", "0", "--maxalpha", "4"}, strings.Fields(c.args)...)
		source := madeBy(t, asPNG(t, c.picture), "png", "avif", "avifenc", append(args, "IN", "OUT")...)
		to := want
		if c.picture != m || c.like != "" {
			to = pixels(t, variant(t, asPNG(t, c.picture), "format=png&"+strings.ReplaceAll(c.like, " ", "%20")))
		}
		r := variant(t, source, "format=png")
		if r.Source != "image/avif" {
			t.Fatalf("%s: %s", c.args, r.Source)
		}
		if db := psnr(t, pixels(t, r), to); db < c.least {
			t.Errorf("%s: %.1f dB from the picture, want at least %.0f", c.args, db, c.least)
		}
	}
}

// What a header says isn't believed before the file bears it out, and costs nothing.
func TestHeadersThatLie(t *testing.T) {
	m := scene(64, 48)
	png, gif, webp, avif := asPNG(t, m), kite(2, false), variant(t, asPNG(t, m), "format=webp&quality=90").Data, variant(t, asPNG(t, m), "format=avif&quality=90").Data
	var b bytes.Buffer
	if err := stdjpeg.Encode(&b, m, nil); err != nil {
		t.Fatal(err)
	}
	jpeg := b.Bytes()
	put := func(data []byte, at int, bytes ...byte) []byte {
		data = append([]byte(nil), data...)
		copy(data[at:], bytes)
		return data
	}
	frame := bytes.Index(jpeg, []byte{0xff, 0xc0})
	size := bytes.Index(avif, []byte("ispe"))
	for name, data := range map[string][]byte{
		"a PNG chunk longer than the file":      put(png, 33, 0x7f, 0xff, 0xff, 0xff),
		"a PNG of 65535 × 65535":                put(png, 16, 0, 0, 0xff, 0xff, 0, 0, 0xff, 0xff),
		"a PNG without width":                   put(png, 16, 0, 0, 0, 0),
		"a GIF of 65535 × 65535":                put(gif, 6, 0xff, 0xff, 0xff, 0xff),
		"a GIF without a frame":                 append(append([]byte(nil), gif[:13]...), 0x3b),
		"a WebP larger than the file":           put(webp, 4, 0xff, 0xff, 0xff, 0x7f),
		"a WebP chunk longer than the file":     put(webp, 16, 0xff, 0xff, 0xff, 0x7f),
		"an AVIF of 4 thousand million across":  put(avif, size+8, 0xff, 0xff, 0xff, 0xff),
		"an AVIF box longer than the file":      put(avif, 32, 0x7f, 0xff, 0xff, 0xff),
		"a JPEG of 65535 × 65535":               put(jpeg, frame+5, 0xff, 0xff, 0xff, 0xff),
		"a JPEG without height":                 put(jpeg, frame+5, 0, 0),
		"a JPEG segment longer than the file":   put(jpeg, 4, 0xff, 0xff),
		"a JPEG that says it is a PNG":          append([]byte("\x89PNG\r\n\x1a\n"), jpeg...),
		"a PNG that says it is a WebP":          append([]byte("RIFF\xff\x00\x00\x00WEBP"), png...),
		"a PNG with a profile of 4 thousand MB": append(append(append([]byte(nil), png[:33]...), "\xff\xff\xff\xf0iCCP"...), png[33:]...),
	} {
		begin := time.Now()
		_, err := Variant(data, job(t, "width=20&format=png"))
		var no *policy.Refusal
		if !errors.As(err, &no) || no.Detail == "" || no.Remedy == "" {
			t.Errorf("%s: %v", name, err)
		} else if !strings.HasPrefix(string(no.Reason), "source-") {
			t.Errorf("%s: %s", name, no.Reason)
		}
		if took := time.Since(begin); took > 5*time.Second {
			t.Errorf("%s took %v", name, took)
		}
	}
	// Megabytes of what nobody asked for are passed over.
	chunk := func(kind string, n int) []byte {
		c := binary.BigEndian.AppendUint32(nil, uint32(n))
		c = append(append(c, kind...), bytes.Repeat([]byte("t"), n)...)
		return binary.BigEndian.AppendUint32(c, crc32.ChecksumIEEE(c[4:]))
	}
	long := append(append(append([]byte(nil), png[:33]...), chunk("zzZz", 8<<20)...), png[33:]...)
	if got, want := variant(t, long, "width=20&format=png"), variant(t, png, "width=20&format=png"); !bytes.Equal(got.Data, want.Data) {
		t.Error("8 MB of a private chunk change the variant")
	}
}
