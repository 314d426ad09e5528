package declare

import (
	"errors"
	"strings"
	"testing"
)

func TestAddressFormIsOneSpelling(t *testing.T) {
	for given, want := range map[string]string{
		"":                                      "",
		"width=480":                             "width=480",
		"WIDTH=480PX":                           "width=480",
		"width=480px&height=4.8e2":              "width=480&height=480",
		"height=.5e3":                           "height=500",
		"quality=72&width=10":                   "width=10&quality=72",
		"aspect-ratio=8/6":                      "aspect-ratio=4/3",
		"aspect-ratio=1":                        "aspect-ratio=1",
		"aspect-ratio=4/4":                      "aspect-ratio=1",
		"aspect-ratio=1.91":                     "aspect-ratio=1.91",
		"aspect-ratio=16%20%2F+9":               "aspect-ratio=16/9",
		"object-fit=Cover&format=WEBP":          "object-fit=cover&format=webp",
		"xywh=1,2,3,4&image-orientation=none":   "image-orientation=none&xywh=1,2,3,4",
		"image-rendering=Pixelated&grow=yes":    "grow=yes&image-rendering=pixelated",
		"quality=LossLess":                      "quality=lossless",
		"budget=60kB":                           "budget=60000",
		"budget=60+KiB":                         "budget=61440",
		"budget=0.1MB":                          "budget=100000",
		"retain=Place+rights&animation=NONE":    "animation=none&retain=rights%20place",
		"&&width=3&":                            "width=3",
		"width=208.125":                         "width=208.125",
		"quality=%2B72":                         "quality=72",
		"width=%20480%20":                       "width=480",
		"format=png&object-fit=contain&width=1": "width=1&object-fit=contain&format=png",
	} {
		d, err := Parse(given)
		if err != nil {
			t.Errorf("Parse(%q): %v", given, err)
			continue
		}
		if got := d.AddressForm(); got != want {
			t.Errorf("address form of %q is %q, want %q", given, got, want)
		}
		again, err := Parse(d.AddressForm())
		if err != nil || again != d {
			t.Errorf("parsing the address form of %q gives %+v, %v; want %+v", given, again, err, d)
		}
	}
}

func TestProblemsNameWhatWasWrong(t *testing.T) {
	for _, c := range []struct{ query, parameter, reason, nearest string }{
		{"widht=3", "widht", "unknown-name", "width"},
		{"w=3", "w", "unknown-name", "width"},
		{"transform=none&transform=none", "transform", "repeated", ""},
		{"rotate=3deg&transform=none", "transform", "repeated", ""},
		{"transform=none&rotate=3deg", "rotate", "repeated", ""},
		{"transform=skew(3deg)", "transform", "unparsable", ""},
		{"object-view-box=inset(10%25", "object-view-box", "unparsable", ""},
		{"background=", "background", "empty", ""},
		{"border-top-left-radius=1px 2px 3px", "border-top-left-radius", "unparsable", ""},
		{"zzz=3", "zzz", "unknown-name", ""},
		{"=3", "", "unknown-name", ""},
		{"width=3&Width=3", "width", "repeated", ""},
		{"width=", "width", "empty", ""},
		{"width", "width", "empty", ""},
		{"width=+", "width", "empty", ""},
		{"width=wide", "width", "unparsable", ""},
		{"width=5.", "width", "unparsable", ""},
		{"width=0x10", "width", "unparsable", ""},
		{"width=1_0", "width", "unparsable", ""},
		{"width=inf", "width", "unparsable", ""},
		{"width=nan", "width", "unparsable", ""},
		{"width=10vw", "width", "unparsable", ""},
		{"width=10%25", "width", "unparsable", ""},
		{"width=0", "width", "out-of-range", ""},
		{"width=-4", "width", "out-of-range", ""},
		{"width=65536", "width", "out-of-range", ""},
		{"width=1e400", "width", "unparsable", ""},
		{"height=99999", "height", "out-of-range", ""},
		{"aspect-ratio=4:3", "aspect-ratio", "unparsable", ""},
		{"aspect-ratio=4/0", "aspect-ratio", "out-of-range", ""},
		{"aspect-ratio=0", "aspect-ratio", "out-of-range", ""},
		{"aspect-ratio=1/2/3", "aspect-ratio", "unparsable", ""},
		{"aspect-ratio=5000", "aspect-ratio", "out-of-range", ""},
		{"object-fit=crop", "object-fit", "unparsable", ""},
		{"object-fit=covr", "object-fit", "unparsable", "cover"},
		{"format=jpg", "format", "unparsable", "jpeg"},
		{"format=avi", "format", "unparsable", "avif"},
		{"budget=9", "budget", "out-of-range", ""},
		{"budget=60kg", "budget", "unparsable", ""},
		{"animation=all", "animation", "unparsable", ""},
		{"retain=rights+rights", "retain", "unparsable", ""},
		{"quality=0", "quality", "out-of-range", ""},
		{"quality=101", "quality", "out-of-range", ""},
		{"quality=72.5", "quality", "unparsable", ""},
		{"quality=losless", "quality", "unparsable", "lossless"},
		{"width=%zz", "width", "not-decodable", ""},
		{"wid%zth=3", "wid%zth", "not-decodable", ""},
	} {
		d, err := Parse(c.query)
		var ps Problems
		if !errors.As(err, &ps) || len(ps) != 1 {
			t.Errorf("Parse(%q) gives %v, want one problem", c.query, err)
			continue
		}
		if d != (Declarations{}) {
			t.Errorf("Parse(%q) gives declarations beside its problem: %+v", c.query, d)
		}
		p := ps[0]
		if p.Parameter != c.parameter || p.Reason != c.reason || p.Nearest != c.nearest {
			t.Errorf("Parse(%q): %s of %q, nearest %q; want %s of %q, nearest %q", c.query, p.Reason, p.Parameter, p.Nearest, c.reason, c.parameter, c.nearest)
		}
		if p.Reason != "repeated" && p.Allowed == "" {
			t.Errorf("Parse(%q) doesn't say what is allowed", c.query)
		}
	}
}

