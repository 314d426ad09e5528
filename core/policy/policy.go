// Package policy is what a site allows: pure decisions from the facts of a request and the settings of its
// site, each yes, or no with its reason and its remedy.
package policy

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"echolane/core/declare"
)

// Limits bound what one request can cost.
type Limits struct {
	SourceBytes   int64         // the largest source file that is read
	SourcePixels  int64         // the most pixels a source may have, by its header
	SourceFrames  int           // the most frames
	Width, Height int           // the longest sides that are delivered, device pixels
	Pixels        int64         // the most pixels that are delivered
	RenderTime    time.Duration // the longest that one variant may take to make
}

// StarterSheet is a new site's.
const StarterSheet = `* { object-fit: cover; quality: 72 }

/* For stills that move, such as
   .hero { animation: toward 6s ease-in-out infinite alternate }
   @media (prefers-reduced-motion: reduce) { .hero { animation: none } } */
@keyframes toward { from { xywh: percent:0,0,100,100 } to { xywh: subject 70% } }
@keyframes away   { from { xywh: subject 70% } to { xywh: percent:0,0,100,100 } }
@keyframes across { from { object-view-box: inset(0 20% 0 0) } to { object-view-box: inset(0 0 0 20%) } }
`

// NewSite is a compiled new site, without lanes.
func NewSite(name string) *Site {
	s, _, err := Compile(NewDocument(name), nil)
	if err != nil {
		panic(err) // constants, but for the name; a test compiles them
	}
	return s
}

// DefaultLimits are a new site's.
var DefaultLimits = NewSite("new").Limits

// A Refusal is a no: an error with what a person needs to mend it.
type Refusal struct {
	Reason    Reason   `json:"reason"`               // one of Reasons
	Title     string   `json:"title"`                // the reason in a few words
	Detail    string   `json:"detail,omitempty"`     // this case in a sentence
	Parameter string   `json:"parameter,omitempty"`  // which part of the request it is about
	Given     string   `json:"given,omitempty"`      // what stood there
	Allowed   string   `json:"allowed,omitempty"`    // what may stand there
	Remedy    string   `json:"remedy,omitempty"`     // the way out
	Problems  []string `json:"problems,omitempty"`   // all that is wrong, where there is more than one thing
	RetryIn   int      `json:"retry_in_s,omitempty"` // seconds after which trying again may help
	Mend      *Mend    `json:"mend,omitempty"`       // the change of settings that would have let it through
}

func (r *Refusal) Error() string {
	s := r.Title
	if r.Detail != "" {
		s += ": " + r.Detail
	}
	if r.Remedy != "" {
		s += " (" + r.Remedy + ")"
	}
	return s
}

// No completes a refusal with its reason's title. What isn't one of Reasons counts as a fault of the
// service's own.
func No(r Refusal) *Refusal {
	i, ok := byReason()[r.Reason]
	if !ok {
		i = byReason()[ReasonInternal]
	}
	r.Title = Reasons[i].Title
	return &r
}

// BadDeclarations is the refusal for a query that doesn't parse.
func BadDeclarations(problems declare.Problems) *Refusal {
	p := problems[0]
	r := No(Refusal{
		Reason: Reason(p.Reason), Detail: p.String(),
		Parameter: p.Parameter, Given: p.Given, Allowed: p.Allowed,
	})
	switch {
	case p.Remedy != "":
		r.Remedy = p.Remedy
	case p.Nearest != "" && r.Reason == ReasonUnknownName:
		r.Remedy = fmt.Sprintf("write %s instead of %s", p.Nearest, p.Parameter)
	case p.Nearest != "":
		r.Remedy = fmt.Sprintf("write %s=%s", p.Parameter, p.Nearest)
	case r.Reason == ReasonUnknownName:
		r.Remedy = "leave " + p.Parameter + " out, or use one of the names that are allowed"
	case r.Reason == ReasonRepeated:
		r.Remedy = "keep one " + p.Parameter
	case r.Reason == ReasonNotDecodable:
		r.Remedy = "write % itself as %25"
	default:
		r.Remedy = "give " + p.Parameter + " " + p.Allowed
	}
	if len(problems) > 1 {
		for _, p := range problems {
			r.Problems = append(r.Problems, p.String())
		}
	}
	return r
}

// SourceBytes says whether a source file of n bytes may be read.
func (l Limits) CheckBytes(n int64) *Refusal {
	if n <= l.SourceBytes {
		return nil
	}
	return No(Refusal{
		Reason: ReasonSourceTooManyBytes,
		Detail: fmt.Sprintf("the source has %d bytes, this site reads sources of at most %d", n, l.SourceBytes),
		Given:  fmt.Sprint(n), Allowed: fmt.Sprintf("at most %d bytes", l.SourceBytes),
		Remedy: "use a smaller file, or raise the source_bytes limit", Mend: raise("source_bytes", n),
	})
}

