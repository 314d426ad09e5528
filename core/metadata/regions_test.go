package metadata

import (
	"math"
	"strings"
	"testing"
)

const head = `<x:xmpmeta xmlns:x="adobe:ns:meta/"><rdf:RDF xmlns:rdf="http://www.w3.org/1999/02/22-rdf-syntax-ns#"><rdf:Description rdf:about="" ` +
	`xmlns:mwg-rs="http://www.metadataworkinggroup.com/schemas/regions/" xmlns:stArea="http://ns.adobe.com/xmp/sType/Area#" xmlns:stDim="http://ns.adobe.com/xap/1.0/sType/Dimensions#" xmlns:Iptc4xmpExt="http://iptc.org/std/Iptc4xmpExt/2008-02-29/" xmlns:xmp="http://ns.adobe.com/xap/1.0/">`

const tail = `</rdf:Description></rdf:RDF></x:xmpmeta>`

// jpegWith is a JPEG's beginning with this XMP.
func jpegWith(xmp string) []byte {
	body := "http://ns.adobe.com/xap/1.0/\x00" + xmp
	return []byte("\xff\xd8\xff\xe1" + be16(len(body)+2) + body + "\xff\xd9")
}

func TestRegionsAreRead(t *testing.T) {
	for _, c := range []struct {
		name, xmp string
		want      []Region
	}{
		{"the working group's, as attributes", `<mwg-rs:Regions rdf:parseType="Resource"><mwg-rs:AppliedToDimensions stDim:w="4000" stDim:h="3000" stDim:unit="pixel"/><mwg-rs:RegionList><rdf:Bag>` +
			`<rdf:li><rdf:Description mwg-rs:Name="Wren" mwg-rs:Type="Face"><mwg-rs:Area stArea:x="0.5" stArea:y="0.4" stArea:w="0.2" stArea:h="0.3" stArea:unit="normalized"/></rdf:Description></rdf:li>` +
			`<rdf:li rdf:parseType="Resource"><mwg-rs:Type>Focus</mwg-rs:Type><mwg-rs:Area rdf:parseType="Resource"><stArea:x>1000</stArea:x><stArea:y>600</stArea:y><stArea:w>400</stArea:w><stArea:h>300</stArea:h><stArea:unit>pixel</stArea:unit></mwg-rs:Area></rdf:li>` +
			`</rdf:Bag></mwg-rs:RegionList></mwg-rs:Regions>`, []Region{{0.4, 0.25, 0.6, 0.55, FaceRegion}, {0.2, 0.15, 0.3, 0.25, SubjectRegion}}},
		{"IPTC's", `<Iptc4xmpExt:ImageRegion><rdf:Bag>` +
			`<rdf:li rdf:parseType="Resource"><Iptc4xmpExt:RegionBoundary rdf:parseType="Resource"><Iptc4xmpExt:rbShape>rectangle</Iptc4xmpExt:rbShape><Iptc4xmpExt:rbUnit>relative</Iptc4xmpExt:rbUnit><Iptc4xmpExt:rbX>0.1</Iptc4xmpExt:rbX><Iptc4xmpExt:rbY>0.2</Iptc4xmpExt:rbY><Iptc4xmpExt:rbW>0.3</Iptc4xmpExt:rbW><Iptc4xmpExt:rbH>0.4</Iptc4xmpExt:rbH></Iptc4xmpExt:RegionBoundary>` +
			`<Iptc4xmpExt:rRole><rdf:Bag><rdf:li rdf:parseType="Resource"><xmp:Identifier><rdf:Bag><rdf:li>http://cv.iptc.org/newscodes/imageregionrole/mainSubjectArea</rdf:li></rdf:Bag></xmp:Identifier></rdf:li></rdf:Bag></Iptc4xmpExt:rRole></rdf:li>` +
			`<rdf:li rdf:parseType="Resource"><Iptc4xmpExt:RegionBoundary Iptc4xmpExt:rbShape="circle" Iptc4xmpExt:rbUnit="pixel" Iptc4xmpExt:rbX="400" Iptc4xmpExt:rbY="300" Iptc4xmpExt:rbRx="40"/></rdf:li>` +
			`<rdf:li rdf:parseType="Resource"><Iptc4xmpExt:RegionBoundary rdf:parseType="Resource"><Iptc4xmpExt:rbShape>polygon</Iptc4xmpExt:rbShape><Iptc4xmpExt:rbUnit>relative</Iptc4xmpExt:rbUnit><Iptc4xmpExt:rbVertices><rdf:Seq>` +
			`<rdf:li rdf:parseType="Resource"><Iptc4xmpExt:rbX>0.5</Iptc4xmpExt:rbX><Iptc4xmpExt:rbY>0.1</Iptc4xmpExt:rbY></rdf:li><rdf:li rdf:parseType="Resource"><Iptc4xmpExt:rbX>0.9</Iptc4xmpExt:rbX><Iptc4xmpExt:rbY>0.3</Iptc4xmpExt:rbY></rdf:li><rdf:li Iptc4xmpExt:rbX="0.7" Iptc4xmpExt:rbY="0.8"/>` +
			`</rdf:Seq></Iptc4xmpExt:rbVertices></Iptc4xmpExt:RegionBoundary></rdf:li>` +
			`</rdf:Bag></Iptc4xmpExt:ImageRegion>`, []Region{{0.1, 0.2, 0.4, 0.6, SubjectRegion}, {0.45, 0.43333, 0.55, 0.56667, OtherRegion}, {0.5, 0.1, 0.9, 0.8, OtherRegion}}},
		{"nothing", "", nil},
		{"no numbers", `<mwg-rs:RegionList><rdf:Bag><rdf:li><mwg-rs:Area stArea:x="wide" stArea:y="NaN" stArea:w="1e99"/></rdf:li></rdf:Bag></mwg-rs:RegionList>`, nil},
		{"beside the picture", `<mwg-rs:RegionList><rdf:Bag><rdf:li><mwg-rs:Area stArea:x="3" stArea:y="3" stArea:w=".2" stArea:h=".2"/></rdf:li></rdf:Bag></mwg-rs:RegionList>`, nil},
	} {
		got := RegionsOf(jpegWith(head+c.xmp+tail), 800, 600)
		if len(got) != len(c.want) {
			t.Errorf("%s: %v, want %v", c.name, got, c.want)
			continue
		}
		for i, r := range got {
			w := c.want[i]
			if far := math.Abs(r.X0-w.X0) + math.Abs(r.Y0-w.Y0) + math.Abs(r.X1-w.X1) + math.Abs(r.Y1-w.Y1); far > 1e-3 || r.Kind != w.Kind {
				t.Errorf("%s: %v, want %v", c.name, r, w)
			}
		}
	}
	many := head + "<mwg-rs:RegionList><rdf:Bag>" + strings.Repeat(`<rdf:li><mwg-rs:Area stArea:x=".5" stArea:y=".5" stArea:w=".2" stArea:h=".2"/></rdf:li>`, 400) + "</rdf:Bag></mwg-rs:RegionList>" + tail
	if n := len(RegionsOf(jpegWith(many), 800, 600)); n != mostRegions {
		t.Errorf("of 400 regions %d are read", n)
	}
}

func FuzzRegions(f *testing.F) {
	f.Add([]byte(head + `<mwg-rs:RegionList><rdf:Bag><rdf:li><mwg-rs:Area stArea:x=".5" stArea:y=".5" stArea:w=".2" stArea:h=".2"/></rdf:li></rdf:Bag></mwg-rs:RegionList>` + tail))
	f.Fuzz(func(t *testing.T, xmp []byte) {
		if len(xmp) > 60_000 {
			return
		}
		for _, r := range RegionsOf(jpegWith(string(xmp)), 800, 600) {
			if !(r.X0 >= 0 && r.Y0 >= 0 && r.X1 <= 1 && r.Y1 <= 1 && r.X0 < r.X1 && r.Y0 < r.Y1) {
				t.Fatalf("a region is %v", r)
			}
		}
	})
}
