package policy

import (
	"fmt"
	"math"
	"net/netip"
	"reflect"
	"slices"
	"sort"
	"strings"
	"time"

	"echolane/core/declare"
	"echolane/core/sheet"
	"echolane/core/wording"
)

// A Trouble is one thing that is wrong with a document, or, as a warning, more open than it may be meant.
type Trouble struct {
	Path    string `json:"path"`              // where it stands, such as lanes[1].allow[0]
	Given   string `json:"given,omitempty"`   // what stands there
	Detail  string `json:"detail"`            // what is wrong, or what it opens
	Allowed string `json:"allowed,omitempty"` // what may stand there
	Nearest string `json:"nearest,omitempty"` // the nearest right word
}

func (t Trouble) String() string {
	s := t.Path + ": " + t.Detail
	if t.Nearest != "" {
		s += fmt.Sprintf("; did you mean %s?", t.Nearest)
	}
	return s
}

// Troubles is the error that Compile gives: everything that is wrong, in the document's order.
type Troubles []Trouble

func (ts Troubles) Error() string { return wording.Join(ts, "; ") }

// BadDocument is the refusal for a document with troubles.
func BadDocument(ts Troubles) *Refusal {
	r := No(Refusal{Reason: ReasonBadSettings, Parameter: ts[0].Path, Given: ts[0].Given, Allowed: ts[0].Allowed, Detail: ts[0].Detail, Remedy: "correct " + ts[0].Path})
	if ts[0].Nearest != "" {
		r.Remedy = fmt.Sprintf("write %s instead of %s", ts[0].Nearest, ts[0].Given)
	}
	if len(ts) > 1 {
		for _, t := range ts {
			r.Problems = append(r.Problems, t.String())
		}
	}
	return r
}

// compiler gathers what is found on the way.
type compiler struct {
	troubles Troubles
	warnings []Trouble
}

func (c *compiler) wrong(t Trouble) { c.troubles = append(c.troubles, t) }
func (c *compiler) warn(t Trouble)  { c.warnings = append(c.warnings, t) }

func (c *compiler) choice(path, given string, words ...string) int {
	if i := slices.Index(words, given); i >= 0 {
		return i
	}
	c.wrong(Trouble{Path: path, Given: given, Detail: fmt.Sprintf("%q isn't one of its words", given), Allowed: strings.Join(words, ", "), Nearest: wording.Nearest(given, words)})
	return 0
}

// word is the place of a field's value among its words.
func word[T any](c *compiler, path, given, field string) int {
	f, _ := reflect.TypeFor[T]().FieldByName(field)
	return c.choice(path, given, strings.Fields(f.Tag.Get(Words))...)
}

func within[T int | int64 | float64](c *compiler, path string, v, least, most T) {
	if v < least || v > most {
		c.wrong(Trouble{Path: path, Given: fmt.Sprint(v), Detail: fmt.Sprintf("%v is out of range", v), Allowed: fmt.Sprintf("%v to %v", least, most)})
	}
}

// IsName reports whether a site, a lane or a key may be called so.
func IsName(s string) bool {
	if len(s) == 0 || len(s) > 64 || s[0] == '-' || s[len(s)-1] == '-' {
		return false
	}
	return !strings.ContainsFunc(s, func(r rune) bool { return !(r >= 'a' && r <= 'z' || r >= '0' && r <= '9' || r == '-') })
}

// failureMemory is how long a source that can't be had isn't asked for again, where its lane doesn't say.
const failureMemory = 5 * time.Second

const nameAllowed = "1 to 64 of a–z, 0–9 and -, not beginning or ending with -"

