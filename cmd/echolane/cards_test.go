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
	// A card over nothing but a colour.
	if out := bed.Must(t, s, "lane", "add", "kestrel/plain", "--blank"); !strings.Contains(out, "delivers colours, from now on") || !strings.Contains(out, "/kestrel/plain/0d1b2a?") {
		t.Errorf("what is said of the lane: %s", out)
	}
	if m, err := png.Decode(bytes.NewReader(made("/kestrel/plain/0d1b2a?class=card&format=png&quality=lossless&data-title=Sale"))); err != nil || m.Bounds().Dx() != 400 || m.At(200, 4) == m.At(30, 180) {
		t.Errorf("%v", err)
	} else if r, g, b, _ := m.At(200, 2).RGBA(); r>>8 > 0x0e || g>>8 < 0x18 || g>>8 > 0x1b || b>>8 < 0x26 {
		t.Errorf("the ground is %d %d %d", r>>8, g>>8, b>>8)
	}
	if no := s.Get(t, "/kestrel/plain/nocolour?class=card").Problem(t); no.Reason != "bad-path" || !strings.Contains(no.Allowed, "navy") {
		t.Errorf("%+v", no)
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

// A table's rows become cards: saved once, gone on with, each row's mistake named and the others made.
func TestCardsOfATable(t *testing.T) {
	t.Parallel()
	s := bed.Kestrel(t)
	bed.Must(t, s, "sheet", "publish", "kestrel", sheetFile(t, strings.ReplaceAll(cardSheet, "url(brand/brand.ttf)", "url(catalogue/none.ttf)")))
	bed.Must(t, s, "key", "add", "kestrel", "k1")
	dir := t.TempDir()
	file := func(name, text string) string {
		path := filepath.Join(dir, name)
		if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
		return path
	}
	to := filepath.Join(dir, "out")
	table := file("offers.csv", "name;title;data-price\nred;Delta kites;49\nplain;;\n")
	args := []string{"cards", table, "--class", "card", "--picture", "catalogue/delta-red.jpg", "--format", "png", "--to", to, "--sign", "k1"}
	if out := bed.Must(t, s, args...); !strings.Contains(out, "400 × 210") || strings.Contains(out, "there already") {
		t.Errorf("%s", out)
	}
	data, err := os.ReadFile(filepath.Join(to, "red.png"))
	if err != nil {
		t.Fatal(err)
	}
	if m, err := png.Decode(bytes.NewReader(data)); err != nil || m.Bounds().Dx() != 400 || m.Bounds().Dy() != 210 {
		t.Errorf("%v", err)
	}
	os.Remove(filepath.Join(to, "plain.png"))
	if out := bed.Must(t, s, args...); strings.Count(out, "there already") != 1 {
		t.Errorf("%s", out)
	}
	// One row's mistake is one row's.
	mixed := file("mixed.json", `[{"title": "Good", "picture": "catalogue/mark.png"}, {"titel": "No", "picture": "catalogue/mark.png"}, {"title": 7, "picture": "catalogue/none.png"}]`)
	out := bed.Run(t, s, "cards", mixed, "--class", "card", "--sign", "k1", "--json")
	var made []cardMade
	if err := json.Unmarshal([]byte(out.Out), &made); err != nil || len(made) != 3 || out.Code != 1 {
		t.Fatalf("%d %v %s%s", out.Code, err, out.Out, out.Err)
	}
	if made[0].Trouble != "" || made[0].Width != 400 || !strings.Contains(made[1].Trouble, "data-titel") || !strings.Contains(made[2].Trouble, "none.png") || !strings.Contains(out.Err, "2 of 3") {
		t.Errorf("%+v %s", made, out.Err)
	}
	for name, wrong := range map[string][2]string{
		"a.csv": {"title,title\na,b\n", "two columns"}, "b.csv": {"title\n", "no rows"}, "c.json": {`[{"title": {"a": 1}}]`, "neither a text nor a number"}, "d.csv": {"name,title\n../x,y\n", "can't be a file's name"},
		"e.csv": {"name,title\nx,y\nx,z\n", "both called"}, "f.json": {`{"title": 3}`, "can't be read"}, "g.csv": {"ti tle\nx\n", "can't be a column's name"}, "h.csv": {"title\n\"open\n", "can't be read"},
	} {
		if r := bed.Run(t, s, "cards", file(name, wrong[0]), "--class", "card"); r.Code != 2 || !strings.Contains(r.Err, wrong[1]) {
			t.Errorf("%s: %d %s", name, r.Code, r.Err)
		}
	}
	// The tags for whoever links to the page.
	tags := bed.Must(t, s, "markup", "kestrel/catalogue/delta-red.jpg", "class=card", "data-title=Spring \"sale\"", "--card", "--alt", "Kites & twine", "--sign", "k1", "--base", "https://img.kestrel.test")
	for _, want := range []string{`<meta property="og:image" content="https://img.kestrel.test/`, "&amp;signature=", `og:image:width" content="400"`, `og:image:height" content="210"`, `og:image:alt" content="Kites &amp; twine"`, `og:image:type" content="image/jpeg"`} {
		if !strings.Contains(tags, want) {
			t.Errorf("no %s in %s", want, tags)
		}
	}
	if r := bed.Run(t, s, "markup", "kestrel/catalogue/delta-red.jpg", "class=card", "--card"); r.Code != 2 || !strings.Contains(r.Err, "--alt") {
		t.Errorf("%d %s", r.Code, r.Err)
	}
}