// CheckPixels says whether a source of w×h pixels may be decoded.
func (l Limits) CheckPixels(w, h int) *Refusal {
	if int64(w)*int64(h) <= l.SourcePixels {
		return nil
	}
	return No(Refusal{
		Reason: ReasonSourceTooManyPixels,
		Detail: fmt.Sprintf("the source's header says %d × %d = %d pixels, this site reads at most %d", w, h, int64(w)*int64(h), l.SourcePixels),
		Given:  fmt.Sprintf("%d × %d", w, h), Allowed: fmt.Sprintf("at most %d pixels", l.SourcePixels),
		Remedy: "use a smaller picture, or raise the site's source_pixels limit", Mend: raise("source_pixels", int64(w)*int64(h)),
	})
}

// CheckFrames says whether a source of n frames may be read.
func (l Limits) CheckFrames(n int) *Refusal {
	if n <= l.SourceFrames {
		return nil
	}
	return No(Refusal{
		Reason: ReasonSourceTooManyFrames, Detail: fmt.Sprintf("the source has %d frames, this site reads at most %d", n, l.SourceFrames),
		Given: fmt.Sprint(n), Allowed: fmt.Sprintf("at most %d frames", l.SourceFrames), Remedy: "use a shorter animation, or raise the site's source_frames limit", Mend: raise("source_frames", int64(n)),
	})
}

// CheckOutput says whether a variant of w×h device pixels is delivered.
func (l Limits) CheckOutput(w, h int) *Refusal {
	var allowed, limit string
	var v int64
	switch {
	case w > l.Width:
		allowed, limit = fmt.Sprintf("at most %d pixels wide", l.Width), "width"
		v = int64(w)
	case h > l.Height:
		allowed, limit = fmt.Sprintf("at most %d pixels high", l.Height), "height"
		v = int64(h)
	case int64(w)*int64(h) > l.Pixels:
		allowed, limit = fmt.Sprintf("at most %d pixels in all", l.Pixels), "pixels"
		v = int64(w) * int64(h)
	default:
		return nil
	}
	return No(Refusal{
		Reason: ReasonVariantTooLarge, Parameter: "width", Given: fmt.Sprintf("%d × %d", w, h), Detail: fmt.Sprintf("the variant would be %d × %d pixels", w, h),
		Allowed: allowed, Remedy: "ask for a smaller width or height, or raise the site's " + limit + " limit", Mend: raise(limit, v),
	})
}

// CheckLossless says whether the declared format can do what the quality asks.
func CheckLossless(r *declare.Resolved) *Refusal {
	if r.Quality != declare.Lossless || len(r.Formats) != 1 || r.Formats[0].CarriesLossless() {
		return nil
	}
	f := r.Formats[0].String()
	return No(Refusal{
		Reason:    ReasonFormatNotLossless,
		Detail:    "quality=lossless with format=" + f + " asks for what the format doesn't have",
		Parameter: "quality", Given: "lossless", Allowed: "1 to 100 with format=" + f,
		Remedy: "write format=avif, format=webp or format=png, leave format out, or give a quality from 1 to 100",
	})
}

// Accepted are the formats that a client's Accept field names with q > 0, of those that need naming: a bit for each, by
// its number; and above these bits in which order it likes them, two bits for each: 0 for those that it likes most.
type Accepted uint16

// likedAt is where the bits begin that say how much a client likes each of the formats that need naming.
const likedAt = 8

// liked is how many of the formats a client likes more than f, at most 3: those of like q count once.
func (a Accepted) liked(f declare.Format) int {
	return int(a>>(likedAt+2*slices.Index(named, f))) & 3
}

// Orders are the set with every way in which a client can like its formats.
func (a Accepted) Orders() []Accepted {
	var all []Accepted
	var of func(i int, ranks []int)
	of = func(i int, ranks []int) {
		if i == len(named) {
			most := -1
			for _, r := range ranks {
				most = max(most, r)
			}
			for r := 0; r < most; r++ { // as they are read, no rank is left out
				if !slices.Contains(ranks, r) {
					return
				}
			}
			liked := a.formats()
			for j, r := range ranks {
				liked |= Accepted(max(0, r)) << (likedAt + 2*j)
			}
			all = append(all, liked)
			return
		}
		if !a.Has(named[i]) {
			of(i+1, append(ranks, -1))
			return
		}
		for r := range len(named) {
			of(i+1, append(slices.Clone(ranks), r))
		}
	}
	of(0, nil)
	return all
}

// formats is the set without how much each is liked.
func (a Accepted) formats() Accepted { return a & (1<<likedAt - 1) }

// Not every client takes the formats that need no naming: one that names JPEG or PNG alone, and no others by a wildcard, is given that
// one of the two.
const (
	NotJPEG Accepted = 1 << 0
	NotPNG  Accepted = 1 << 7
)

// Accepts is a set of formats.
func Accepts(formats ...declare.Format) (a Accepted) {
	for _, f := range formats {
		a |= 1 << f
	}
	return a
}

// Has reports whether the format is among them.
func (a Accepted) Has(f declare.Format) bool { return a>>f&1 == 1 }

// AcceptsAll are all formats that need naming.
var AcceptsAll = Accepts(named...)

// named are the formats that need naming.
var named = slices.DeleteFunc(declare.Formats(), func(f declare.Format) bool { return !f.Named() })