// Compile makes a site of its document, whose lanes are of the kinds. Its error is Troubles. The warnings name what is accepted although it
// opens more than most would want.
func Compile(d Document, kinds LaneKinds) (*Site, []Trouble, error) {
	c := &compiler{}
	s := &Site{Name: d.Site, Hosts: d.Hosts}
	if !IsName(d.Site) {
		c.wrong(Trouble{Path: "site", Given: d.Site, Detail: fmt.Sprintf("%q can't be a site's name", d.Site), Allowed: nameAllowed})
	}
	for i, h := range d.Hosts {
		if !isHost(h) {
			c.wrong(Trouble{Path: fmt.Sprintf("hosts[%d]", i), Given: h, Detail: fmt.Sprintf("%q isn't a host name", h), Allowed: "a host name in lower case without port, such as img.kestrel.test"})
		}
	}
	c.sheet(s, d)
	c.formats(s, d.Formats)
	c.shapes(s, d.Shapes)
	s.Effort = Effort(word[Document](c, "effort", d.Effort, "Effort"))
	s.GrowByClassOnly = word[Document](c, "grow", d.Grow, "Grow") == 1
	s.PaintByClassOnly = word[Document](c, "paint", d.Paint, "Paint") == 1
	c.ladder(s, d.Ladder)
	c.limits(s, d.Limits)
	c.numbers("month", MonthNumbers, &d.Month)
	s.Month = d.Month
	c.pages(s, d.Pages)
	s.Unsigned = Unsigned(word[Signing](c, "signing.unsigned", d.Signing.Unsigned, "Unsigned"))
	if s.Unsigned == UnsignedLadder && len(s.Rungs) == 0 {
		c.wrong(Trouble{Path: "signing.unsigned", Given: "ladder", Detail: "unsigned requests may ask for the ladder's widths, and the site has no ladder", Allowed: "anything, nothing, or ladder with ladder.rungs"})
	}
	c.cards(s, d.Cards)
	seen := map[string]bool{}
	for i := range d.Lanes {
		path := fmt.Sprintf("lanes[%d]", i)
		if seen[d.Lanes[i].Name] {
			c.wrong(Trouble{Path: path + ".name", Given: d.Lanes[i].Name, Detail: "another lane has this name", Allowed: "a name of its own"})
		}
		seen[d.Lanes[i].Name] = true
		s.Lanes = append(s.Lanes, c.lane(path, &d.Lanes[i], s.Limits, kinds))
	}
	if c.troubles != nil {
		return nil, c.warnings, c.troubles
	}
	return s, c.warnings, nil
}

// sheet reads the site's stylesheet.
func (c *compiler) sheet(s *Site, d Document) {
	read, err := sheet.Parse(d.Sheet)
	if err != nil {
		for _, p := range err.(sheet.Problems) {
			c.wrong(Trouble{Path: "sheet", Given: p.Given, Detail: p.String(), Allowed: p.Allowed, Nearest: p.Nearest})
		}
		read = &sheet.Sheet{}
	}
	s.Sheet, s.Defaults = read, read.Base()
}

func (c *compiler) formats(s *Site, names []string) {
	for i, n := range names {
		path := fmt.Sprintf("formats[%d]", i)
		f := declare.ParseFormat(n)
		if f == declare.FormatUnset || f.String() != n {
			c.wrong(Trouble{Path: path, Given: n, Detail: fmt.Sprintf("there is no format %q", n), Allowed: strings.Join(declare.FormatNames(), ", "), Nearest: wording.Nearest(n, declare.FormatNames())})
			continue
		}
		if slices.Contains(s.Formats, f) {
			c.wrong(Trouble{Path: path, Given: n, Detail: n + " is named twice", Allowed: "each format once"})
		}
		s.Formats = append(s.Formats, f)
	}
	if len(names) == 0 {
		c.wrong(Trouble{Path: "formats", Detail: "a site needs at least one format", Allowed: strings.Join(declare.FormatNames(), ", ")})
	}
	s.offers = makeOffers(s)
}

func (c *compiler) shapes(s *Site, shapes []string) {
	for i, text := range shapes {
		d, err := declare.Parse("aspect-ratio=" + strings.ReplaceAll(text, "&", "%26"))
		if err != nil || d.Aspect.String() != text {
			near := ""
			if err == nil {
				near = d.Aspect.String()
			}
			c.wrong(Trouble{Path: fmt.Sprintf("shapes[%d]", i), Given: text, Detail: fmt.Sprintf("%q isn't an aspect ratio in its shortest spelling", text), Allowed: "such as 1, 3/2 or 1.91", Nearest: near})
			continue
		}
		s.Shapes = append(s.Shapes, d.Aspect)
	}
}

const maxRungs = 64

func (c *compiler) ladder(s *Site, l Ladder) {
	s.RoundUp = word[Ladder](c, "ladder.other", l.Other, "Other") == 1
	if len(l.Rungs) > maxRungs {
		c.wrong(Trouble{Path: "ladder.rungs", Given: fmt.Sprint(len(l.Rungs)), Detail: "the ladder has too many rungs", Allowed: fmt.Sprintf("at most %d", maxRungs)})
	}
	for i, r := range l.Rungs {
		within(c, fmt.Sprintf("ladder.rungs[%d]", i), r, 1, 65535)
		if i > 0 && r <= l.Rungs[i-1] {
			c.wrong(Trouble{Path: fmt.Sprintf("ladder.rungs[%d]", i), Given: fmt.Sprint(r), Detail: "rungs go upwards, each once", Allowed: fmt.Sprintf("more than %d", l.Rungs[i-1])})
		}
		s.Rungs = append(s.Rungs, float64(r))
	}
}

