package declare

import (
	"slices"
	"strconv"
	"strings"

	"echolane/core/wording"
)

// A Box is one layer under or over a picture: an absolutely placed box as CSS has it, in the slot. It is written in a sheet as
// ::before, ::after or ::layer(name); what a URL says as before-… and after-… goes over those.
type Box struct {
	Name  string            // before, after, or its own
	Paint Declarations      // what a box has in common with a picture: fit, frame, filters, shapes, blending
	Said  map[string]string // what only boxes have, by property, each value written one way
}

// The names of the two layers that have places of their own.
const (
	BeforeLayer = "before" // under the picture
	AfterLayer  = "after"  // over all others, where nothing else is said
)

// Bounds on layers.
const (
	MostLayers  = 200
	maxZ        = 1_000_000
	maxBoxText  = 10_000 // characters of content
	mostGrounds = 8
)

// boxed are the declarations that a layer has in common with a picture.
var boxed = wordSet("aspect-ratio object-fit object-position xywh image-rendering image-orientation scale background-color backdrop-filter mix-blend-mode border padding clip-path " +
	"mask-image mask-mode mask-position mask-size mask-repeat gradient-map sharpen border-radius filter opacity")

// A boxProperty is one that only layers have.
type boxProperty struct {
	name, grammar string
	keywords      []string
	read          func(value string) (text, reason string)
}

// saidBy reads and writes a value by the functions of its type.
func saidBy[T any](read func(*T, string) string, write func([]byte, T) []byte) func(string) (string, string) {
	return func(value string) (string, string) {
		var v T
		if reason := read(&v, value); reason != "" {
			return "", reason
		}
		return plainly.Replace(string(write(nil, v))), ""
	}
}

// oneOf reads a keyword.
func oneOf(words ...string) func(string) (string, string) {
	return func(value string) (string, string) {
		value = strings.ToLower(strings.TrimSpace(value))
		if !slices.Contains(words, value) {
			return "", "unparsable"
		}
		return value, ""
	}
}

// listOf reads values with commas between.
func listOf(most int, read func(string) (string, string)) func(string) (string, string) {
	return func(value string) (string, string) {
		all := parts(value, ',')
		if len(all) > most {
			return "", "out-of-range"
		}
		for i, one := range all {
			text, reason := read(strings.TrimSpace(one))
			if reason != "" {
				return "", reason
			}
			all[i] = text
		}
		return strings.Join(all, ", "), ""
	}
}

// inList writes what was read one after another, or the word for none.
func inList[T any](list []T, reason, none string, text func(T) string) (string, string) {
	switch {
	case reason != "":
		return "", reason
	case len(list) == 0:
		return none, ""
	}
	texts := make([]string, len(list))
	for i, v := range list {
		texts[i] = text(v)
	}
	return strings.Join(texts, ", "), ""
}

func keywordsOf(name, grammar string, words ...string) boxProperty {
	return boxProperty{name, grammar, words, oneOf(words...)}
}