// ReadAccept reads an Accept field (RFC 9110, section 12.5.1). Wildcards name nothing: every client sends
// them, also those that can't show newer formats. How much a client likes each orders those that weigh alike; where it likes
// all as much, the site's order does.
func ReadAccept(field string) Accepted {
	var a Accepted
	var weights [8]int // of those that need naming, in thousandths
	var jpeg, png, any bool
	for part := range strings.SplitSeq(field, ",") {
		media, params, _ := strings.Cut(part, ";")
		media = strings.TrimSpace(media)
		if len(media) < len(imageSlash) || !strings.EqualFold(media[:len(imageSlash)], imageSlash) {
			any = any || media == "*/*"
			continue
		}
		name := media[len(imageSlash):]
		switch {
		case name == "*":
			any = true
		case strings.EqualFold(name, "jpeg"):
			jpeg = !zeroWeight(params)
		case strings.EqualFold(name, "png"):
			png = !zeroWeight(params)
		}
		for i, f := range named {
			if strings.EqualFold(name, f.String()) && !zeroWeight(params) {
				a |= 1 << f
				weights[i] = weightOf(params)
			}
		}
	}
	switch {
	case any || jpeg == png:
	case png:
		a |= NotJPEG
	default:
		a |= NotPNG
	}
	for i, w := range weights {
		more := 0
		for j, v := range weights { // one of each
			if w > 0 && v > w && !slices.Contains(weights[:j], v) {
				more++
			}
		}
		a |= Accepted(min(3, more)) << (likedAt + 2*i)
	}
	return a
}

// weightOf is the q of parameters in thousandths, 1000 where there is none or what it says is none.
func weightOf(params string) int {
	for p := range strings.SplitSeq(params, ";") {
		name, value, _ := strings.Cut(strings.TrimSpace(p), "=")
		if strings.EqualFold(name, "q") {
			if q, err := strconv.ParseFloat(value, 64); err == nil && q >= 0.001 && q <= 1 {
				return int(q*1000 + 0.5)
			}
			return 1000
		}
	}
	return 1000
}

const imageSlash = "image/"

// zeroWeight reports whether the parameters hold a q of 0 (0, 0.0, 0.00, 0.000).
func zeroWeight(params string) bool {
	for p := range strings.SplitSeq(params, ";") {
		name, value, _ := strings.Cut(strings.TrimSpace(p), "=")
		if strings.EqualFold(name, "q") {
			return strings.Trim(value, "0.") == ""
		}
	}
	return false
}

// Offer is what a negotiated variant may be delivered in: the site's formats in its order, less what the
// client doesn't name and what the quality rules out. JPEG, PNG and GIF stand in at the end, so that there is
// always an answer, with transparency or frames and without.
func (s *Site) Offer(a Accepted, q declare.Quality) []declare.Format {
	offer := s.offers[offerOf(a, q == declare.Lossless)]
	if a == a.formats() { // it likes all as much, as nearly every client does
		return offer
	}
	offer = slices.Clone(offer)
	slices.SortStableFunc(offer, func(f, g declare.Format) int {
		if !f.Named() || !g.Named() {
			return 0
		}
		return a.liked(f) - a.liked(g)
	})
	return offer
}

// offerOf is the place of an offer: a bit for each format that needs naming, and one for lossless.
func offerOf(a Accepted, lossless bool) (i int) {
	for bit, f := range named {
		i |= int(a>>f&1) << bit
	}
	if lossless {
		i |= 1 << len(named)
	}
	switch a.formats() & (NotJPEG | NotPNG) {
	case NotJPEG:
		i |= 1 << (len(named) + 1)
	case NotPNG:
		i |= 2 << (len(named) + 1)
	}
	return i
}

// makeOffers works out what each client is offered, so that requests need not.
func makeOffers(s *Site) [][]declare.Format {
	offers := make([][]declare.Format, 6<<len(named)) // with both of JPEG and PNG, without JPEG, without PNG
	for i := range offers {
		var a Accepted
		for bit, f := range named {
			a |= Accepted(i>>bit&1) << f
		}
		q := declare.Quality(72)
		if i>>len(named)&1 == 1 {
			q = declare.Lossless
		}
		a |= []Accepted{0, NotJPEG, NotPNG}[i>>(len(named)+1)]
		offers[i] = s.offer(a, q)
	}
	return offers
}

func (s *Site) offer(a Accepted, q declare.Quality) []declare.Format {
	offer := make([]declare.Format, 0, 5)
	add := func(f declare.Format) {
		switch {
		case slices.Contains(offer, f), f.Named() && !a.Has(f):
		case f == declare.JPEG && a&NotJPEG != 0, a&NotPNG != 0 && (f == declare.PNG || f == declare.GIF):
		case q == declare.Lossless && !f.CarriesLossless():
		default:
			offer = append(offer, f)
		}
	}
	for _, f := range s.Formats {
		add(f)
	}
	if len(offer) == 0 {
		add(declare.JPEG)
	}
	add(declare.PNG)
	add(declare.GIF)
	if len(offer) == 0 { // lossless, for a client that takes JPEG alone
		offer = append(offer, declare.PNG)
	}
	return offer
}