func (c *compiler) limits(s *Site, b Bounds) {
	c.numbers("limits", LimitNumbers, &b)
	if b.QualityFloor > b.QualityCeiling {
		c.wrong(Trouble{Path: "limits.quality_floor", Given: fmt.Sprint(b.QualityFloor), Detail: "the floor lies above the ceiling", Allowed: fmt.Sprintf("at most limits.quality_ceiling, %d", b.QualityCeiling)})
	}
	if q := s.Defaults.Quality; q != 0 && !qualityWithin(q, b.QualityFloor, b.QualityCeiling) {
		c.wrong(Trouble{Path: "sheet", Given: "quality: " + q.String(), Detail: "the quality of every picture lies outside the site's own bounds", Allowed: fmt.Sprintf("%d to %d", b.QualityFloor, b.QualityCeiling)})
	}
	if n := len(s.Rungs); n > 0 && int(s.Rungs[n-1]) > b.Width {
		c.wrong(Trouble{Path: fmt.Sprintf("ladder.rungs[%d]", n-1), Given: fmt.Sprint(s.Rungs[n-1]), Detail: "the rung is wider than what the site delivers", Allowed: fmt.Sprintf("at most limits.width, %d", b.Width)})
	}
	s.Limits = Limits{
		SourceBytes: b.SourceBytes, SourcePixels: b.SourcePixels, SourceFrames: b.SourceFrames,
		Width: b.Width, Height: b.Height, Pixels: b.Pixels, RenderTime: time.Duration(b.RenderMS) * time.Millisecond,
	}
	s.QualityFloor, s.QualityCeiling = b.QualityFloor, b.QualityCeiling
	s.AnimationFrames, s.AnimationFPS = b.AnimationFrames, b.AnimationFPS
	s.VariantsPerSource, s.RequestsPerSecond, s.FormatsTried = b.VariantsPerSource, b.RequestsPerSecond, b.FormatsTried
}

func (c *compiler) pages(s *Site, p Pages) {
	s.SilentRefused = word[Pages](c, "pages.silent", p.Silent, "Silent") == 1
	for i, text := range p.Allow {
		path := fmt.Sprintf("pages.allow[%d]", i)
		r, err := readOrigin(text)
		if err != nil {
			c.wrong(Trouble{Path: path, Given: text, Detail: err.Error(), Allowed: "an origin such as https://www.kestrel.test or https://*.kestrel.test"})
			continue
		}
		c.tooOpen(path, r)
		s.Pages = append(s.Pages, r)
	}
	if s.SilentRefused && len(p.Allow) == 0 {
		c.wrong(Trouble{Path: "pages.silent", Given: "refuse", Detail: "every page may embed, so what says nothing can't be refused", Allowed: "allow, or refuse with pages.allow"})
	}
}

