package declare

import "testing"

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