// boxProperties are what only layers have, in the order in which they are written.
var boxProperties = []boxProperty{
	{"content", "url(lane/path), a text in quotes, attr(data-name), url(attr(data-name)), several texts one after another, or none", []string{"none", "url()", "attr()"}, readBoxContent},
	{"width", "a length, a percentage of the slot's width, or auto", []string{"auto"}, saidBy(readSide, appendSide)},
	{"height", "a length, a percentage of the slot's height, or auto", []string{"auto"}, saidBy(readSide, appendSide)},
	{"top", "a length, a percentage of the slot's height, or auto", []string{"auto"}, readEdge},
	{"right", "a length, a percentage of the slot's width, or auto", []string{"auto"}, readEdge},
	{"bottom", "a length, a percentage of the slot's height, or auto", []string{"auto"}, readEdge},
	{"left", "a length, a percentage of the slot's width, or auto", []string{"auto"}, readEdge},
	{"rotate", "an angle, around the layer's middle, such as -8deg", nil, readBoxTurn},
	{"animation", "none, or @keyframes by their name, and duration, easing, delay, count, direction and fill, such as rise 2s both", []string{AnimationNone}, readBoxAnimation},
	{"z-index", "a whole number: below 0 a layer lies under the picture; auto", []string{"auto"}, readZ},
	{"box-shadow", "at most 8 shadows, each with inset or not, such as 0 4px 16px rgb(0 0 0 / 40%), or none", []string{"none", "inset"}, readBoxShadow},
	{"background-image", "url(lane/path), url(attr(data-name)) or a gradient, or several with commas between, the one on top first; none", []string{"none", "url()", "linear-gradient()", "radial-gradient()", "conic-gradient()"}, listOf(mostGrounds, readBoxGround)},
	{"background-position", "one to four values for each ground, such as center or 0 100%", []string{"left", "right", "top", "bottom", "center"}, listOf(mostGrounds, saidBy(readGroundPosition, appendPosition))},
	{"background-size", "cover, contain, or one or two lengths, percentages or auto for each ground", []string{"cover", "contain", "auto"}, listOf(mostGrounds, saidBy(readGroundSize, appendGroundSize))},
	{"background-repeat", "repeat, no-repeat, space or round for each ground", append([]string{"repeat-x", "repeat-y"}, repeats[1:]...), listOf(mostGrounds, saidBy(readRepeats, appendRepeats))},
	{"color", "a CSS colour", nil, saidBy(readColor, appendColor)},
	{"font-family", "families with commas between: one of the sheet's @font-face, of Debian's Noto fonts, or sans-serif, serif, monospace or emoji", []string{"sans-serif", "serif", "monospace", "emoji"}, listOf(8, readFamily)},
	{"font-size", "a length, or fit(12px, 64px): the largest at which the text fits its box", nil, readFontSize},
	{"font-weight", "normal, bold, or a number from 1 to 1000", []string{"normal", "bold"}, readWeight},
	keywordsOf("font-style", "normal, italic or oblique", "normal", "italic", "oblique"),
	{"font-stretch", "normal, condensed, expanded and their degrees such as semi-condensed, or a percentage from 50% to 200%, of a variable font", stretchWords(), readStretch},
	{"font-variation-settings", "axes and values, such as \"wdth\" 80, or normal", []string{"normal"}, readVariations},
	{"line-height", "normal, a number, a length or a percentage of the font's size", []string{"normal"}, readLineHeight},
	{"letter-spacing", "normal, or a length in px or em", []string{"normal"}, readSpacing},
	{"word-spacing", "normal, or a length in px or em", []string{"normal"}, readSpacing},
	keywordsOf("text-align", "start, end, left, right, center or justify", "start", "end", "left", "right", "center", "justify"),
	keywordsOf("align-content", "normal, start, center or end: where the text stands in a box that is higher", "normal", "start", "center", "end"),
	keywordsOf("text-transform", "none, uppercase, lowercase or capitalize", "none", "uppercase", "lowercase", "capitalize"),
	keywordsOf("text-wrap", "wrap, nowrap or balance", "wrap", "nowrap", "balance"),
	keywordsOf("white-space", "normal, nowrap, pre, pre-wrap or pre-line, which is initial here", "normal", "nowrap", "pre", "pre-wrap", "pre-line"),
	keywordsOf("overflow-wrap", "normal, break-word or anywhere", "normal", "break-word", "anywhere"),
	{"line-clamp", "none, or how many lines there are at most, the last with an ellipsis", []string{"none"}, readClamp},
	{"text-shadow", "at most 8 shadows, such as 0 2px 6px black, or none", []string{"none"}, readTextShadow},
	{"-webkit-text-stroke", "a width and a colour, such as 2px black", nil, readStroke},
	keywordsOf("direction", "ltr or rtl", "ltr", "rtl"),
	keywordsOf("writing-mode", "horizontal-tb, or vertical-rl or vertical-lr: lines go down, the first is the rightmost or the leftmost", "horizontal-tb", "vertical-rl", "vertical-lr"),
	keywordsOf("text-orientation", "mixed, upright or sideways: how characters stand in vertical writing", "mixed", "upright", "sideways"),
	{"text-decoration", "none, or underline, overline and line-through, with a colour or without", []string{"none", "underline", "overline", "line-through"}, readDecoration},
	keywordsOf("hyphens", "none or manual, which is initial: a soft hyphen shows where a line ends at it", "none", "manual"),
}

