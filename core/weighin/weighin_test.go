package weighin

import (
	"bytes"
	"strings"
	"testing"
)

func alt(s string) *string { return &s }

func words(p *Picture) string {
	list := make([]string, len(p.Remedies))
	for i, r := range p.Remedies {
		list[i] = r.What
	}
	return strings.Join(list, " ")
}

func TestWhatAPictureIsMadeBy(t *testing.T) {
	for _, c := range []struct {
		name    string
		p       Picture
		density float64
		want    string
	}{
		{"as it is", Picture{W: 300, H: 200, NaturalW: 3000, NaturalH: 2000, Fit: "fill"}, 1, "width=300"},
		{"dense", Picture{W: 300, H: 200, NaturalW: 3000, NaturalH: 2000, Fit: "cover"}, 3, "width=300&resolution=3x"},
		{"rounded by layout", Picture{W: 326, H: 217.33, NaturalW: 6000, NaturalH: 4000, Fit: "fill"}, 2, "width=326&resolution=2x"},
		{"cut", Picture{W: 390, H: 130, NaturalW: 6000, NaturalH: 4000, Fit: "cover", Position: "0% 0%"}, 1, "width=390&aspect-ratio=390/130&object-fit=cover&object-position=0%200"},
		{"from the middle", Picture{W: 390, H: 130, NaturalW: 6000, NaturalH: 4000, Fit: "cover", Position: "50% 50%"}, 1, "width=390&aspect-ratio=390/130&object-fit=cover"},
		{"squeezed", Picture{W: 300, H: 300, NaturalW: 3000, NaturalH: 2000, Fit: "fill"}, 1, "width=300&aspect-ratio=300/300&object-fit=fill"},
		{"within", Picture{W: 300, H: 100, NaturalW: 3000, NaturalH: 2000, Fit: "contain"}, 1, "width=150"},
		{"of unknown size", Picture{W: 300, H: 100}, 1, "width=300"},
	} {
		if got := c.p.Declared(c.density); got.AddressForm() != strings.ReplaceAll(strings.ReplaceAll(c.want, "390/130", "3"), "300/300", "1") && got.AddressForm() != c.want {
			t.Errorf("%s: %s, want %s", c.name, got.AddressForm(), c.want)
		}
	}
}

func TestRemediesInTheOrderOfWhatTheySave(t *testing.T) {
	p := Picture{URL: "https://shop.test/a.jpg", Kind: "img", W: 300, H: 200, NaturalW: 3000, NaturalH: 2000, Bytes: 1_000_000, Type: "image/jpeg"}
	p.Assess(&Made{After: After{Bytes: 10_000, Type: "image/avif", Width: 600, Height: 400, Quality: 72}, Alike: 30_000}, 2)
	if got := words(&p); got != "pixels format lazy size candidates alt" && got != "pixels quality format lazy size candidates alt" {
		t.Errorf("%s", got)
	}
	var sum int64
	for i, r := range p.Remedies {
		sum += r.Saves
		if i > 0 && r.Saves > p.Remedies[i-1].Saves {
			t.Errorf("%+v", p.Remedies)
		}
	}
	if sum != p.Saved() || p.Saved() != 990_000 {
		t.Errorf("the remedies save %d of %d", sum, p.Saved())
	}
	// What is right already needs nothing.
	p = Picture{URL: "https://img.test/kestrel/catalogue/a.jpg?width=600", Kind: "img", W: 300, H: 200, NaturalW: 600, NaturalH: 400, Bytes: 10_000, Type: "image/avif", Lazy: true, Sized: true, Srcset: "…", Alt: alt("A kite")}
	p.Assess(&Made{After: After{Bytes: 9_900, Type: "image/avif", Width: 600, Height: 400, Quality: 72}}, 2)
	if len(p.Remedies) > 0 {
		t.Errorf("%+v", p.Remedies)
	}
	p = Picture{URL: "https://shop.test/a.jpg", Kind: "img", Above: true, First: true, Lazy: true, Sized: true, Alt: alt(""), W: 300, H: 200, NaturalW: 300, Refused: "no lane has it"}
	p.Assess(nil, 1)
	if words(&p) != "allow eager" {
		t.Errorf("%+v", p.Remedies)
	}
	p = Picture{URL: "https://shop.test/back.jpg", Kind: "background", W: 300, H: 200}
	p.Assess(nil, 1)
	if len(p.Remedies) > 0 {
		t.Errorf("of a background: %+v", p.Remedies)
	}
}

