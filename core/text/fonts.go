package text

import (
	"fmt"
	"math"
	"slices"
	"strings"
	"sync"

	"github.com/zeebo/blake3"

	"echolane/core/recent"
)

// Bounds on fonts.
const (
	// MostFontBytes is how large a font file may be.
	MostFontBytes = 32 << 20
)

// A Family is one of a site's own: the files that its @font-face rules name.
type Family struct {
	Name  string
	Faces []Face
}

// A Face is one file of a family.
type Face struct {
	File              string // its name among the files
	MinWeight, Weight int    // 0: 400; a variable font goes from one to the other
	Italic            bool
}

// Fonts are what one text is set in: files by name, of the system's fonts or a site's own. What is read from them is kept in the cache.
type Fonts struct {
	files    map[string][]byte
	families []Family
	cache    *Cache
	choosers map[string]*chooser // what was chosen for styles, which no size alters
}

// NewFonts makes them of files. cache may be nil.
func NewFonts(files map[string][]byte, families []Family, cache *Cache) *Fonts {
	if cache == nil {
		cache = NewCache(64 << 20)
	}
	return &Fonts{files, families, cache, map[string]*chooser{}}
}

// A Cache keeps fonts that were read and runs that were shaped, the last used ones within bounds. It is safe for concurrent use.
type Cache struct {
	fonts *recent.Cache[cacheKey, readFont]

	mu   sync.Mutex
	runs runs
}

type cacheKey struct {
	digest [32]byte
	index  int
}

type readFont struct {
	font *fontFace
	err  error
}

// NewCache makes one that holds fonts of about so many bytes.
func NewCache(room int) *Cache {
	return &Cache{fonts: recent.New[cacheKey, readFont](room, math.MaxInt)} // one that is larger is kept alone
}

// Forget drops what is kept.
func (c *Cache) Forget() {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.fonts.Forget()
	c.runs = runs{}
}

// read reads one face of a file. The cache is locked.
func (c *Cache) read(data []byte, system bool, index int) (*fontFace, error) {
	key := cacheKey{index: index}
	if system && len(data) > 1<<20 { // nobody but the service chooses those
		ends := append(slices.Clone(data[:64<<10]), data[len(data)-64<<10:]...)
		key.digest = blake3.Sum256(fmt.Append(ends, len(data)))
	} else {
		key.digest = blake3.Sum256(data)
	}
	if r, ok := c.fonts.Get(key); ok {
		return r.font, r.err
	}
	var r readFont
	size := len(data) + 4096
	if r.font, r.err = parseFont(data, index); r.font != nil {
		if r.font.key = key; r.font.colr != nil {
			size += len(r.font.colr.data) + 8*len(r.font.colr.layers)
		}
	}
	c.fonts.Put(key, r, size)
	return r.font, r.err
}

// parseFont reads one face of a file, which may be anything.
func parseFont(data []byte, index int) (*fontFace, error) {
	if len(data) > MostFontBytes {
		return nil, fmt.Errorf("it has %d bytes, and a font may have %d", len(data), MostFontBytes)
	}
	data, err := unpacked(data)
	if err != nil {
		return nil, err
	}
	f, err := openFace(data, index)
	if err == nil && (f.upem < 16 || f.upem > 16384) {
		return nil, fmt.Errorf("its em has %.0f units", f.upem)
	}
	return f, err
}

// CheckFont reports what is wrong with a font file, nil where it can be used.
func CheckFont(data []byte) error {
	_, err := parseFont(data, 0)
	return err
}

// A face is a font that is drawn with.
type face struct {
	*font
	choice
	ascent, descent float64 // of an em
	gap             float64

	dots, colon, semicolon side // once they were looked at
}

// chooser finds the face for each character of a text.
type chooser struct {
	fonts  *Fonts
	style  Style
	lang   string
	serif  bool
	asked  []*face
	byFile map[choice]*face
	behind map[need][]*face
	broken error // of a site's own font
}

func (f *Fonts) choose(s *Style, lang string) *chooser {
	key := fmt.Sprint(s.Families, s.weight(), s.Italic, s.Variations, lang)
	if c := f.choosers[key]; c != nil {
		return c
	}
	c := f.chooserOf(s, lang)
	f.choosers[key] = c
	return c
}

func (f *Fonts) chooserOf(s *Style, lang string) *chooser {
	c := &chooser{fonts: f, style: *s, lang: lang, byFile: map[choice]*face{}, behind: map[need][]*face{}}
	for i, family := range s.families() {
		c.serif = c.serif || i == 0 && isSerif(family)
		if own := f.family(family); own != nil {
			if got := c.own(own); got != nil {
				c.asked = append(c.asked, got)
			}
			continue
		}
		if p, ok := pick(generic(family), s.bold(), s.Italic); ok {
			if got := c.load(p); got != nil {
				c.asked = append(c.asked, got)
			}
		}
	}
	// Where Debian's fonts aren't there, those that are built in stand for them.
	if got := c.load(choice{file: goFile(s.bold(), s.Italic, false)}); got != nil {
		c.asked = append(c.asked, got)
	}
	return c
}

