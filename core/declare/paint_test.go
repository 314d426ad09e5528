package declare

import (
	"net/url"
	"testing"
)

func TestPaintIsReadAsCSSAndWrittenOneWay(t *testing.T) {
	for _, c := range []struct{ name, given, want string }{
		{"xywh", "120,80,640,480", "120,80,640,480"}, {"xywh", "pixel:1,2,3,4", "1,2,3,4"}, {"xywh", "Percent:10,10,50,50", "percent:10,10,50,50"},
		{"scale", "-1", "-1%20-1"}, {"scale", "-1 1", "-1%201"}, {"scale", "1 -1.0", "1%20-1"},
		{"rotate", "90deg", "90deg"}, {"rotate", "-0.125turn", "315deg"}, {"rotate", "50grad", "45deg"}, {"rotate", "1.5707963267948966rad", "90deg"}, {"rotate", "0", "0deg"}, {"rotate", "720deg", "0deg"}, {"rotate", "-360deg", "0deg"},
		{"object-position", "left", "0%2050"}, {"object-position", "top", "50%200"}, {"object-position", "center", "50%2050"}, {"object-position", "right top", "100%200"}, {"object-position", "top right", "100%200"},
		{"object-position", "75 20", "75%2020"}, {"object-position", "75% 20%", "75%2020"}, {"object-position", "10px 50%", "10px%2050"}, {"object-position", "left 20px", "0%2020px"}, {"object-position", "20px top", "20px%200"},
		{"object-position", "right 10px bottom 20px", "right%2010px%20bottom%2020px"}, {"object-position", "bottom 20% right 10%", "90%2080"}, {"object-position", "left 10px top", "10px%200"}, {"object-position", "top 10px center", "50%2010px"},
		{"object-position", "center bottom 5px", "left%2050%20bottom%205px"}, {"object-position", "left 5% top 10px", "5%2010px"}, {"object-position", "33.5%", "33.5%2050"}, {"object-position", "Subject", "subject"}, {"object-position", "detail", "detail"},
		{"background-color", "GOLD", "ffd700"}, {"background-color", "#0a7", "00aa77"}, {"background-color", "0a7", "00aa77"}, {"background-color", "#0a7c", "00aa77cc"}, {"background-color", "rgb(10, 120, 110)", "0a786e"},
		{"background-color", "rgb(10 120 110 / 50%)", "0a786e80"}, {"background-color", "rgba(10,120,110,.5)", "0a786e80"}, {"background-color", "rgb(100% 0% 50%)", "ff0080"}, {"background-color", "hsl(120 100% 25%)", "008000"},
		{"background-color", "hsl(0.5turn, 100%, 50%)", "00ffff"}, {"background-color", "hwb(0 0% 0%)", "ff0000"}, {"background-color", "hwb(90 60% 60%)", "808080"}, {"background-color", "oklch(62.8% 0.2577 29.23)", "ff0000"}, {"background-color", "oklab(100% 0 0)", "ffffff"},
		{"background-color", "transparent", "00000000"}, {"background-color", "RebeccaPurple", "663399"}, {"background-color", "rgb(none 300 -5)", "00ff00"},
		{"gradient-map", "123 fed", "112233%20ffeedd"}, {"gradient-map", "navy rgb(255 200 0) white 80%", "000080%20ffc800%20ffffff%2080%25"}, {"gradient-map", "000 fff 100%", "000000%20ffffff"},
		{"sharpen", "1.50", "1.5"}, {"sharpen", "0", "0"},
		{"border-radius", "12", "12px"}, {"border-radius", "12px 12px", "12px"}, {"border-radius", "10% 5px 10% 5px", "10%25%205px"}, {"border-radius", "1px 2px 3px", "1px%202px%203px"}, {"border-radius", "1px 2px 3px 4px", "1px%202px%203px%204px"},
		{"filter", "grayscale(100%)", "grayscale(1)"}, {"filter", "GrayScale() blur( 2px )", "grayscale(1)%20blur(2px)"}, {"filter", "blur()", "blur(0px)"}, {"filter", "hue-rotate(.25turn)", "hue-rotate(90deg)"}, {"filter", "opacity(140%)", "opacity(1)"}, {"filter", "none", "none"},
		{"filter", "drop-shadow(2px 3px)", "drop-shadow(2px%203px%200px%20000000)"}, {"filter", "drop-shadow(rgb(1 2 3 / .5) 2px 3px 4px)", "drop-shadow(2px%203px%204px%2001020380)"}, {"filter", "drop-shadow(0 0 4px red)", "drop-shadow(0px%200px%204px%20ff0000)"},
		{"background-image", "url(catalogue/paper.jpg)", "url(catalogue/paper.jpg)"}, {"background-image", `URL( "catalogue/old paper.jpg" )`, "url(catalogue/old%20paper.jpg)"},
		{"after-content", `'New & kind'`, "%22New%20%26%20kind%22"}, {"after-content", "url(catalogue/mark.png)", "url(catalogue/mark.png)"}, {"after-width", "18%", "18%25"}, {"after-width", "AUTO", "auto"},
		{"after-inset", "auto 4% 4% auto", "auto%204%25%204%25%20auto"}, {"after-inset", "8", "8px%208px%208px%208px"}, {"after-mix-blend-mode", "Color-Dodge", "color-dodge"}, {"after-font", "bold 24px sans-serif", "bold%2024px%20sans-serif"},
		{"after-font", "700 italic 18 monospace", "italic%20bold%2018px%20monospace"}, {"after-text-align", "center", "center"}, {"after-padding", "4px 8px", "4px%208px%204px%208px"}, {"after-rotate", "-12deg", "348deg"}, {"after-color", "gold", "ffd700"}, {"after-opacity", ".7", "0.7"},
		{"matte", "white", "ffffff"}, {"opacity", "60%", "0.6"}, {"resolution", "1.50X", "1.5x"}, {"object-fit", "Scale-Down", "scale-down"},
	} {
		d, err := Parse(c.name + "=" + url.QueryEscape(c.given))
		if err != nil {
			t.Errorf("%s: %s: %v", c.name, c.given, err)
			continue
		}
		if got, want := d.AddressForm(), c.name+"="+c.want; got != want {
			t.Errorf("%s: %q is written %s, want %s", c.name, c.given, got, want)
		}
		if again, err := Parse(d.AddressForm()); err != nil || again != d {
			t.Errorf("%s: %s reads back as %+v, %v", c.name, d.AddressForm(), again, err)
		}
	}
	for name, list := range map[string][]string{
		"xywh": {"1,2,3", "1,2,0,4", "-1,2,3,4", "percent:0,0,101,1", "a,b,c,d"}, "scale": {"2", "-1 -1 -1", "left"}, "rotate": {"90", "90degrees", "deg"},
		"object-position":  {"left left", "left right", "10px left", "top 10px 20px", "left 10px right 20px", "center 10px left", "1 2 3", "left top right bottom left", "subject 10px"},
		"background-color": {"#12345", "reddish", "rgb(1 2)", "rgb(1,2,3,4,5)", "oklch(1,2,3)", "url(x)", "#"}, "gradient-map": {"red", "red blue green lime navy gold teal plum tan", "red blue 200%", "80% red blue"},
		"after-content": {"plain", `""`, `"a`, "url()", "url(onlylane)", `"a"b"`}, "background-image": {"catalogue/a.jpg", "url(a)", `url("a/b)`, "url(a/b)x"}, "after-width": {"0", "-1px", "wide"},
		"after-inset": {"1 2 3 4 5", "top"}, "after-font": {"bold", "24px 18px", "0.5px", "fantasy 12px"}, "after-mix-blend-mode": {"burn"}, "after-padding": {"-1px"},
		"sharpen": {"4", "-1", "much"}, "border-radius": {"1 2 3 4 5", "-1px", "1vw"}, "filter": {"grayscale", "blur(-1px)", "blur(10%)", "url(#x)", "sepia(1) and more", "drop-shadow(1px)", "drop-shadow(1px 2px 3px 4px)", "hue-rotate(90)", "blur(2px", "brightness(-1)"},
	} {
		for _, given := range list {
			if d, err := Parse(name + "=" + url.QueryEscape(given)); err == nil {
				t.Errorf("%s: %q is taken as %s", name, given, d.AddressForm())
			}
		}
	}
	long := ""
	for range maxFilters + 1 {
		long += "invert(1)"
	}
	if _, err := Parse("filter=" + url.QueryEscape(long)); err == nil || err.(Problems)[0].Reason != "out-of-range" {
		t.Errorf("%d filters: %v", maxFilters+1, err)
	}
}

func TestResolvingScalesEveryLength(t *testing.T) {
	d, err := Parse("width=100&resolution=2x&object-fit=cover&object-position=10px+50&border-radius=4px+50%25&filter=blur(3px)+drop-shadow(1px+2px+3px+red)")
	if err != nil {
		t.Fatal(err)
	}
	want := "width=200&object-fit=cover&object-position=20px%2050&border-radius=8px%2050%25&filter=blur(6px)%20drop-shadow(2px%204px%206px%20ff0000)&format=webp"
	if got := d.Resolve(Declarations{}, []Format{WebP}).String(); got != want {
		t.Errorf("%s\nwant %s", got, want)
	}
}
