package main

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/urfave/cli/v3"

	"echolane/core/render"
	"echolane/service/api"
)

func TestSitesAndLanesFromTheCommandLine(t *testing.T) {
	t.Parallel()
	s := bed.Serve(t)
	if out := bed.Must(t, s, "site", "list"); !strings.Contains(out, "echolane site add NAME") {
		t.Errorf("an empty list doesn't say what to do next: %s", out)
	}
	out := bed.Must(t, s, "site", "add", "kestrel", "--formats", "jpeg,webp", "--sheet", sheetFile(t, "* { quality: 60 }\n.tile { width: 320px }\n"))
	for _, want := range []string{"* { quality: 60 }", "jpeg, webp", "64 megapixels", "echolane lane add kestrel/NAME"} {
		if !strings.Contains(out, want) {
			t.Errorf("site add doesn't show %q:\n%s", want, out)
		}
	}
	bed.Must(t, s, "lane", "add", "kestrel/catalogue", "--folder", bed.Pictures)
	var site api.Site
	if err := json.Unmarshal([]byte(bed.Must(t, s, "site", "show", "kestrel", "--json")), &site); err != nil {
		t.Fatal(err)
	}
	if site.Name != "kestrel" || len(site.Document.Lanes) != 1 || site.Document.Lanes[0].Folder != bed.Pictures || site.Document.Formats[0] != "jpeg" || site.Document.Sheet != "* { quality: 60 }\n.tile { width: 320px }\n" || site.Version != 2 {
		t.Errorf("%+v", site)
	}
	var sites []api.Site
	if err := json.Unmarshal([]byte(bed.Must(t, s, "site", "list", "--json")), &sites); err != nil || len(sites) != 1 {
		t.Errorf("%+v, %v", sites, err)
	}
	if out := bed.Must(t, s, "lane", "list"); !strings.Contains(out, "kestrel/catalogue") {
		t.Errorf("lane list: %s", out)
	}
	for _, c := range []struct {
		args []string
		code int
		says string
	}{
		{[]string{"site", "add", "kestrel"}, 1, "there already"},
		{[]string{"site", "add", "Kestrel!"}, 2, "a–z"},
		{[]string{"site", "add"}, 2, "echolane site add kestrel"},
		{[]string{"site", "add", "a", "b"}, 2, "one argument too many"},
		{[]string{"site", "add", "x", "--formats", "tiff"}, 2, "webp, jpeg, png"},
		{[]string{"site", "add", "x", "--sheet", sheetFile(t, "* {\n    widht: 3px;\n}\n")}, 2, "line 2, column 5: widht isn't a property here; did you mean width?"},
		{[]string{"site", "add", "x", "--limit", "source_pixels=999999999999"}, 2, "300000000"},
		{[]string{"site", "show", "kestral"}, 1, "write kestrel instead of kestral"},
		{[]string{"lane", "add", "kestrel"}, 2, "SITE/LANE"},
		{[]string{"lane", "add", "kestrel/x"}, 2, "--folder"},
		{[]string{"lane", "add", "kestrel/x", "--folder", "/does/not/exist"}, 2, "no such folder"},
		{[]string{"lane", "add", "kestrel/catalogue", "--folder", bed.Pictures}, 1, "there already"},
		{[]string{"lane", "add", "nosite/x", "--folder", bed.Pictures}, 1, "no site"},
		{[]string{"site", "list", "--server", "http://127.0.0.1:1"}, 1, "no service answers at http://127.0.0.1:1"},
		{[]string{"site", "list", "--server", "::"}, 2, "isn't a server's address"},
	} {
		r := bed.Run(t, s, c.args...)
		if r.Code != c.code || !strings.Contains(r.Err, c.says) {
			t.Errorf("echolane %s: %d %s; want %d with %q", strings.Join(c.args, " "), r.Code, r.Err, c.code, c.says)
		}
	}
}

func TestLinkWritesTheAddressForm(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		args []string
		code int
		want string
	}{
		{[]string{"kestrel/catalogue/delta red.jpg", "aspect-ratio=6/4", "width=350px"}, 0, "http://127.0.0.1:8740/kestrel/catalogue/delta%20red.jpg?width=350&aspect-ratio=3/2\n"},
		{[]string{"kestrel/catalogue/a.jpg", "--server", "https://img.example.test"}, 0, "https://img.example.test/kestrel/catalogue/a.jpg\n"},
		{[]string{"kestrel/catalogue/a.jpg", "widht=3"}, 2, "write width instead of widht"},
		{[]string{"kestrel/catalogue/a.jpg", "width"}, 2, "NAME=VALUE"},
		{[]string{"kestrel/../a.jpg/x"}, 0, "http://127.0.0.1:8740/kestrel/../a.jpg/x\n"},
		{[]string{"kestrel/catalogue/../a.jpg"}, 2, "Path not allowed"},
		{[]string{"kestrel"}, 2, "SITE/LANE/PATH"},
		{nil, 2, "SITE/LANE/PATH"},
	} {
		r := bed.Run(t, nil, append([]string{"link"}, c.args...)...)
		if r.Code != c.code || !strings.Contains(r.Out+r.Err, c.want) {
			t.Errorf("link %q: %d %s%s; want %d %q", c.args, r.Code, r.Out, r.Err, c.code, c.want)
		}
	}
}