func TestPicturesThatWentThroughTwoOptimisers(t *testing.T) {
	for address, twice := range map[string]bool{
		"https://img.test/kestrel/a.jpg?width=300":                                                    false,
		"https://img.test/kestrel/press/https%3A%2F%2Fphotos.test%2Fa.jpg?width=300":                  false,
		"https://img.test/kestrel/press/https%3A%2F%2Fphotos.test%2Fa.jpg%3Fw%3D900?width=300":        true,
		"https://a.test/w_300,q_60/https://b.test/i/a.jpg?quality=80":                                 true,
		"https://a.test/pictures/https-in-a-name.jpg":                                                 false,
		"https://shop.test/image?u=https%3A%2F%2Fcdn.test%2Fa.jpg%3Fwidth%3D2000%26q%3D70&w=640&q=75": true,
		"data:image/png;base64,AAAA":                                                                  false,
		"":                                                                                            false,
	} {
		p := Picture{URL: address, Kind: "background"}
		p.Assess(nil, 1)
		if got := words(&p) == "twice"; got != twice {
			t.Errorf("%s: %v", address, got)
		}
	}
}

func TestSumsCountWhatIsRepeatedOnce(t *testing.T) {
	v := View{Pictures: []Picture{
		{URL: "a", Bytes: 100, After: &After{Bytes: 10}},
		{URL: "b", Bytes: 1000, After: &After{Bytes: 20}},
		{URL: "a", Bytes: 100, After: &After{Bytes: 10}},
		{URL: "c", Bytes: 50},
		{URL: "d", Bytes: 5, After: &After{Bytes: 9}},
		{URL: "e", Failed: "it answered 404"},
	}}
	v.Sum()
	v.Sort()
	if v.ImageBytes != 1155 || v.AfterBytes != 10+20+50+5 || v.Unmeasured != 1 || v.ImagesFailed != 1 || v.Saved() != 1070 {
		t.Errorf("%+v", v)
	}
	if v.Pictures[0].URL != "b" || v.Pictures[1].URL != "a" {
		t.Errorf("%+v", v.Pictures)
	}
}

func TestTheReportStandsByItself(t *testing.T) {
	r := &Report{Page: "https://shop.test/<b>", Notes: []string{"a & b"}, Views: []View{{Name: "phone", ImageBytes: 1000, AfterBytes: 10, Pictures: []Picture{{URL: "https://shop.test/<script>.jpg", Rule: "echolane lane set", Bytes: 1000, After: &After{Bytes: 10, Type: "image/avif"}, Remedies: []Remedy{{"pixels", 990, "too many"}}}}}}}
	var b bytes.Buffer
	if err := WritePage(&b, r, nil, nil); err != nil {
		t.Fatal(err)
	}
	page := b.String()
	for _, want := range []string{"&lt;b&gt;", "&lt;script&gt;.jpg", "a &amp; b", "99.0 %", "too many", "@media print"} {
		if !strings.Contains(page, want) {
			t.Errorf("without %q", want)
		}
	}
	for _, not := range []string{"<script", "<img", "<link", "@import", "src="} {
		if strings.Contains(page, not) {
			t.Errorf("with %q", not)
		}
	}
	if rows := Compare(r, &Report{Views: []View{{ImageBytes: 20}}}); rows[0].After != 20 || rows[0].Before != 1000 {
		t.Errorf("%+v", rows)
	}
}
