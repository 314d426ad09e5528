package main

import (
	"bytes"
	"encoding/json"
	"image/png"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"golang.org/x/image/font/gofont/gobold"
)

const cardSheet = `* { object-fit: cover; quality: 72 }
@font-face { font-family: Brand; src: url(brand/brand.ttf) }
.card { width: 400px; height: 210px }
.card::layer(shade) { inset: 0; background: linear-gradient(transparent, black) }
.card::layer(title) { content: attr(data-title, "Kites"); left: 20px; bottom: 20px; width: 60%; font: bold fit(12px, 40px)/1.1 Noto Serif; color: white }
.card::layer(price) { content: attr(data-price type(<number>)) " €"; right: 10px; top: 10px; padding: 4px 10px; background: #c00; color: white }
.card::layer(photo) { content: url(attr(data-photo)); right: 10px; bottom: 10px; width: 60px; height: 60px; border-radius: 50%; object-fit: cover }
.branded::layer(title) { content: attr(data-title); left: 0; top: 0; font: 30px Brand; color: red }
`

// A card's texts and pictures come from the address, from whom the site lets give them.
func TestCards(t *testing.T) {
	t.Parallel()
	s := bed.Kestrel(t)
	brand := t.TempDir()
	write := func(name string, data []byte) {
		t.Helper()
		if err := os.WriteFile(filepath.Join(brand, name), data, 0o644); err != nil {
			t.Fatal(err)
		}
	}
	write("brand.ttf", gobold.TTF)
	bed.Must(t, s, "lane", "add", "kestrel/brand", "--folder", brand, "--fresh", "0")
	bed.Must(t, s, "lane", "add", "kestrel/vault", "--folder", bed.Pictures, "--visibility", "signed")
	bed.Must(t, s, "key", "add", "kestrel", "k1")
	bed.Must(t, s, "sheet", "publish", "kestrel", sheetFile(t, cardSheet))
	const at = "/kestrel/catalogue/delta-red.jpg?class=card&format=png"
	made := func(path string) []byte {
		t.Helper()
		a := s.Get(t, path)
		if a.StatusCode != 200 {
			t.Fatalf("%s: %d %s", path, a.StatusCode, a.Data)
		}
		return a.Data
	}
	plain := made(at)
	if no := s.Get(t, at+"&data-title=Sale").Problem(t); no.Reason != "signature-needed" || no.Parameter != "data-title" || !strings.Contains(no.Remedy, "--cards open") {
		t.Errorf("%+v", no)
	}
	signed := func(query string) string {
		t.Helper()
		out := strings.TrimSpace(bed.Must(t, s, append(append([]string{"link", "kestrel/catalogue/delta-red.jpg"}, strings.Split(query, "&")...), "--sign", "k1")...))
		return strings.TrimPrefix(out, s.Base)
	}
	sale := made(signed("class=card&format=png&data-title=Sale&data-price=49"))
	if bytes.Equal(plain, sale) {
		t.Error("the card says what it says by itself")
	}
	if no := s.Get(t, strings.Replace(signed("class=card&format=png&data-title=Sale"), "Sale", "Evil", 1)).Problem(t); no.Reason != "signature-wrong" {
		t.Errorf("%+v", no)
	}
	// What is listed everybody may give.
	bed.Must(t, s, "site", "set", "kestrel", "--cards", "listed", "--card-value", "data-title=Sale", "--card-value", "data-title=Sold out", "--card-value", "data-price=49")
	if !bytes.Equal(made(at+"&data-price=49&data-title=Sale"), sale) || !bytes.Equal(made(at+"&data-title=Sale&data-price=49"), sale) {
		t.Error("a listed value makes another card than a signed one")
	}
	if no := s.Get(t, at+"&data-title=Evil").Problem(t); no.Reason != "signature-needed" || no.Allowed != "Sale, Sold out" {
		t.Errorf("%+v", no)
	}
	bed.Must(t, s, "site", "set", "kestrel", "--cards", "open")
	if bytes.Equal(made(at+"&data-title=%E9%A2%A8&data-photo=catalogue/sled-blue.jpg"), plain) {
		t.Error("nothing is on the card")
	}
	if out := bed.Must(t, s, "site", "show", "kestrel"); !strings.Contains(out, "show what any URL gives them") {
		t.Errorf("%s", out)
	}
	for query, want := range map[string][3]string{
		"&data-titel=x":                           {"data-not-taken", "data-titel", "write data-title instead"},
		"&data-price=cheap":                       {"data-not-taken", "data-price", "a number"},
		"&data-photo=nothing":                     {"data-not-taken", "data-photo", "lane/path"},
		"&data-photo=vault/sled-blue.jpg":         {"signature-needed", "signature", "sign the link"},
		"&data-photo=nowhere/sled-blue.jpg":       {"no-such-lane", "", ""},
		"&data-photo=catalogue/..%2Fsecret.jpg":   {"bad-path", "", ""},
		"&data-photo=brand/brand.ttf":             {"not-an-image", "", "@font-face"},
		"&data-title=" + strings.Repeat("x", 501): {"out-of-range", "data-title", "500"},
		"&data-title=a%00b":                       {"unparsable", "data-title", ""},
		"&data-title=a&data-title=b":              {"repeated", "data-title", ""},
		"&data-title=%EE%84%A3":                   {"glyphs-missing", "content", "U+E123"},
	} {
		no := s.Get(t, at+query).Problem(t)
		if said := no.Detail + no.Allowed + no.Remedy; string(no.Reason) != want[0] || want[1] != "" && no.Parameter != want[1] || !strings.Contains(said, want[2]) {
			t.Errorf("%.60s: %+v", query, no)
		}
	}
	// A site's own font, packed or not; what is none is named.
	const branded = "/kestrel/catalogue/mark.png?class=branded&width=300&format=png&data-title=Kestrel"
	first := made(branded)
	if m, err := png.Decode(bytes.NewReader(first)); err != nil || m.Bounds().Dx() != 300 {
		t.Fatalf("%v", err)
	}
	if path, err := exec.LookPath("woff2_compress"); err == nil {
		dir := t.TempDir()
		os.WriteFile(filepath.Join(dir, "brand.ttf"), gobold.TTF, 0o644)
		if out, err := exec.Command(path, filepath.Join(dir, "brand.ttf")).CombinedOutput(); err != nil {
			t.Fatalf("%v: %s", err, out)
		}
		data, _ := os.ReadFile(filepath.Join(dir, "brand.woff2"))
		write("brand.ttf", data)
		if !bytes.Equal(made(branded+"&sharpen=0"), first) {
			t.Error("packed, the font draws something else")
		}
	} else {
		t.Error("woff2_compress isn't installed")
	}
	write("brand.ttf", []byte("this is no font at all, though it is called so"))
	if no := s.Get(t, branded+"&quality=71").Problem(t); no.Reason != "source-broken" || no.Given != "brand/brand.ttf" || no.Parameter != "font-family" {
		t.Errorf("%+v", no)
	}
	if no := s.Get(t, "/kestrel/brand/brand.ttf").Problem(t); no.Reason != "not-an-image" {
		t.Errorf("%+v", no)
	}
	// Asked how it came about, the service says what was given.
	var steps struct {
		Steps []struct{ Rule, Result, Detail string }
	}
	if err := json.Unmarshal(s.Get(t, at+"&data-title=Sale&as=explain").Data, &steps); err != nil {
		t.Fatal(err)
	}
	if all := strings.TrimSpace(bed.Must(t, s, "explain", strings.TrimPrefix(at, "/")+"&data-title=Sale")); !strings.Contains(all, "1 of 3 values are given") {
		t.Errorf("%s", all)
	}
}
