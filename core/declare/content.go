package declare

import (
	"strconv"
	"strings"
	"unicode/utf8"
)

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
