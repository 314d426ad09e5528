package declare

import (
	"errors"
	"fmt"
	"strings"
	"testing"
)

// What is written of places and masks, and the one way that the address form has of it.
func TestPlacesAndMasksAreWrittenOneWay(t *testing.T) {
	for given, want := range map[string]string{
		"redact=faces":                                               "redact=faces",
		"redact=FACES++120,80,64,40":                                 "redact=faces%20120,80,64,40",
		"redact=percent:10,10,20,20+faces+%23000":                    "redact=faces%20percent:10,10,20,20%20000000",
		"redact=pixel:1,2,3,4+rgb(10+20+30)":                         "redact=1,2,3,4%200a141e",
		"erase=120,80,64,40+10px,20%25,5px,10%25":                    "erase=120,80,64,40%2010px,20%25,5px,10%25",
		"erase=polygon(0+0,+10px+0,+10px+50%25)":                     "erase=polygon(0px%200px,%2010px%200px,%2010px%2050%25)",
		"xywh=faces":                                                 "xywh=faces",
		"xywh=Faces+1.60":                                            "xywh=faces%201.6",
		"xywh=faces+1":                                               "xywh=faces",
		"object-position=faces":                                      "object-position=faces",
		"mask-image=subject":                                         "mask-image=subject",
		"mask-image=subject++or-none":                                "mask-image=subject%20or-none",
		"mask-image=linear-gradient(black,transparent)":              "mask-image=linear-gradient(180deg,%20000000,%2000000000)",
		"mask-image=linear-gradient(to+right,+red+10%25+40px,+blue)": "mask-image=linear-gradient(90deg,%20ff0000%2010%25,%20ff0000%2040px,%200000ff)",
		"mask-image=linear-gradient(to+left+top,+red,+blue)":         "mask-image=linear-gradient(to%20left%20top,%20ff0000,%200000ff)",
		"mask-image=conic-gradient(red,+blue+90deg)":                 "mask-image=conic-gradient(from%200deg%20at%2050%25%2050%25,%20ff0000,%200000ff%2025%25)",
		"background-image=Repeating-Linear-Gradient(.25turn,RED,+20%25,+blue+30px)": "background-image=repeating-linear-gradient(90deg,%20ff0000,%2020%25,%200000ff%2030px)",
		"background-image=conic-gradient(from+40deg+at+left,+red,+blue)":            "background-image=conic-gradient(from%2040deg%20at%200px%2050%25,%20ff0000,%200000ff)",
		"mask-image=radial-gradient(red,+blue)":                                     "mask-image=radial-gradient(ellipse%20farthest-corner%20at%2050%25%2050%25,%20ff0000,%200000ff)",
		"mask-image=radial-gradient(40px+at+left,+red,+blue)":                       "mask-image=radial-gradient(circle%2040px%20at%200px%2050%25,%20ff0000,%200000ff)",
		"mask-image=url(Lane/Kite.png)":                                             "mask-image=url(Lane/Kite.png)",
		"mask-mode=luminance":                                                       "mask-mode=luminance",
	} {
		d, err := Parse(given)
		if err != nil {
			t.Errorf("%s: %v", given, err)
			continue
		}
		if got := d.AddressForm(); got != want {
			t.Errorf("%s is written %s, want %s", given, got, want)
		}
		if again, err := Parse(want); err != nil || again != d {
			t.Errorf("%s isn't read as %s: %v", want, given, err)
		}
	}
}

func TestPlacesAndMasksThatAreRefused(t *testing.T) {
	for _, given := range []string{
		"redact=", "redact=nobody", "redact=red", "redact=faces+red+blue", "redact=1,2,3", "redact=1,2,0,4", "redact=circle(4px)", "erase=faces", "erase=red", "erase=-5,0,5,5", "erase=polygon(0+0)",
		"erase=" + strings.Repeat("1,1,1,1+", 64) + "1,1,1,1", "xywh=faces+0.5", "xywh=faces+99", "xywh=faces+1+2", "xywh=face",
		"mask-image=subjects", "mask-image=subject+or", "mask-image=linear-gradient()", "mask-image=linear-gradient(red)", "mask-image=linear-gradient(to+left+right,red,blue)", "mask-image=linear-gradient(90,red,blue)",
		"mask-image=linear-gradient(red+1px+2px+3px,blue)", "mask-image=radial-gradient(circle+10%25,red,blue)", "mask-image=radial-gradient(circle+1px+2px,red,blue)", "mask-image=radial-gradient(at+faces,red,blue)",
		"mask-image=radial-gradient(-1px,red,blue)", "mask-image=url(kite.png)", "mask-image=conic-gradient(from,red,blue)", "mask-image=conic-gradient(red+4px,blue)", "mask-image=linear-gradient(10%25,red,blue)", "mask-image=linear-gradient(red,10%25,20%25,blue)", "mask-image=linear-gradient(red,10%25)", "background-image=linear-gradient(red)", "background-image=repeating-gradient(red,blue)", "background-image=cubic-gradient(red,blue)", "mask-image=linear-gradient(" + strings.Repeat("red,", 64) + "blue)", "mask-mode=both",
	} {
		if d, err := Parse(given); err == nil {
			t.Errorf("%.60s is taken as %s", given, d.AddressForm())
		}
	}
}

func TestLengthsOfMasksGrowWithTheSlot(t *testing.T) {
	d, err := Parse("width=100&mask-image=radial-gradient(circle+10px+at+20px+50%25,red+5px,blue)")
	if err != nil {
		t.Fatal(err)
	}
	r := d.Resolve(Declarations{}, nil)
	r.Scale(2)
	if want := "radial-gradient(circle 20px at 40px 50%, ff0000 10px, 0000ff)"; r.MaskImage != want {
		t.Errorf("twice as large it is %s, want %s", r.MaskImage, want)
	}
	// What a mask's picture says of itself doesn't tell variants apart where there is none.
	a, _ := Parse("width=10&opacity=.5&mask-size=contain&mask-mode=alpha")
	b, _ := Parse("width=10&opacity=.5")
	ra, rb := a.Resolve(Declarations{}, nil), b.Resolve(Declarations{}, nil)
	if x, y := string(ra.Append(nil)), string(rb.Append(nil)); x != y {
		t.Errorf("%s and %s are two variants", x, y)
	}
}

// A stranger who writes what something else is called is told what it's called here.
func TestHintsLeadToPlacesAndMasks(t *testing.T) {
	for given, want := range map[string]string{
		"remove=1,2,3,4": "erase", "pixelate=faces": "redact", "cutout=subject": "mask-image=subject", "redakt=faces": "redact", "object-position=face": "faces", "mask-image=cubic-gradient(red,blue)": "linear-gradient()",
	} {
		_, err := Parse(given)
		var problems Problems
		if !errors.As(err, &problems) || !strings.Contains(fmt.Sprint(problems[0].Remedy, problems[0].Nearest, problems[0].Allowed), want) {
			t.Errorf("%s: %+v, want %s", given, err, want)
		}
	}
}
