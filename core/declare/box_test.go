package declare

import (
	"strings"
	"testing"
)

// What a URL says of the layer under the picture goes over the sheet's ::before, and lies under the picture.
func TestLayersOfAURL(t *testing.T) {
	d, err := Parse("before-rotate=45deg&after-content='on+top'&before-content=url(catalogue/mark.png)&before-width=50%25&before-mix-blend-mode=multiply")
	if err != nil {
		t.Fatal(err)
	}
	const form = "before-content=url(catalogue/mark.png)&before-width=50%25&before-mix-blend-mode=multiply&before-rotate=45deg&after-content=%22on%20top%22"
	if got := d.AddressForm(); got != form {
		t.Errorf("%s", got)
	}
	if again, err := Parse(form); err != nil || again != d {
		t.Errorf("read again: %v", err)
	}
	if list := d.Pictures(); len(list) != 1 || list[0] != "catalogue/mark.png" || !d.IsPaint() {
		t.Errorf("pictures %q", list)
	}
	of := Box{Name: BeforeLayer}
	for name, value := range map[string]string{"content": `"of the sheet"`, "left": "7px", "width": "20px"} {
		if p := of.Set(name, value); p != nil {
			t.Fatal(p)
		}
	}
	r := d.Resolve(Declarations{}, nil)
	r.Layers = []Box{of}
	under, over := r.Boxes()
	if len(under) != 1 || len(over) != 1 || over[0].Name != AfterLayer {
		t.Fatalf("%d under, %d over", len(under), len(over))
	}
	b := under[0]
	if b.Name != BeforeLayer || b.Content()[0].Text != "catalogue/mark.png" || b.Said["width"] != "50%" || b.Said["left"] != "7px" || b.Degrees() != 45 || b.Paint.Blend != Multiply {
		t.Errorf("under: %+v", b)
	}
	base, err := Parse("before-opacity=.5&before-width=10px&width=20")
	if err != nil {
		t.Fatal(err)
	}
	d.Inherit(&base)
	if d.Before.Opacity.Value != 0.5 || d.Before.Width.Part != 0.5 || d.Width != 20 {
		t.Errorf("inherited: %+v", d.Before)
	}
	key := func(query string, layers ...Box) string {
		d, err := Parse(query + "&quality=72")
		if err != nil {
			t.Fatal(err)
		}
		r := d.Resolve(Declarations{}, nil)
		r.Layers = layers
		return r.String()
	}
	if key("before-width=10px&width=20") != key("width=20") {
		t.Error("a layer without content counts")
	}
	// A layer underneath is a ground that the picture is blended with.
	const layer = "width=20&before-content='a'"
	if key(layer) == key(layer+"&mix-blend-mode=multiply") || key("width=20", of) == key("width=20&mix-blend-mode=multiply", of) {
		t.Error("how a picture is blended with the layer under it doesn't count")
	}
	if key("width=20") != key("width=20&mix-blend-mode=multiply") {
		t.Error("how a picture is blended with nothing counts")
	}
}

// How wide letters are is the axis of a variable font, said by itself or in font.
func TestFontsAreStretched(t *testing.T) {
	for rule, want := range map[string]float64{
		"font-stretch: condensed": 75, "font-stretch: 87.5%": 87.5, "font-width: Extra-Expanded": 150, "font: italic 600 semi-condensed 20px/1.2 Brand": 87.5, "font: 20px Brand": 0, "font-stretch: normal": 0,
	} {
		name, value, _ := strings.Cut(rule, ": ")
		var b Box
		if p := b.Set(name, value); p != nil {
			t.Errorf("%s: %v", rule, p)
			continue
		}
		got := 0.0
		for _, v := range b.Type().Variations {
			if v.Axis == "wdth" {
				got = v.Value
			}
		}
		if got != want {
			t.Errorf("%s: %g, not %g", rule, got, want)
		}
	}
	var b Box
	b.Set("font", "condensed 20px Brand")
	b.Set("font-variation-settings", `"wdth" 110`)
	if v := b.Type().Variations; len(v) != 1 || v[0].Value != 110 {
		t.Errorf("%v", v)
	}
	if b.Set("font", "16px Brand"); b.Said["font-stretch"] != "100%" {
		t.Error("font leaves the width as it was")
	}
	for _, value := range []string{"49%", "201%", "wide", "80"} {
		if b.Set("font-stretch", value) == nil {
			t.Errorf("%s is taken", value)
		}
	}
}