func (c *compiler) lane(path string, l *Lane, limits Limits, kinds LaneKinds) *CompiledLane {
	out := &CompiledLane{Lane: *l, Limits: limits}
	if l.FreshS == nil || l.MaxAgeS == nil {
		complete := *l
		complete.Complete(kinds)
		l = &complete
		out.Lane = complete
	}
	out.Fresh, out.MaxAge = time.Duration(*l.FreshS)*time.Second, time.Duration(*l.MaxAgeS)*time.Second
	if !IsName(l.Name) {
		c.wrong(Trouble{Path: path + ".name", Given: l.Name, Detail: fmt.Sprintf("%q can't be a lane's name", l.Name), Allowed: nameAllowed})
	}
	c.choice(path+".kind", l.Kind, kinds.Names()...)
	out.Signed = word[Lane](c, path+".visibility", l.Visibility, "Visibility") == 1
	word[Lane](c, path+".original", l.Original, "Original")
	word[Lane](c, path+".metadata", l.Metadata, "Metadata")
	word[Lane](c, path+".svg", l.SVG, "SVG")
	word[Lane](c, path+".unshared", l.Unshared, "Unshared")
	within(c, path+".fresh_s", *l.FreshS, 0, 366*86400)
	within(c, path+".max_age_s", *l.MaxAgeS, 0, 366*86400)
	out.Missing = min(max(out.Fresh, time.Second), failureMemory) // what is taken to be unchanged for longer is also taken to be missing for longer
	out.Failing = failureMemory
	if l.MissingS != nil {
		out.Missing = time.Duration(*l.MissingS) * time.Second
		out.Failing = out.Missing
		within(c, path+".missing_s", *l.MissingS, 0, 3600)
	}
	out.SharedMaxAge = -1
	if l.CDNMaxAgeS != nil {
		out.SharedMaxAge = int64(*l.CDNMaxAgeS)
		within(c, path+".cdn_max_age_s", *l.CDNMaxAgeS, 0, 366*86400)
	}
	if l.SourceBytes != 0 {
		within(c, path+".source_bytes", l.SourceBytes, 1024, limits.SourceBytes)
		out.Limits.SourceBytes = l.SourceBytes
	}
	kind := kinds.Of(l.Kind)
	c.ofKind(path, l, kind, kinds)
	if kind != nil {
		out.TakesURL, out.Place = kind.TakesURL(l), kind.place(l)
	}
	c.fetched(path, l, out)
	if l.Folder != "" && (!strings.HasPrefix(l.Folder, "/") || strings.Contains(l.Folder, "\x00")) {
		c.wrong(Trouble{Path: path + ".folder", Given: l.Folder, Detail: "the folder's path isn't absolute", Allowed: "an absolute path on the machines that the service runs on, such as /srv/kestrel/catalogue"})
	}
	if l.Endpoint != "" {
		u, err := ReadURL(l.Endpoint)
		switch {
		case err != nil:
			c.wrong(Trouble{Path: path + ".endpoint", Given: l.Endpoint, Detail: err.Error(), Allowed: "an http or https URL"})
		case u.Scheme() == "http":
			c.warn(Trouble{Path: path + ".endpoint", Given: l.Endpoint, Detail: "plain http: whoever sits between can read and change the sources"})
		}
	}
	for i, text := range l.Private {
		p, err := netip.ParsePrefix(text)
		if err != nil {
			a, e := netip.ParseAddr(text)
			if p = netip.PrefixFrom(a, a.BitLen()); e != nil {
				c.wrong(Trouble{Path: fmt.Sprintf("%s.private[%d]", path, i), Given: text, Detail: fmt.Sprintf("%q is neither an address nor a network", text), Allowed: "such as 10.2.0.0/16 or 127.0.0.1"})
				continue
			}
		}
		if p.Bits() == 0 {
			c.warn(Trouble{Path: fmt.Sprintf("%s.private[%d]", path, i), Given: text, Detail: "opens every address, those of this machine and of its network among them"})
		}
		out.Private = append(out.Private, p.Masked())
	}
	return out
}

// fetched reads the base and the rules of what is fetched by its URL.
func (c *compiler) fetched(path string, l *Lane, out *CompiledLane) {
	if l.Base != "" {
		u, err := ReadURL(l.Base)
		switch {
		case err != nil:
			c.wrong(Trouble{Path: path + ".base", Given: l.Base, Detail: err.Error(), Allowed: "an http or https URL that ends with /"})
		case !strings.HasSuffix(u.Pathname(), "/") || u.Search() != "" || u.Hash() != "":
			c.wrong(Trouble{Path: path + ".base", Given: l.Base, Detail: "paths are appended to the base, so it must end with / and have no query", Allowed: "such as https://photos.kestrel.test/press/"})
		default:
			out.BaseURL = u.Href(true)
		}
	}
	for _, list := range []struct {
		name  string
		texts []string
		to    *[]Rule
	}{{"deny", l.Deny, &out.Deny}, {"allow", l.Allow, &out.Allow}} {
		for i, text := range list.texts {
			at := fmt.Sprintf("%s.%s[%d]", path, list.name, i)
			r, err := ReadRule(text)
			if err != nil {
				c.wrong(Trouble{Path: at, Given: text, Detail: err.Error(), Allowed: "a URL pattern, such as https://*.kestrel.test/press/*"})
				continue
			}
			if list.name == "allow" {
				c.tooOpen(at, r)
			}
			*list.to = append(*list.to, r)
		}
	}
}

// ProposeLadder gives rungs from least to most (device pixels) so that no picture delivered at the next rung
// up has more than waste (such as 0.3) times too many pixels. Rungs are round numbers: multiples of 8, above
// 512 of 16.
func ProposeLadder(least, most int, waste float64) []int {
	step := math.Sqrt(1 + waste)
	var rungs []int
	add := func(v float64) {
		grain := 8.0
		if v > 512 {
			grain = 16
		}
		r := int(math.Round(v/grain) * grain)
		if n := len(rungs); r > 0 && (n == 0 || r > rungs[n-1]) {
			rungs = append(rungs, r)
		}
	}
	n := math.Ceil(math.Log(float64(most)/float64(least)) / math.Log(step))
	if n < 1 {
		n = 1
	}
	for i := 0.0; i <= n; i++ {
		add(float64(least) * math.Pow(float64(most)/float64(least), i/n))
	}
	sort.Ints(rungs)
	return rungs
}
