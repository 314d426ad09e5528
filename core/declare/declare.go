// Package declare is the URL language: the CSS declarations in an image URL's query, read into typed values,
// checked, and written back one way.
//
// A query is parsed as a whole: every problem in it is found and reported, not just the first, and a query
// with a problem gives no declarations at all. Nothing is guessed; where a name or keyword is close to one
// that exists, the problem says so.
//
// Three texts of one request are told apart. What the client sent is any spelling. AddressForm is the one
// spelling of the same declarations, from the text alone: it is what is signed and what Content-Location
// carries. A Resolved value is what remains after a site's defaults and negotiation: equal resolved texts
// are one variant.
package declare

import (
	"math/bits"
	"strconv"
	"strings"
)

// Declarations are the typed values of one query. The zero value declares nothing. It is comparable and
// safe to copy.
type Declarations struct {
	XYWH       Region
	Mirror     Mirror
	Turn       Turn
	Width      float64 // slot width in CSS pixels, 1–65535; 0: not declared
	Height     float64 // slot height in CSS pixels, 1–65535; 0: not declared
	Aspect     Ratio   // shape of the slot; the zero Ratio: not declared
	Resolution float64 // device pixels to a CSS pixel, 0.5–4; 0: not declared
	Fit        Fit
	Position   Position
	Grow       Grow

	Background      Color
	BackgroundImage string // lane/path; "" for none
	Map             Map
	Sharpen         Sharpen
	After           Layer
	Radius          Radius
	Filter          string // as writeFilter writes it; "" for none
	Opacity         Opacity
	Matte           Color

	Format    Format
	Quality   Quality
	Budget    int64 // bytes that the variant may have; 0: not declared
	Animation Animation
	Retain    Retain

	// How the answer is delivered: no part of what the variant is.
	Class     string // names from the site's sheet, in alphabetical order, divided by spaces
	As        As
	Download  Download
	Expires   int64  // seconds since 1970-01-01T00:00:00Z; 0: not declared
	KeyID     string // which key signed
	Signature string // base64url
}

// Grow is the value of grow: whether the picture may be scaled above its natural pixels.
type Grow uint8

const (
	GrowUnset Grow = iota
	GrowNo         // the initial value
	GrowYes
)

var grows = []string{GrowNo: "no", GrowYes: "yes"}

func (g Grow) String() string { return keyword(grows, int(g)) }

// Opacity is the value of opacity, 0 (nothing to see) to 1. The zero Opacity means not declared.
type Opacity struct {
	Declared bool
	Value    float64
}

// Sharpen is the value of sharpen: an unsharp mask in units of its usual strength, 0–3.
type Sharpen struct {
	Declared bool
	Amount   float64
}

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

// A Ratio is a CSS <ratio>, W to H, both positive. The zero value means none.
type Ratio struct{ W, H float64 }

// IsZero reports whether no ratio is declared.
func (r Ratio) IsZero() bool { return r.W == 0 }

// Value is the ratio as one number, width ÷ height.
func (r Ratio) Value() float64 { return r.W / r.H }

func (r Ratio) String() string {
	if r.H == 1 {
		return number(r.W)
	}
	return number(r.W) + "/" + number(r.H)
}

// Fit is the value of object-fit.
type Fit uint8

const (
	FitUnset Fit = iota
	Fill         // CSS's initial value
	Cover
	Contain
	None
	ScaleDown
)

var fits = []string{Fill: "fill", Cover: "cover", Contain: "contain", None: "none", ScaleDown: "scale-down"}

func (f Fit) String() string { return keyword(fits, int(f)) }

// Format is an image format that a variant may be delivered in.
type Format uint8

const (
	FormatUnset Format = iota // negotiated
	AVIF
	WebP
	JPEG
	PNG
	GIF
)

var formats = [...]string{AVIF: "avif", WebP: "webp", JPEG: "jpeg", PNG: "png", GIF: "gif"}

func (f Format) String() string { return keyword(formats[:], int(f)) }

// MediaType is the format's media type, such as image/webp.
func (f Format) MediaType() string { return "image/" + f.String() }

// CarriesAlpha reports whether pictures with transparency survive in this format. GIF's is on or off.
func (f Format) CarriesAlpha() bool { return f == AVIF || f == WebP || f == PNG || f == GIF }

// CarriesFrames reports whether animations are delivered in this format.
func (f Format) CarriesFrames() bool { return f == WebP || f == GIF }

// CarriesLossless reports whether every pixel can be kept as it was painted.
func (f Format) CarriesLossless() bool { return f == AVIF || f == WebP || f == PNG }

// ParseFormat finds the format with this name, FormatUnset where there is none.
func ParseFormat(name string) Format { return Format(find(formats[:], strings.ToLower(name))) }

// Quality is visible quality from 1 to 100, or Lossless. The zero value means not declared.
type Quality uint8

// Lossless keeps every pixel as it was painted.
const Lossless Quality = 255

func (q Quality) String() string {
	switch q {
	case 0:
		return ""
	case Lossless:
		return "lossless"
	}
	return strconv.Itoa(int(q))
}

func keyword(words []string, i int) string {
	if i < len(words) {
		return words[i]
	}
	return ""
}

// find returns the index of word in words, 0 (no value's own index) where it isn't there.
func find(words []string, word string) int {
	for i, w := range words {
		if w != "" && w == word {
			return i
		}
	}
	return 0
}

func number(v float64) string { return string(appendNumber(nil, v)) }

// Over returns d with what it doesn't declare taken from base: the cascade of a site's defaults under a URL.
func (d Declarations) Over(base Declarations) Declarations {
	for left := base.declared() &^ d.declared(); left != 0; left &= left - 1 {
		d.inherit(bits.TrailingZeros64(left), &base)
	}
	return d
}

// AddressForm is the one way of writing exactly these declarations: names in the order of the language,
// lower case, values in their shortest spelling. It is a query string without its question mark, empty
// where nothing is declared. Parsing it gives d again.
func (d Declarations) AddressForm() string {
	var b [128]byte
	return string(d.AppendAddressForm(b[:0]))
}

// AppendAddressForm appends the address form to b.
func (d *Declarations) AppendAddressForm(b []byte) []byte {
	start := len(b)
	for left := d.declared(); left != 0; left &= left - 1 {
		i := bits.TrailingZeros64(left)
		if len(b) > start {
			b = append(b, '&')
		}
		b = append(b, properties[i].name...)
		b = append(b, '=')
		b = d.appendValue(i, b)
	}
	return b
}

// IsPaint reports whether d says anything about how the picture is painted.
func (d *Declarations) IsPaint() bool { return d.PaintName() != "" }

// PaintName is the first name that says something about how the picture is painted, "" where there is none.
func (d *Declarations) PaintName() string {
	const paint = 1<<(pMatte+1) - 1<<pBackground
	if set := d.declared() & paint; set != 0 {
		return properties[bits.TrailingZeros64(set)].name
	}
	return ""
}

// WithoutDelivery is d without what only says how the answer is delivered.
func (d Declarations) WithoutDelivery() Declarations {
	d.As, d.Download, d.Expires, d.KeyID, d.Signature = AsUnset, Download{}, 0, "", ""
	return d
}

// Names lists the names of the language, in its order.
func Names() []string {
	names := make([]string, len(properties))
	for i, p := range properties {
		names[i] = p.name
	}
	return names
}