// shortBox are the shorthands of what only layers have, and other spellings.
var shortBox = map[string]func(b *Box, value string) string{
	"inset":      readBoxInset,
	"background": readBoxBackground,
	"font":       readBoxFont,
	"-webkit-line-clamp": func(b *Box, value string) string {
		text, reason := readClamp(value)
		if reason == "" {
			b.say("line-clamp", text)
		}
		return reason
	},
	"font-width":           func(b *Box, value string) string { return b.read("font-stretch", value) }, // its name in CSS Fonts Level 4
	"text-decoration-line": func(b *Box, value string) string { return b.read("text-decoration", value) },
}

// LayerSelector is what a sheet writes behind a class for the layer of that name.
func LayerSelector(name string) string {
	if name == BeforeLayer || name == AfterLayer {
		return "::" + name
	}
	return "::layer(" + name + ")"
}

func propertyOfBox(name string) *boxProperty {
	i := slices.IndexFunc(boxProperties, func(p boxProperty) bool { return p.name == name })
	if i < 0 {
		return nil
	}
	return &boxProperties[i]
}

func (b *Box) say(name, text string) {
	if b.Said == nil {
		b.Said = map[string]string{}
	}
	b.Said[name] = text
}

func (b *Box) read(name, value string) string {
	text, reason := propertyOfBox(name).read(value)
	if reason == "" {
		b.say(name, text)
	}
	return reason
}

// BoxNames lists the properties that a layer's rule may use.
func BoxNames() (names []string) {
	for _, p := range BoxProperties() {
		names = append(names, p.Name)
	}
	return names
}

// BoxProperties lists them for people and editors.
func BoxProperties() (list []Property) {
	for _, p := range boxProperties {
		words := p.keywords
		if words == nil {
			words = []string{}
		}
		list = append(list, Property{p.name, p.grammar, words})
	}
	for _, p := range SheetProperties("") {
		if boxed[p.Name] {
			list = append(list, p)
		}
	}
	return list
}

// Set reads one declaration of a layer's rule. The problem is nil where that went well.
func (b *Box) Set(name, value string) *Problem {
	reason := ""
	switch p := propertyOfBox(name); {
	case strings.TrimSpace(value) == "":
		reason = "empty"
	case p != nil:
		reason = b.read(name, value)
	case shortBox[name] != nil:
		reason = shortBox[name](b, value)
	case boxed[name], boxedShort(name):
		return b.Paint.SetInSheet(name, value, "")
	default:
		problem := &Problem{Parameter: name, Given: name, Reason: "unknown-name", Allowed: strings.Join(BoxNames(), ", "), Nearest: wording.Misspelt(name, BoxNames())}
		if inSheet(name, "") >= 0 || shorthandOf(name) != nil {
			problem.Allowed, problem.Nearest = name+" in a rule for the picture itself", ""
		}
		return problem
	}
	if reason == "" {
		return nil
	}
	problem := &Problem{Parameter: name, Given: wording.Cut(value, 80), Reason: reason}
	if p := propertyOfBox(name); p != nil {
		problem.Allowed, problem.Nearest = p.grammar, wording.Nearest(strings.ToLower(value), p.keywords)
	}
	return problem
}

// boxedShort reports whether a shorthand sets nothing but what a layer has, too.
func boxedShort(name string) bool {
	for _, prefix := range []string{"border-", "padding-", "object-view-box"} {
		if strings.HasPrefix(name, prefix) && shorthandOf(name) != nil {
			return true
		}
	}
	return false
}

// Forget takes a property back, which is declared again further down.
func (b *Box) Forget(name string) {
	delete(b.Said, name)
	b.Paint.Forget(name, "")
}

// Over is the layer with what it doesn't say taken from base: the cascade.
func (b Box) Over(base Box) Box {
	out := Box{Name: b.Name, Paint: b.Paint.Over(base.Paint), Said: map[string]string{}}
	for _, from := range []map[string]string{base.Said, b.Said} {
		for name, text := range from {
			out.Said[name] = text
		}
	}
	return out
}

// append writes the layer one way.
func (b *Box) append(to []byte) []byte {
	to = append(append(to, b.Name...), '{')
	for _, p := range boxProperties {
		if text, ok := b.Said[p.name]; ok {
			to = append(append(append(append(to, p.name...), ':'), text...), ';')
		}
	}
	return append(b.Paint.AppendAddressForm(to), '}')
}