func TestAllProblemsAreReported(t *testing.T) {
	_, err := Parse("widht=3&height=tall&quality=400&width=1&width=2")
	var ps Problems
	if !errors.As(err, &ps) || len(ps) != 4 {
		t.Fatalf("got %v, want four problems", err)
	}
	_, err = Parse(strings.Repeat("x=1&", 1000))
	if errors.As(err, &ps); len(ps) != maxProblems {
		t.Errorf("a thousand unknown names give %d problems, want %d", len(ps), maxProblems)
	}
	if _, err = Parse(strings.Repeat("a", maxQuery+1)); err == nil {
		t.Error("a query of more than 8 KiB is taken")
	}
}

func TestResolvedFormFoldsWhatIsTheSame(t *testing.T) {
	defaults, _ := Parse("object-fit=cover&quality=72")
	offered := []Format{WebP, JPEG, PNG}
	resolve := func(q string) string {
		d, err := Parse(q)
		if err != nil {
			t.Fatal(err)
		}
		return d.Resolve(defaults, offered).String()
	}
	for _, same := range [][2]string{
		{"width=350&quality=72", "width=350px&object-fit=cover&quality=72"},
		{"width=30&height=20&aspect-ratio=7", "width=30&height=20"},
		{"object-fit=fill", "object-fit=contain"}, // no slot to fit into
	} {
		if a, b := resolve(same[0]), resolve(same[1]); a != b {
			t.Errorf("%q and %q are one variant, but resolve to %q and %q", same[0], same[1], a, b)
		}
	}
	for _, other := range [][2]string{{"width=350", "width=351"}, {"width=350", "width=350&quality=72"}, // without a quality the source itself may do
		{"width=350", "width=350&format=webp"}, {"width=9&quality=lossless", "width=9"}} {
		if a, b := resolve(other[0]), resolve(other[1]); a == b {
			t.Errorf("%q and %q both resolve to %q", other[0], other[1], a)
		}
	}
	if got, want := resolve("width=350"), "width=350&object-fit=cover&quality=72&format=webp,jpeg,png,own"; got != want {
		t.Errorf("resolved form %q, want %q", got, want)
	}
}

func FuzzParse(f *testing.F) {
	for _, q := range []string{"width=480px&height=3", "aspect-ratio=16/9&quality=lossless", "w=1&w=2&%zz", "object-fit=cover&format=png", "object-position=right+10px+bottom+5%25", "filter=blur(2px)+drop-shadow(1px+2px+red)", "background-color=oklch(50%25+.1+20/.5)&matte=hsl(1+2%25+3%25)", "gradient-map=000+fff+50%25", "border-radius=1+2%25+3px", "xywh=percent:1,2,3,4&rotate=-1.5rad&scale=-1+1"} {
		f.Add(q)
	}
	f.Add("redact=faces+percent:1,2,3,4+polygon(0+0,+1px+0,+0+50%25)+navy&erase=1,2,3,4&xywh=faces+1.5&mask-image=radial-gradient(circle+4px+at+left,+red+5%25,+blue)&mask-size=cover")
	f.Add("mask-image=linear-gradient(to+top+left,red+1px+2px,calc(1px),blue)&mask-mode=luminance&mask-repeat=repeat-x&mask-image=url(a/b)")
	f.Fuzz(func(t *testing.T, query string) {
		d, err := Parse(query)
		if err != nil {
			return
		}
		form := d.AddressForm()
		again, err := Parse(form)
		if err != nil || again != d || again.AddressForm() != form {
			t.Fatalf("%q has the address form %q, which parses as %+v (%v), want %+v", query, form, again, err, d)
		}
	})
}

func BenchmarkParseAndAddressForm(b *testing.B) {
	b.ReportAllocs()
	var room [256]byte
	for b.Loop() {
		d, err := Parse("width=350&aspect-ratio=3/2&object-fit=cover&format=webp&quality=72")
		if err != nil {
			b.Fatal(err)
		}
		d.AppendAddressForm(room[:0])
	}
}

// Every name is found in any case, and none that is nearly one.
func TestNamesAreFound(t *testing.T) {
	for i, name := range Names() {
		for _, as := range []string{name, strings.ToUpper(name), strings.ToUpper(name[:1]) + name[1:]} {
			if got := index(as); got != i {
				t.Errorf("%s is %d, want %d", as, got, i)
			}
		}
		for _, other := range []string{name + "x", name[1:], "", "x" + name} {
			if got := index(other); got >= 0 && !strings.EqualFold(Names()[got], other) {
				t.Errorf("%s is %d", other, got)
			}
		}
	}
}
