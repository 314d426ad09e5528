package rule

import (
	"os"
	"regexp"
	"strings"
	"testing"

	"echolane/core/declare"
)

var hinted = regexp.MustCompile(`/\* hint: (.*?) \*/`)

// The held list: at least 120 declarations as they stand in stylesheets, of which all are taken but those that a URL can't know,
// each of which has the hint that stands behind it.
func TestAStylesheetsDeclarationsAreTaken(t *testing.T) {
	text, err := os.ReadFile("testdata/stylesheet.css")
	if err != nil {
		t.Fatal(err)
	}
	rules, err := Read(string(text))
	if err != nil {
		t.Fatal(err)
	}
	lines := strings.Split(string(text), "\n")
	taken, all := Taken(rules)
	if all < 120 || taken < 100 {
		t.Errorf("%d of %d declarations were taken, want 100 of 120 at least", taken, all)
	}
	for _, r := range rules {
		var d declare.Declarations
		for _, i := range r.Items {
			line := lines[i.Line-1]
			_, behind, _ := strings.Cut(line, i.Value)
			behind, _, _ = strings.Cut(strings.TrimLeft(behind, "; "), "*/")
			hint := hinted.FindStringSubmatch(behind + "*/")
			marked := hint != nil && strings.HasPrefix(behind, "/* hint:")
			switch {
			case i.Taken && marked:
				t.Errorf("line %d: %s: %s is taken as %s, and its hint says %q", i.Line, i.Property, i.Value, i.Becomes, hint[1])
			case !i.Taken && !marked:
				t.Errorf("line %d: %s: %s is left out: %s; %s", i.Line, i.Property, i.Value, i.Why, i.Remedy)
			case !i.Taken && !strings.Contains(i.Remedy, hint[1]):
				t.Errorf("line %d: %s: %s has the hint %q, want %q", i.Line, i.Property, i.Value, i.Remedy, hint[1])
			}
		}
		if r.Query == "" {
			continue
		}
		if d, err = declare.Parse(r.Query); err != nil || d.AddressForm() != r.Query {
			t.Errorf("%s: ?%s reads back as %s, %v", r.Selector, r.Query, d.AddressForm(), err)
		}
	}
	t.Logf("%d of %d declarations taken", taken, all)
}

// What only a sheet's layers take is said to be theirs, and nothing of a layer's rule becomes the picture's.
func TestWhatLayersTakeIsForTheSheet(t *testing.T) {
	for _, text := range []string{".a::before { writing-mode: vertical-rl }", ".a::after { box-shadow: 0 2px 4px black }", ".a::layer(t) { width: 20px }"} {
		rules, err := Read(text)
		if err != nil {
			t.Fatal(err)
		}
		if i := rules[0].Items[0]; i.Taken || i.Remedy != inTheSheet || rules[0].Query != "" || rules[0].Slot != "" {
			t.Errorf("%s: %+v, ?%s, %s", text, i, rules[0].Query, rules[0].Slot)
		}
	}
}

func TestRulesAreReadInWhateverStateTheyAre(t *testing.T) {
	for text, want := range map[string]string{
		"width: 20rem; height: auto":                     "||width=320|",
		".a { width: 20rem } .b { height: 10px }":        ".a||width=320| .b||height=10|",
		"@media (width < 600px) { .a { width: 10px; } }": ".a|@media (width < 600px)|width=10|",
		".a { & img { opacity: .5 } width: 2px }":        ".a img||opacity=0.5| .a||width=2|",
		".a { width: 1px; width: 2px; max-width: 50vw }": ".a||width=2|max-width: 50vw",
		".a { /* ; } */ width: 3px ; ; }":                ".a||width=3|",
		".a:before { content: 'x'; rotate: 9deg }":       ".a:before||before-content=%22x%22&before-rotate=9deg|",
		".a::after { content: 'x;}'; opacity: .3 }":      ".a::after||after-content=%22x%3B%7D%22&after-opacity=0.3|",
		"@font-face { font-family: x } .a { width: 4px":  "||| .a||width=4|",
		"width 20rem": "|||",
		"@import 'a.css'; .a { background: url(a/b;c.png) }": "||| .a||background-image=url(a/b%3Bc.png)|",
		"}} .a { border-radius: 1px }":                       ".a||border-radius=1px|",
	} {
		rules, err := Read(text)
		if err != nil {
			t.Errorf("%s: %v", text, err)
			continue
		}
		var got []string
		for _, r := range rules {
			got = append(got, strings.Join([]string{r.Selector, r.Within, r.Query, r.Slot}, "|"))
		}
		if strings.Join(got, " ") != want {
			t.Errorf("%s\n is %s\nnot %s", text, strings.Join(got, " "), want)
		}
	}
	for _, text := range []string{"", "   ", "/* nothing */", "{}", strings.Repeat("a", MostBytes+1)} {
		if rules, err := Read(text); err == nil {
			t.Errorf("%.20q is taken as %+v", text, rules)
		}
	}
}

func FuzzRead(f *testing.F) {
	f.Add(".a { width: 20rem; @media (x) { b: c } } } }")
	f.Add("@media { { { { { { { { { { width: 1px")
	f.Fuzz(func(t *testing.T, text string) {
		rules, err := Read(text)
		if err != nil {
			return
		}
		for _, r := range rules {
			if d, err := declare.Parse(r.Query); err != nil || d.AddressForm() != r.Query {
				t.Errorf("%q: ?%s: %v", text, r.Query, err)
			}
		}
	})
}
