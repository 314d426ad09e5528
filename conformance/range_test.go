package conformance

import (
	"bytes"
	"encoding/binary"
	"image"
	"image/color"
	"image/png"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"echolane/core/render"
)

// highRange is an AVIF by these code points of ITU-T H.273: sixty-four steps of grey, of one primary, of two, and of a mixture.
func highRange(t *testing.T, points string) []byte {
	t.Helper()
	const n, side = 64, 8
	m := image.NewNRGBA64(image.Rect(0, 0, n*side, 4*side))
	for x := range n * side {
		v := uint16(x / side * 65535 / (n - 1))
		for y := range side {
			m.SetNRGBA64(x, y, color.NRGBA64{v, v, v, 65535})
			m.SetNRGBA64(x, side+y, color.NRGBA64{v, 0, 0, 65535})
			m.SetNRGBA64(x, 2*side+y, color.NRGBA64{0, v, v / 2, 65535})
			m.SetNRGBA64(x, 3*side+y, color.NRGBA64{v, v / 4 * 3, v / 2, 65535})
		}
	}
	from, to := filepath.Join(t.TempDir(), "steps.png"), filepath.Join(t.TempDir(), "steps.avif")
	var b bytes.Buffer
	if err := png.Encode(&b, m); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(from, b.Bytes(), 0o644); err != nil {
		t.Fatal(err)
	}
	if out, err := exec.Command("avifenc", "--cicp", points, "-d", "10", "-y", "444", "-r", "full", "--min", "0", "--max", "0", from, to).CombinedOutput(); err != nil {
		t.Fatalf("avifenc: %v %s", err, out)
	}
	data, err := os.ReadFile(to)
	if err != nil {
		t.Fatal(err)
	}
	return data
}

// Light beyond a screen's white is toned down as the browser does it on a screen that shows no more.
func TestHighRangeIsTonedDownAsTheBrowserDoes(t *testing.T) {
	var files []Source
	for name, points := range map[string]string{"pq-709.avif": "1/16/0", "hlg-709.avif": "1/18/0", "pq-2020.avif": "9/16/9", "hlg-2020.avif": "9/18/9", "pq-p3.avif": "12/16/1"} {
		files = append(files, Source{Name: name, Type: "image/avif", Data: highRange(t, points)})
	}
	j, err := NewJudge(files)
	if err != nil {
		t.Fatal(err)
	}
	defer j.Close()
	for _, f := range files {
		ours, err := Ours(f.Data, "")
		if err != nil {
			t.Fatal(err)
		}
		theirs, err := j.Painted(f.Name, "", Before{}, 1)
		if err != nil {
			t.Fatal(err)
		}
		figures := Compare(ours, theirs, 0)
		t.Logf("%s: PSNR %.1f, off by %d at the most", f.Name, figures.PSNR, figures.Max)
		if !figures.Size || figures.PSNR < 40 {
			t.Errorf("%s: PSNR %.1f, off by %d", f.Name, figures.PSNR, figures.Max)
		}
		h, err := render.Header(f.Data)
		if want := map[bool]string{true: "HLG", false: "PQ"}[f.Name[0] == 'h']; err != nil || h.Range != want {
			t.Errorf("%s is said to be %q, %v", f.Name, h.Range, err)
		}
	}
}

// A picture with a gain map is what it is without, here and in the browser, and it's said.
func TestAGainMapIsLeftOut(t *testing.T) {
	photo := find(sources, "photo.jpg")
	packet := append([]byte("http://ns.adobe.com/xap/1.0/\x00"), `<x:xmpmeta xmlns:x="adobe:ns:meta/"><rdf:RDF xmlns:rdf="http://www.w3.org/1999/02/22-rdf-syntax-ns#"><rdf:Description xmlns:hdrgm="http://ns.adobe.com/hdr-gain-map/1.0/" hdrgm:Version="1.0"/></rdf:RDF></x:xmpmeta>`...)
	segment := binary.BigEndian.AppendUint16([]byte{0xff, 0xe1}, uint16(len(packet)+2))
	data := append(append(append(bytes.Clone(photo.Data[:2]), segment...), packet...), photo.Data[2:]...)
	if h, err := render.Header(data); err != nil || h.Range != "gain map" {
		t.Errorf("it is said to be %q, %v", h.Range, err)
	}
	with, err := Ours(data, "width=200")
	if err != nil {
		t.Fatal(err)
	}
	without, err := Ours(photo.Data, "width=200")
	if err != nil || !bytes.Equal(with.Pix, without.Pix) {
		t.Errorf("it changes the picture (%v)", err)
	}
}