func (f *Fonts) family(name string) *Family {
	i := slices.IndexFunc(f.families, func(own Family) bool { return strings.EqualFold(own.Name, name) })
	if i < 0 {
		return nil
	}
	return &f.families[i]
}

// own is the face of one of a site's families whose weight and slant are the nearest (CSS Fonts Level 4, section 5.2).
func (c *chooser) own(f *Family) *face {
	best, least := -1, 0
	want := c.style.weight()
	for i, one := range f.Faces {
		hi := one.Weight
		if hi == 0 {
			hi = 400
		}
		lo := one.MinWeight
		if lo == 0 {
			lo = hi
		}
		far := 0
		switch {
		case want >= lo && want <= hi:
		case want < lo:
			far = lo - want
			if want < 400 || want <= 500 && lo > 500 {
				far += 1000
			}
		default:
			far = want - hi
			if want > 500 {
				far += 1000
			}
		}
		if one.Italic != c.style.Italic {
			far += 10_000
		}
		if best < 0 || far < least {
			best, least = i, far
		}
	}
	if best < 0 {
		return nil
	}
	one := f.Faces[best]
	hi := one.Weight
	if hi == 0 {
		hi = 400
	}
	return c.load(choice{file: one.File, bold: want >= 600 && hi < 600, slant: c.style.Italic && !one.Italic})
}

// load reads a face; nil where its file isn't there or can't be read.
func (c *chooser) load(p choice) *face {
	if got, ok := c.byFile[p]; ok {
		return got
	}
	c.byFile[p] = nil
	var data []byte
	system := true
	if built, ok := strings.CutPrefix(p.file, "go:"); ok {
		data = files[built[0]-'0']
	} else if data = c.fonts.files[p.file]; data == nil {
		return nil
	}
	for _, own := range c.fonts.families {
		system = system && !slices.ContainsFunc(own.Faces, func(o Face) bool { return o.File == p.file })
	}
	read, err := c.fonts.cache.read(data, system, p.index)
	if err != nil {
		if !system && c.broken == nil {
			c.broken = &FontError{File: p.file, Err: err}
		}
		return nil
	}
	got := &face{choice: p}
	var axes []Variation
	if read.axes {
		got.bold = false
		axes = append(axes, Variation{"wght", float64(c.style.weight())})
		if c.style.Italic {
			axes = append(axes, Variation{"ital", 1})
		}
	}
	got.font = read.font(append(axes, c.style.Variations...))
	got.ascent, got.descent = 0.95, 0.21
	if a, d, gap, ok := got.extents(); ok {
		got.ascent, got.descent, got.gap = a/got.upem, d/got.upem, gap/got.upem
	}
	c.byFile[p] = got
	return got
}

// FontError says which of a site's fonts can't be read.
type FontError struct {
	File string
	Err  error
}

func (e *FontError) Error() string {
	return fmt.Sprintf("the font %s can't be read: %v", e.File, e.Err)
}
func (e *FontError) Unwrap() error { return e.Err }

// has reports whether a face draws a cluster whole: what leaves nothing needn't be there.
func (f *face) has(cluster []rune) bool {
	for _, r := range cluster {
		if _, ok := f.glyphOf(r); !ok && !leavesNothing(r) && r != '\n' && r != '\t' {
			return false
		}
	}
	return true
}

// of is the face for a cluster of characters; nil where none has them.
func (c *chooser) of(cluster []rune, script string) *face {
	first := cluster[0]
	n := needOf(first, script)
	emoji := isEmoji(first)
	for _, r := range cluster[1:] {
		switch r {
		case 0xFE0F:
			emoji = true
		case 0xFE0E:
			emoji = false
		}
	}
	if emoji {
		if f := c.load(choice{file: emojiFile}); f != nil && f.has(cluster[:1]) {
			return f
		}
	}
	for _, f := range c.asked[:max(0, len(c.asked)-1)] {
		if f.has(cluster) {
			return f
		}
	}
	list, ok := c.behind[n]
	if !ok {
		for _, p := range behind(n, c.serif, c.style.bold(), c.style.Italic, c.lang) {
			if f := c.load(p); f != nil {
				list = append(list, f)
			}
		}
		c.behind[n] = list
	}
	for _, f := range list {
		if f.has(cluster) {
			return f
		}
	}
	if len(c.asked) > 0 && c.asked[len(c.asked)-1].has(cluster) {
		return c.asked[len(c.asked)-1]
	}
	// A mark that no font has together with its letter: the letter's font draws what it can.
	if len(cluster) > 1 {
		return c.of(cluster[:1], script)
	}
	return nil
}

// primary is the face that says how high lines are.
func (c *chooser) primary() *face {
	if len(c.asked) == 0 {
		return nil
	}
	return c.asked[0]
}
