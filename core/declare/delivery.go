package declare

import (
	"slices"
	"strings"
	"time"
	"unicode/utf8"
)

// DeliveryValues are the values of the delivery's declarations.
type DeliveryValues struct {
	Class     string // names from the site's sheet, in alphabetical order, divided by spaces
	Data      string // what cards show: data-…=value by name, with & between
	As        As
	Download  Download
	Digest    string // of the source: only that version is answered with
	Expires   int64  // seconds since 1970-01-01T00:00:00Z; 0: not declared
	KeyID     string // which key signed
	Signature string // base64url
}

// How the answer is delivered: no part of what the variant is.
var delivery = []declaration{
	field(declaration{name: "class", label: "Class", example: "tile stamped", grammar: "at most eight names from the site's sheet, divided by spaces", script: "classes", inherited: true},
		func(d *Declarations) *string { return &d.Class }, readClass, appendEscaped),
	dataField(declaration{name: DataNames, grammar: "data-title and other names that the class's layers take: a text of at most 500 characters, a number, or lane/path", script: "verbatim", named: true}),
	keywordField(declaration{name: "as", grammar: "placeholder, facts or explain"},
		func(d *Declarations) *As { return &d.As }, ases),
	field(declaration{name: "download", grammar: "a file name of at most 200 bytes without slashes, or nothing", mayBeEmpty: true, script: "verbatim"},
		func(d *Declarations) *Download { return &d.Download }, readDownload, appendDownload),
	field(declaration{name: "digest", grammar: "the digest of the source, as facts give it: 24 characters of base64url", script: "verbatim"},
		func(d *Declarations) *string { return &d.Digest }, readDigest, appendPlain),
	field(declaration{name: "expires", grammar: "a time as RFC 3339 has it, in whole seconds and UTC, such as 2027-05-01T12:00:00Z", script: "verbatim"},
		func(d *Declarations) *int64 { return &d.Expires }, readExpires, appendTime),
	field(declaration{name: "keyid", grammar: "a key's name: 1 to 64 of a–z, 0–9 and -", script: "verbatim"},
		func(d *Declarations) *string { return &d.KeyID }, readKeyID, appendPlain),
	field(declaration{name: "signature", grammar: "43 characters of base64url, as signing gives them", script: "verbatim"},
		func(d *Declarations) *string { return &d.Signature }, readSignature, appendPlain),
}

const (
	mostClasses = 8
	mostOfClass = 64 // bytes of one name
)

// IsClass reports whether a class may be called so: letters, digits, - and _, not beginning with a digit, beyond ASCII
// any character, as CSS has its identifiers.
func IsClass(s string) bool {
	if s == "" || len(s) > mostOfClass || s == "-" || s[0] >= '0' && s[0] <= '9' || len(s) > 1 && s[0] == '-' && s[1] >= '0' && s[1] <= '9' {
		return false
	}
	return !strings.ContainsFunc(s, func(r rune) bool {
		return !(r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' || r == '-' || r == '_' || r >= 0x80 && r != 0xfffd)
	})
}

// readClass keeps the names in alphabetical order, each once: their order has no meaning.
func readClass(to *string, v string) string {
	names := strings.Fields(v)
	for _, n := range names {
		if !IsClass(n) {
			return "unparsable"
		}
	}
	if len(names) > mostClasses {
		return "out-of-range"
	}
	if len(names) > 1 {
		slices.Sort(names)
		names = slices.Compact(names)
	}
	*to = strings.Join(names, " ")
	return ""
}

func readDigest(to *string, v string) string {
	if len(v) != digestLength && len(v) != earlierDigestLength {
		return "unparsable"
	}
	return readToken(to, v, digestLength, isBase64URL)
}

const (
	digestLength        = 24
	earlierDigestLength = 22 // in addresses that are older than today's kind
)

// As is what is answered instead of the image.
type As uint8

const (
	AsUnset     As = iota // the image
	Facts                 // what is known of the source, as JSON
	Explain               // how the answer comes about, as JSON
	Placeholder           // a blurred picture of at most 600 bytes
)

var ases = []string{Facts: "facts", Explain: "explain", Placeholder: "placeholder"}

func (a As) String() string { return keyword(ases, int(a)) }

// Download asks for the variant as a file to be saved. Name may be empty: then the source's name serves.
type Download struct {
	Declared bool
	Name     string
}

func readDownload(to *Download, value string) string {
	if len(value) > 200 || !utf8.ValidString(value) || strings.ContainsFunc(value, func(r rune) bool { return r < ' ' || r == 0x7f || r == '/' || r == '\\' }) {
		return "unparsable"
	}
	*to = Download{true, value}
	return ""
}

func appendDownload(b []byte, d Download) []byte { return appendEscaped(b, d.Name) }

// lastYear keeps times within what RFC 3339 can write.
const lastYear = 9999

func readExpires(to *int64, value string) string {
	value = strings.ToUpper(value)
	if !strings.HasSuffix(value, "Z") {
		return "unparsable"
	}
	t, err := time.Parse(time.RFC3339, value)
	if err != nil || t.Nanosecond() != 0 {
		return "unparsable"
	}
	if t.Unix() <= 0 || t.Year() > lastYear {
		return "out-of-range"
	}
	*to = t.Unix()
	return ""
}

func appendTime(b []byte, seconds int64) []byte {
	return time.Unix(seconds, 0).UTC().AppendFormat(b, time.RFC3339)
}

func readKeyID(to *string, v string) string { return readToken(to, v, 64, isKeyID) }

func readSignature(to *string, v string) string { return readToken(to, v, 43, isBase64URL) }

func appendPlain(b []byte, s string) []byte { return append(b, s...) }

func readToken(to *string, value string, most int, may func(byte) bool) string {
	if len(value) > most {
		return "unparsable"
	}
	for i := range len(value) {
		if !may(value[i]) {
			return "unparsable"
		}
	}
	*to = value
	return ""
}

func isKeyID(c byte) bool { return c >= 'a' && c <= 'z' || c >= '0' && c <= '9' || c == '-' }

func isBase64URL(c byte) bool {
	return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || c == '-' || c == '_'
}
