package declare

import (
	"math"
	"strconv"
	"strings"

	"echolane/core/wording"
)

// EncodingValues are the values of the encoding's declarations.
type EncodingValues struct {
	Format    Format
	Quality   Quality
	Budget    int64  // bytes that the variant may have; 0: not declared
	Animation string // "": not declared; "none"; or the shorthand
	Retain    Retain
}

// How the picture is written down.
var encoding = []declaration{
	keywordField(declaration{name: "format", grammar: "avif, jxl, webp, jpeg, png or gif"},
		func(d *Declarations) *Format { return &d.Format }, formats[:]),
	field(declaration{name: "quality", script: "level", grammar: "a whole number from 1 to 100, or lossless", keywords: []string{"lossless"}},
		func(d *Declarations) *Quality { return &d.Quality }, readQuality, appendQuality),
	field(declaration{name: "budget", label: "Budget", example: "60kB", grammar: "bytes, from 100 to 100000000, such as 60kB, 60KiB or 61440"},
		func(d *Declarations) *int64 { return &d.Budget }, readBudget, appendInt),
	field(declaration{name: "animation", grammar: animationGrammar, keywords: []string{AnimationNone}},
		func(d *Declarations) *string { return &d.Animation }, readAnimation, appendEscaped),
	field(declaration{name: "retain", label: "Retain", example: "rights camera", grammar: "one or more of rights, camera and place", keywords: retained},
		func(d *Declarations) *Retain { return &d.Retain }, readRetain, appendRetain),
}

// Format is an image format that a variant may be delivered in.
type Format uint8

// The formats.
const (
	FormatUnset Format = iota // negotiated
	AVIF
	JXL // JPEG XL
	WebP
	JPEG
	PNG
	GIF
)

// carried is what a format can carry, and whether a client has to name it in Accept.
type carried struct{ alpha, frames, lossless, named, widened bool }

// carries has each format's, by its number.
var carries = [...]carried{
	AVIF: {alpha: true, frames: true, lossless: true, named: true, widened: true},
	JXL:  {alpha: true, frames: true, lossless: true, named: true},
	WebP: {alpha: true, frames: true, lossless: true, named: true},
	JPEG: {},
	PNG:  {alpha: true, lossless: true},
	GIF:  {alpha: true, frames: true},
}

var formats = [...]string{AVIF: "avif", JXL: "jxl", WebP: "webp", JPEG: "jpeg", PNG: "png", GIF: "gif"}

func (f Format) String() string { return keyword(formats[:], int(f)) }

// Formats are all formats, those with fewer bytes first.
func Formats() []Format {
	all := make([]Format, 0, len(formats))
	for f := range formats[1:] {
		all = append(all, Format(f+1))
	}
	return all
}

// FormatNames are the formats' names, in the order of Formats.
func FormatNames() []string { return formats[1:] }

// ParseFormat finds the format with this name, FormatUnset where there is none.
func ParseFormat(name string) Format { return Format(find(formats[:], strings.ToLower(name))) }

// FormatOf finds the format with this media type, FormatUnset where there is none.
func FormatOf(mediaType string) Format {
	for _, f := range Formats() {
		if f.MediaType() == mediaType {
			return f
		}
	}
	return FormatUnset
}

// MediaType is the format's media type, such as image/webp.
func (f Format) MediaType() string { return "image/" + f.String() }

// CarriesAlpha reports whether pictures with transparency survive in this format. GIF's is on or off.
func (f Format) CarriesAlpha() bool { return carries[f].alpha }

// ShowsAlpha reports whether browsers show a picture's alpha as it is. GIF has none that is soft, and Chromium 156 takes AVIF's for one of
// limited range, whatever the file says: 16 becomes 0, and 235 becomes 255 (`go test ./conformance -run ShowsWhatIsWritten -v`).
func (f Format) ShowsAlpha() bool {
	return carries[f].alpha && carries[f].lossless && !carries[f].widened
}

// CarriesFrames reports whether animations are delivered in this format.
func (f Format) CarriesFrames() bool { return carries[f].frames }

// CarriesLossless reports whether every pixel can be kept as it was painted.
func (f Format) CarriesLossless() bool { return carries[f].lossless }

// Named reports whether only clients get this format that name it in Accept: the others are shown by every client.
func (f Format) Named() bool { return carries[f].named }

// AcceptAll is an Accept field that names every format that has to be named.
func AcceptAll() string {
	var b strings.Builder
	for _, f := range Formats() {
		if f.Named() {
			b.WriteString(f.MediaType() + ",")
		}
	}
	return b.String() + "image/*,*/*;q=0.8"
}

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

func readQuality(to *Quality, value string) string {
	if strings.EqualFold(value, "lossless") {
		*to = Lossless
		return ""
	}
	v, ok := cssNumber(value)
	if !ok || v != math.Trunc(v) {
		return "unparsable"
	}
	if !(v >= 1 && v <= 100) {
		return "out-of-range"
	}
	*to = Quality(v)
	return ""
}

func appendQuality(b []byte, q Quality) []byte { return append(b, q.String()...) }

// Retain is the value of retain: the embedded facts that are kept.
type Retain uint8

const (
	RetainRights Retain = 1 << iota // copyright, creator, licence
	RetainCamera                    // exposure and device
	RetainPlace                     // position
)

var retained = []string{"rights", "camera", "place"}

func appendRetain(b []byte, r Retain) []byte {
	start := len(b)
	for i, word := range retained {
		if r&(1<<i) == 0 {
			continue
		}
		if len(b) > start {
			b = append(b, "%20"...)
		}
		b = append(b, word...)
	}
	return b
}

func readRetain(to *Retain, value string) string {
	var set Retain
	for _, word := range strings.Fields(strings.ToLower(value)) {
		i := 0
		for i < len(retained) && retained[i] != word {
			i++
		}
		if i == len(retained) || set&(1<<i) != 0 {
			return "unparsable"
		}
		set |= 1 << i
	}
	*to = set
	return ""
}

const leastBudget, mostBudget = 100, 100_000_000

// readBudget reads bytes, plain or with a unit of a thousand or 1024 times so many.
func readBudget(to *int64, value string) string {
	number, unit := wording.CutUnit(value)
	v, ok := cssNumber(number)
	if !ok {
		return "unparsable"
	}
	if v = math.Floor(v * unit); !(v >= leastBudget && v <= mostBudget) {
		return "out-of-range"
	}
	*to = int64(v)
	return ""
}

func appendInt(b []byte, v int64) []byte { return strconv.AppendInt(b, v, 10) }