func TestFetchSaysWhatMatters(t *testing.T) {
	t.Parallel()
	s := bed.KestrelWhole(t)
	bed.Must(t, s, "lane", "set", "kestrel/catalogue", "--folder", cameras)
	to := filepath.Join(t.TempDir(), "out.avif")
	out := bed.Must(t, s, "fetch", "kestrel/catalogue/delta-red.jpg?width=640", "-o", to)
	for _, want := range []string{"6000 × 4000", "640 × 427", "image/jpeg", "image/avif", "fwd=miss; stored", "first byte", "decode", "−98.9 %"} {
		if !strings.Contains(out, want) {
			t.Errorf("fetch doesn't say %q:\n%s", want, out)
		}
	}
	for line := range strings.SplitSeq(out, "\n") {
		if len([]rune(line)) > 160 {
			t.Errorf("a line of %d columns: %s", len([]rune(line)), line)
		}
	}
	data, err := os.ReadFile(to)
	if err != nil {
		t.Fatal(err)
	}
	if info, err := render.Probe(data); err != nil || info.W != 640 || info.Type != "image/avif" {
		t.Errorf("saved %+v, %v", info, err)
	}
	var f fetched
	if err := json.Unmarshal([]byte(bed.Must(t, s, "fetch", s.Base+"/kestrel/catalogue/delta-red.jpg?width=640", "--json")), &f); err != nil {
		t.Fatal(err)
	}
	if f.Width != 640 || f.Height != 427 || f.Bytes != int64(len(data)) || f.Natural == nil || f.Natural.Width != 6000 || f.Cache != "Echo-Lane; hit; detail=memory" {
		t.Errorf("%+v", f)
	}
	for _, c := range []struct {
		args []string
		code int
		says string
	}{
		{[]string{"kestrel/catalogue/delta-red.jpg?widht=640"}, 2, "write width instead of widht"},
		{[]string{"kestrel/catalogue/none.jpg"}, 1, "no-such-source"},
		{[]string{"ftp://example.test/a/b/c"}, 2, "http or https"},
		{nil, 2, "image's URL"},
	} {
		r := bed.Run(t, s, append([]string{"fetch"}, c.args...)...)
		if r.Code != c.code || !strings.Contains(r.Err, c.says) || r.Out != "" {
			t.Errorf("fetch %q: %d %q %s; want %d with %q", c.args, r.Code, r.Out, r.Err, c.code, c.says)
		}
	}
}

func TestRenderWorksWithoutAService(t *testing.T) {
	t.Parallel()
	to := filepath.Join(t.TempDir(), "mark.png")
	out := bed.Must(t, nil, "render", filepath.Join(bed.Pictures, "mark.png"), "height=64", "-o", to)
	if !strings.Contains(out, "800 × 800") || !strings.Contains(out, "64 × 64") {
		t.Errorf("render says:\n%s", out)
	}
	data, err := os.ReadFile(to)
	if err != nil {
		t.Fatal(err)
	}
	if info, err := render.Probe(data); err != nil || info.H != 64 || info.Type != "image/png" {
		t.Errorf("%+v, %v", info, err)
	}
	var r rendered
	if err := json.Unmarshal([]byte(bed.Must(t, nil, "render", filepath.Join(bed.Pictures, "sled-blue.jpg"), "width=100", "--json", "-o", filepath.Join(t.TempDir(), "a.jpg"))), &r); err != nil {
		t.Fatal(err)
	}
	if r.Type != "image/jpeg" || r.Width != 100 || r.StagesMS["decode"] <= 0 {
		t.Errorf("%+v", r)
	}
	for _, c := range []struct {
		args []string
		code int
		says string
	}{
		{[]string{"/does/not/exist.jpg"}, 1, "no such file"},
		{[]string{os.Args[0]}, 1, "not-an-image"},
		{[]string{filepath.Join(bed.Pictures, "mark.png"), "-o", "x.tiff"}, 2, ".webp, .jpg, .png or .gif"},
		{[]string{filepath.Join(bed.Pictures, "mark.png"), "quality=lossless", "-o", "x.jpg"}, 2, "format=webp"},
		{nil, 2, "give a file"},
	} {
		r := bed.Run(t, nil, append([]string{"render"}, c.args...)...)
		if r.Code != c.code || !strings.Contains(r.Err, c.says) {
			t.Errorf("render %q: %d %s; want %d with %q", c.args, r.Code, r.Err, c.code, c.says)
		}
	}
}

func TestEveryCommandHasExamples(t *testing.T) {
	t.Parallel()
	var walk func(c *cli.Command, path []string)
	n := 0
	walk = func(c *cli.Command, path []string) {
		for _, sub := range c.Commands {
			walk(sub, append(path[:len(path):len(path)], sub.Name))
		}
		if len(c.Commands) > 0 && c.Name != "refusals" {
			return
		}
		n++
		out := bed.Must(t, nil, append(path, "--help")...)
		if !strings.Contains(out, "Example") || !strings.Contains(out, "echolane "+strings.Join(path, " ")) {
			t.Errorf("%s --help has no worked example:\n%s", strings.Join(path, " "), out)
		}
	}
	walk(root(), nil)
	if n < 30 {
		t.Errorf("only %d commands were looked at", n)
	}
}