func (b *Box) of(name string) string { return b.Said[name] }

// Z is where a layer lies among the others: below 0 under the picture.
func (b *Box) Z() int {
	z, err := strconv.Atoi(b.of("z-index"))
	if err != nil && b.Name == BeforeLayer {
		return -1
	}
	return z
}

func readZ(value string) (string, string) {
	if strings.EqualFold(value, "auto") {
		return "auto", ""
	}
	z, err := strconv.Atoi(value)
	switch {
	case err != nil:
		return "", "unparsable"
	case z < -maxZ || z > maxZ:
		return "", "out-of-range"
	}
	return strconv.Itoa(z), ""
}

// Side is the width or the height of a layer.
func (b *Box) Side(name string) Side {
	var s Side
	if text := b.of(name); text != "" {
		readSide(&s, text)
	}
	return s
}

// Edges are the distances of the layer's edges from the slot's: top, right, bottom, left.
func (b *Box) Edges() (in Inset) {
	for i, name := range edgeNames {
		text := b.of(name)
		if text == "" || text == "auto" {
			continue
		}
		l, _ := parseLength(text, "px")
		in.Edge[i], in.Declared = Side{true, l}, true
	}
	return in
}

var edgeNames = [4]string{"top", "right", "bottom", "left"}

func readEdge(value string) (string, string) {
	if strings.EqualFold(value, "auto") {
		return "auto", ""
	}
	l, ok := parseLength(value, "px")
	if !ok {
		return "", "unparsable"
	}
	return l.text(), ""
}

func readBoxInset(b *Box, value string) string {
	words, ok := fourOf(value)
	if !ok {
		return "unparsable"
	}
	var texts [4]string
	for i, w := range words {
		text, reason := readEdge(w)
		if reason != "" {
			return reason
		}
		texts[i] = text
	}
	for i, name := range edgeNames {
		b.say(name, texts[i])
	}
	return ""
}

// Degrees are those that the layer is turned by, clockwise: from 0 to below 360.
func (b *Box) Degrees() float64 { return turnBy(b.turned()).Degrees }

// turned is how many degrees the layer is turned by, as that was written: an animation goes the way from one to another.
func (b *Box) turned() float64 {
	v, _ := ParseAngle(b.of("rotate"), false)
	return v
}

func (b *Box) turn(degrees float64) { b.say("rotate", degreesText(degrees)) }

func degreesText(v float64) string { return string(appendNumber(nil, tidy(v))) + "deg" }

func readBoxTurn(value string) (string, string) {
	var t Turn
	if reason := readTurn(&t, value); reason != "" {
		return "", reason
	}
	v, _ := ParseAngle(value, false) // none is 0
	return degreesText(v), ""
}

// Moving is the layer's animation; ok is false where it has none.
func (b *Box) Moving() (a Animation, ok bool) {
	a, ok, _ = parseAnimation(b.of("animation"))
	return a, ok
}

func readBoxAnimation(value string) (text, reason string) {
	reason = readAnimation(&text, value)
	return text, reason
}

// Shows reports whether anything of the layer can be seen.
func (b *Box) Shows() bool {
	if b.Paint.Opacity.Declared && b.Paint.Opacity.Value == 0 || b.of("content") == "none" { // with none there is no box (CSS Content Level 3, section 2)
		return false
	}
	return len(b.Content()) > 0 || b.Paint.Background.A > 0 || b.of("background-image") != "" || said(b.Paint.Border) || said(b.of("box-shadow")) || said(b.Paint.Backdrop)
}

// Pictures lists the sources that the layer shows, as lane/path.
func (b *Box) Pictures() (list []string) {
	add := func(name string) {
		if name != "" && !slices.Contains(list, name) {
			list = append(list, name)
		}
	}
	for _, p := range b.Content() {
		if p.Picture && p.Data == "" {
			add(p.Text)
		}
	}
	for _, g := range b.Grounds() {
		if !IsGradient(g.BackgroundImage) {
			add(g.BackgroundImage)
		}
	}
	if m := b.Paint.Mask(); m.Kind == ImageMask {
		add(m.Image)
	}
	return list
}
