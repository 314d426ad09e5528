package formats

import (
	"slices"
	"strings"
	"testing"

	"echolane/core/declare"
	"echolane/core/policy"
)

// What is said of formats elsewhere is what they can do.
func TestFormatsAreWhatIsSaidOfThem(t *testing.T) {
	var names []string
	for _, f := range All() {
		names = append(names, f.Name)
		if f.Type == "" || len(f.Endings) == 0 || f.Sniff == nil || f.Probe == nil || f.Decode == nil {
			t.Errorf("%s can't be told or read", f.Name)
		}
		if Of(f.Type) != f || TypeByName("a/b"+strings.ToUpper(f.Endings[0])) != f.Type || Ending(f.Type) != f.Endings[0] {
			t.Errorf("%s isn't found", f.Name)
		}
		if declared := declare.FormatOf(f.Type) != declare.FormatUnset; declared != (f.Write != nil) {
			t.Errorf("%s can be declared: %t, can be written: %t", f.Name, declared, f.Write != nil)
		}
	}
	listed := strings.Split(policy.Readable, ", ")
	slices.Sort(listed)
	slices.Sort(names)
	if !slices.Equal(names, listed) {
		t.Errorf("refusals say that %q are read; %q are", listed, names)
	}
	for _, f := range declare.Formats() {
		w := Writer(f)
		if w == nil {
			t.Errorf("%s can be declared and not be written", f)
			continue
		}
		if (w.Lossless != nil) != f.CarriesLossless() || (w.Animate != nil) != f.CarriesFrames() {
			t.Errorf("%s: lossless %t, animations %t; it is said to carry %t, %t", f, w.Lossless != nil, w.Animate != nil, f.CarriesLossless(), f.CarriesFrames())
		}
		if w.Lossy != nil && w.Fit == nil || w.Lossy == nil && w.Indexed == nil || w.OftenLossless && w.Lossless == nil {
			t.Errorf("%s can't be written as its parts say", f)
		}
		if w.Fit != nil && (len(w.Fit.Settings) < 2 || len(w.Fit.Lines) < 2 || w.Fit.Harder == nil) {
			t.Errorf("%s has no fit", f)
		}
	}
	if Writer(declare.FormatUnset) != nil {
		t.Error("what isn't declared can be written")
	}
}

func TestFilesAreToldByTheirFirstBytes(t *testing.T) {
	for data, want := range map[string]string{
		"\xff\xd8\xff\xe0": "image/jpeg", "\x89PNG\r\n\x1a\n": "image/png", "GIF89a": "image/gif", "GIF87a": "image/gif", "RIFF\x00\x00\x00\x00WEBPVP8 ": "image/webp",
		"\x00\x00\x00\x20ftypavif": "image/avif", "\x00\x00\x00\x20ftypavis": "image/avif", "\x00\x00\x00\x20ftypheic": "image/heic", "\x00\x00\x00\x20ftypmif1": "image/heic",
		"\x00\x00\x00\x20ftypisom": "", "RIFF\x00\x00\x00\x00WAVE": "", "BM..": "text/plain", "BM\x99\x00\x00\x00\x00\x00\x00\x00\x36\x00\x00\x00\x28\x00\x00\x00": "image/bmp", "II*\x00": "image/tiff", "MM\x00*": "image/tiff", "%PDF-1.7": "application/pdf", "<svg xmlns=": "image/svg+xml", "<?xml version='1.0'?>\n<!-- by hand -->\n<svg ": "image/svg+xml", "hello": "text/plain", "": "", "\x00": "",
	} {
		if got := Sniff([]byte(data)); got != want {
			t.Errorf("%q is %q, want %q", data, got, want)
		}
	}
	for name, want := range map[string]string{"kite.JPG": "image/jpeg", "a.b/kite": "", "kite.svg": "image/svg+xml", "kite.txt": "", "x.jfif": "image/jpeg", "m.apng": "image/png", "kite.": ""} {
		if got := TypeByName(name); got != want {
			t.Errorf("%q is %q, want %q", name, got, want)
		}
	}
	if Ending("text/html") != "" || !slices.Contains(Types(), "image/svg+xml") {
		t.Error("drawings are sources, pages aren't")
	}
}
