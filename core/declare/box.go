package declare

import (
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

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
	{"rotate", "an angle, around the layer's middle, such as -8deg", nil, saidBy(readTurn, appendTurn)},
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

// Degrees are those that the layer is turned by, clockwise.
func (b *Box) Degrees() float64 {
	var t Turn
	if text := b.of("rotate"); text != "" {
		readTurn(&t, text)
	}
	return t.Degrees
}

// A Part is one of what a layer's content is put together of.
type Part struct {
	Text    string // as it is; of a picture, lane/path
	Data    string // the name of the data-… whose value stands there; "" for none
	Number  bool   // the value must be a number
	Default string // what stands there where the value isn't given
	Picture bool
}

// Content is what a layer shows: texts one after another, or one picture.
func (b *Box) Content() []Part {
	list, _ := parseContent(b.of("content")) // it was checked when it was declared
	return list
}

func readBoxContent(value string) (string, string) {
	list, reason := parseContent(value)
	if reason != "" {
		return "", reason
	}
	return writeContent(list), ""
}

func writeContent(list []Part) string {
	if list == nil {
		return "none"
	}
	texts := make([]string, len(list))
	for i, p := range list {
		texts[i] = p.text()
	}
	return strings.Join(texts, " ")
}

// quoted writes a text as CSS has a string (CSSOM, section 2.1).
func quoted(text string) string {
	var b strings.Builder
	b.WriteByte('"')
	for _, r := range text {
		switch {
		case r == '"' || r == '\\':
			b.WriteByte('\\')
			b.WriteRune(r)
		case r < ' ' || r == 0x7F:
			b.WriteString(`\` + strconv.FormatInt(int64(r), 16) + " ")
		default:
			b.WriteRune(r)
		}
	}
	return b.String() + `"`
}

func (p Part) text() string {
	word := ""
	switch {
	case p.Data != "":
		word = "attr(" + p.Data
		if p.Number {
			word += " type(<number>)"
		}
		if p.Default != "" {
			word += ", " + quoted(p.Default)
		}
		word += ")"
	case p.Picture:
		return "url(" + p.Text + ")"
	default:
		return quoted(p.Text)
	}
	if p.Picture {
		return "url(" + word + ")"
	}
	return word
}

func parseContent(value string) ([]Part, string) {
	value = strings.TrimSpace(value)
	if value == "" || strings.EqualFold(value, "none") || strings.EqualFold(value, "normal") {
		return nil, ""
	}
	var list []Part
	for _, word := range contentWords(value) {
		p, reason := parsePart(word)
		if reason != "" {
			return nil, reason
		}
		list = append(list, p)
	}
	total := 0
	for _, p := range list {
		total += utf8.RuneCountInString(p.Text)
		if p.Picture && len(list) > 1 {
			return nil, "unparsable"
		}
	}
	if total > maxBoxText || len(list) > 50 {
		return nil, "out-of-range"
	}
	return list, ""
}

// contentWords divides a value at spaces outside of quotes and parentheses.
func contentWords(value string) (list []string) {
	depth, from := 0, -1
	var quote byte
	for i := 0; i < len(value); i++ {
		c := value[i]
		switch {
		case quote != 0:
			if c == '\\' {
				i++
			} else if c == quote {
				quote = 0
			}
			continue
		case c == '"' || c == '\'':
			if depth == 0 && from >= 0 && i > from && value[from] != 'u' && value[from] != 'a' { // a string right behind another
				list, from = append(list, value[from:i]), -1
			}
			quote = c
		case c == '(':
			depth++
		case c == ')':
			depth--
		case isSpace(c) && depth == 0:
			if from >= 0 {
				list, from = append(list, value[from:i]), -1
			}
			continue
		}
		if from < 0 {
			from = i
		}
	}
	if from >= 0 {
		list = append(list, value[from:])
	}
	return list
}

// cssString reads a CSS string with its escapes (CSS Syntax Level 3, section 4.3.5).
func cssString(word string) (string, bool) {
	if len(word) < 2 || word[0] != '"' && word[0] != '\'' || word[len(word)-1] != word[0] {
		return "", false
	}
	inner := word[1 : len(word)-1]
	if !strings.ContainsRune(inner, '\\') {
		return inner, utf8.ValidString(inner) && !strings.ContainsRune(inner, rune(word[0]))
	}
	var b strings.Builder
	for i := 0; i < len(inner); i++ {
		c := inner[i]
		if c == word[0] {
			return "", false
		}
		if c != '\\' {
			b.WriteByte(c)
			continue
		}
		n := 0
		for n < 6 && i+1+n < len(inner) && isHex(inner[i+1+n]) {
			n++
		}
		if n > 0 {
			v, _ := strconv.ParseUint(inner[i+1:i+1+n], 16, 32)
			if i += n; i+1 < len(inner) && isSpace(inner[i+1]) {
				i++
			}
			if v == 0 || v > utf8.MaxRune || v >= 0xD800 && v < 0xE000 {
				v = utf8.RuneError
			}
			b.WriteRune(rune(v))
			continue
		}
		if i+1 < len(inner) {
			if i++; inner[i] != '\n' { // a line goes on behind a backslash
				b.WriteByte(inner[i])
			}
		}
	}
	return b.String(), utf8.ValidString(b.String())
}

func isHex(c byte) bool {
	return c >= '0' && c <= '9' || c >= 'a' && c <= 'f' || c >= 'A' && c <= 'F'
}

func parsePart(word string) (p Part, reason string) {
	if text, ok := cssString(word); ok {
		if strings.ContainsFunc(text, func(r rune) bool { return r < ' ' && r != '\n' && r != '\t' || r == 0x7F || r == utf8.RuneError }) {
			return p, "unparsable"
		}
		return Part{Text: text}, ""
	}
	for _, name := range []string{"url", "src"} {
		if inner, ok := cutFunction(word, name); ok && strings.HasPrefix(strings.ToLower(strings.TrimSpace(inner)), "attr(") {
			p, reason = parseAttr(strings.TrimSpace(inner))
			p.Picture = true
			if p.Number {
				reason = "unparsable"
			}
			return p, reason
		}
	}
	if strings.HasPrefix(strings.ToLower(word), "attr(") {
		return parseAttr(word)
	}
	p.Picture = true
	return p, readURL(&p.Text, word)
}

// parseAttr reads attr() of a data-… name (CSS Values Level 5, section 7.7).
func parseAttr(word string) (p Part, reason string) {
	inner, ok := cutFunction(word, "attr")
	if !ok {
		return p, "unparsable"
	}
	list := parts(inner, ',')
	if len(list) == 0 || len(list) > 2 {
		return p, "unparsable"
	}
	words := fields(list[0])
	if len(words) == 0 || len(words) > 2 || !IsDataName(words[0]) {
		return p, "unparsable"
	}
	p.Data = words[0]
	if len(words) == 2 {
		switch strings.ToLower(strings.ReplaceAll(words[1], " ", "")) {
		case "type(<number>)", "number":
			p.Number = true
		case "type(<string>)", "string", "raw-string":
		default:
			return p, "unparsable"
		}
	}
	if len(list) == 2 {
		text := strings.TrimSpace(list[1])
		if s, ok := cssString(text); ok {
			text = s
		} else if strings.ContainsAny(text, `"'()\`) {
			return p, "unparsable"
		}
		p.Default = text
	}
	return p, ""
}

// IsDataName reports whether a name is one of HTML's data- attributes, in lower case.
func IsDataName(name string) bool {
	rest, ok := strings.CutPrefix(name, "data-")
	return ok && IsClass(rest) && rest == strings.ToLower(rest)
}

// Grounds are the box's grounds, the one on top first, each as declarations of a picture: background-image and how it lies.
func (b *Box) Grounds() (list []Declarations) {
	images := parts(b.of("background-image"), ',')
	if b.of("background-image") == "" {
		return nil
	}
	of := func(name string, i int) string {
		text := b.of(name)
		if text == "" {
			return ""
		}
		all := parts(text, ',')
		return strings.TrimSpace(all[i%len(all)])
	}
	for i, image := range images {
		if image = strings.TrimSpace(image); image == "none" {
			continue
		}
		var d Declarations
		if readGroundImage(&d.BackgroundImage, image) != "" {
			continue // attr() that nothing was given for
		}
		if text := of("background-position", i); text != "" {
			readGroundPosition(&d.GroundPosition, text)
		} else {
			d.GroundPosition.Declared = true
		}
		if text := of("background-size", i); text != "" {
			readGroundSize(&d.GroundSize, text)
		} else {
			d.GroundSize.Declared = true
			d.GroundSize.X, d.GroundSize.Y = Side{Declared: true, Length: Length{Px: -1}}, Side{Declared: true, Length: Length{Px: -1}}
		}
		if text := of("background-repeat", i); text != "" {
			readRepeats(&d.GroundRepeat, text)
		} else {
			d.GroundRepeat = Repeats{Tiled, Tiled}
		}
		list = append(list, d)
	}
	return list
}

func readBoxGround(value string) (string, string) {
	if strings.EqualFold(value, "none") {
		return "none", ""
	}
	if p, reason := parsePart(value); reason == "" && p.Data != "" {
		if !p.Picture {
			return "", "unparsable"
		}
		return p.text(), ""
	}
	var image string
	if reason := readGroundImage(&image, value); reason != "" {
		return "", reason
	}
	if IsGradient(image) {
		return image, ""
	}
	return "url(" + image + ")", ""
}

// readBoxBackground reads the shorthand, of several grounds with commas between; the last may have a colour.
func readBoxBackground(b *Box, value string) string {
	var images, positions, sizes, repeating []string
	var colour Color
	all := parts(value, ',')
	if len(all) > mostGrounds {
		return "out-of-range"
	}
	for i, one := range all {
		one = strings.TrimSpace(one)
		attr := ""
		for _, w := range fields(one) { // which the shorthand of pictures doesn't know
			if p, reason := parsePart(w); reason == "" && p.Data != "" {
				text, reason := readBoxGround(w)
				if reason != "" {
					return reason
				}
				attr = text
				one = strings.Replace(one, w, "url(lane/attr)", 1)
			}
		}
		var d Declarations
		if reason := readBackground(&d, spaced(one)); reason != "" {
			return reason
		}
		if d.Background.Declared && d.Background.A > 0 {
			if i < len(all)-1 {
				return "unparsable"
			}
			colour = d.Background
		}
		image := "none"
		switch {
		case attr != "":
			image = attr
		case IsGradient(d.BackgroundImage):
			image = d.BackgroundImage
		case d.BackgroundImage != "":
			image = "url(" + d.BackgroundImage + ")"
		}
		images = append(images, image)
		position, size, repeat := "0px 0px", "auto", "repeat"
		if d.GroundPosition.Declared {
			position = plainly.Replace(string(appendPosition(nil, d.GroundPosition)))
		}
		if d.GroundSize.Declared {
			size = plainly.Replace(string(appendGroundSize(nil, d.GroundSize)))
		}
		if d.GroundRepeat != (Repeats{}) {
			repeat = plainly.Replace(string(appendRepeats(nil, d.GroundRepeat)))
		}
		positions, sizes, repeating = append(positions, position), append(sizes, size), append(repeating, repeat)
	}
	b.say("background-image", strings.Join(images, ", "))
	b.say("background-position", strings.Join(positions, ", "))
	b.say("background-size", strings.Join(sizes, ", "))
	b.say("background-repeat", strings.Join(repeating, ", "))
	if !colour.Declared {
		colour = Color{Declared: true}
	}
	b.Paint.Background = colour
	return ""
}

// A BoxShadow is one of box-shadow's (CSS Backgrounds Level 3, section 6.1).
type BoxShadow struct {
	InnerShadow
	Inset bool
}

// Shadows are the box's, the one on top first.
func (b *Box) Shadows() []BoxShadow {
	list, _ := parseBoxShadows(b.of("box-shadow"))
	return list
}

func readBoxShadow(value string) (string, string) {
	list, reason := parseBoxShadows(value)
	if reason != "" {
		return "", reason
	}
	if len(list) == 0 {
		return "none", ""
	}
	texts := make([]string, len(list))
	for i, s := range list {
		texts[i] = writeShadows([]InnerShadow{s.InnerShadow}, 1)
		if !s.Inset {
			texts[i] = strings.TrimPrefix(texts[i], "inset ")
		}
	}
	return strings.Join(texts, ", "), ""
}

func parseBoxShadows(value string) (list []BoxShadow, reason string) {
	if value == "" || strings.EqualFold(value, "none") {
		return nil, ""
	}
	for _, one := range parts(value, ',') {
		inset := slices.ContainsFunc(fields(one), func(w string) bool { return strings.EqualFold(w, "inset") })
		if !inset {
			one = "inset " + one
		}
		got, reason := parseShadows(one)
		if reason != "" {
			return nil, reason
		}
		list = append(list, BoxShadow{got[0], inset})
	}
	if len(list) > maxShadows {
		return nil, "out-of-range"
	}
	return list, ""
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

// box is what a URL says of a layer, its lengths divided by k.
func (l Layer) box(name string, k float64) Box {
	l = l.lengthsTimes(1 / k)
	b := Box{Name: name}
	if l.Content != "" {
		p := Part{Text: l.Content, Picture: !l.Text}
		b.say("content", p.text())
	}
	plain := func(text []byte) string { return plainly.Replace(string(text)) }
	if l.Width.Declared {
		b.say("width", plain(appendSide(nil, l.Width)))
	}
	if l.Height.Declared {
		b.say("height", plain(appendSide(nil, l.Height)))
	}
	if l.Inset.Declared {
		for i, e := range l.Inset.Edge {
			text := "auto"
			if e.Declared {
				text = e.Length.text()
			}
			b.say(edgeNames[i], text)
		}
	}
	if l.Turn.Declared {
		b.say("rotate", plain(appendTurn(nil, l.Turn)))
	}
	if l.Color.Declared {
		b.say("color", plain(appendColor(nil, l.Color)))
	}
	if l.Font.Declared {
		b.say("font-size", number(l.Font.Size)+"px")
		weight, style, family := "400", "normal", "sans-serif"
		if l.Font.Bold {
			weight = "700"
		}
		if l.Font.Italic {
			style = "italic"
		}
		if l.Font.Mono {
			family = "monospace"
		}
		b.say("font-weight", weight)
		b.say("font-style", style)
		b.say("font-family", family)
	}
	if l.Align != AlignUnset {
		b.say("text-align", aligns[l.Align])
	}
	b.Paint.Opacity, b.Paint.Blend, b.Paint.Background = l.Opacity, l.Blend, l.Background
	if l.Padding.Declared {
		framePadding(&b.Paint.Padding, l.Padding.Edge)
	}
	return b
}

// Boxes are the layers of a request in the order in which they are painted: those under the picture first, then those over it.
func (r *Resolved) Boxes() (under, over []Box) {
	k := r.LayerScale
	if k == 0 {
		k = 1
	}
	list := slices.Clone(r.Layers)
	for name, l := range map[string]*Layer{BeforeLayer: &r.Before, AfterLayer: &r.After} {
		if *l == (Layer{}) {
			continue
		}
		url := l.box(name, k)
		if i := slices.IndexFunc(list, func(b Box) bool { return b.Name == name }); i >= 0 {
			list[i] = url.Over(list[i])
		} else {
			list = append(list, url)
		}
	}
	list = slices.DeleteFunc(list, func(b Box) bool { return !b.Shows() })
	// In the order of the rules, but for ::after, which lies on top of them.
	order := func(b Box) float64 {
		z := float64(b.Z())
		if b.Name == AfterLayer {
			z += 0.5
		}
		return z
	}
	slices.SortStableFunc(list, func(a, b Box) int {
		switch x, y := order(a), order(b); {
		case x < y:
			return -1
		case x > y:
			return 1
		}
		return 0
	})
	split := 0
	for split < len(list) && list[split].Z() < 0 {
		split++
	}
	return list[:split], list[split:]
}

// Pictures lists the sources that the request names beside the picture itself, as lane/path.
func (r *Resolved) Pictures() []string {
	list := r.Declarations.Pictures()
	add := func(name string) {
		if !slices.Contains(list, name) {
			list = append(list, name)
		}
	}
	for i := range r.Layers {
		for _, name := range r.Layers[i].Pictures() {
			add(name)
		}
	}
	for _, f := range r.Fonts {
		add(f.File)
	}
	return list
}

// A FontFace is a site's own font: one face of a family, a file in a lane.
type FontFace struct {
	Family    string
	File      string // lane/path
	MinWeight int    // a variable font goes from there to Weight; 0: it has Weight alone
	Weight    int    // 0: 400
	Italic    bool
}

// ParseURL reads url(lane/path).
func ParseURL(value string) (string, bool) {
	var to string
	reason := readURL(&to, strings.TrimSpace(value))
	return to, reason == ""
}

// FontsOf are those faces of a site's that the layers' families name.
func FontsOf(layers []Box, all []FontFace) (list []FontFace) {
	for i := range layers {
		for _, family := range layers[i].Type().Families {
			for _, f := range all {
				if strings.EqualFold(f.Family, family) && !slices.Contains(list, f) {
					list = append(list, f)
				}
			}
		}
	}
	return list
}
