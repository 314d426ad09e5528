package codec

import (
	"time"

	"echolane/core/raster"
)

// A Format is one image format as the rest of the core sees it: how its files are told and read and, where variants are
// written in it, how. What a format can't do is nil. Its functions are safe for concurrent use.
type Format struct {
	Type    string   // media type, such as image/jpeg
	Name    string   // as people write it, such as JPEG
	Endings []string // of file names, such as .jpg; the usual one first

	// Sniff reports whether a file is of this format, by its first bytes.
	Sniff func(data []byte) bool
	// Probe reads the header. Its error is an *Error.
	Probe func(data []byte) (Info, error)
	// Decode gives the picture as stored, of an animation its first frame. Its error is an *Error.
	Decode func(data []byte, w Want) (Picture, error)
	// Draw draws a part of a picture that has no pixels of its own on w×h pixels, straight. images reads pictures that it holds
	// in itself, premultiplied. Its error is an *Error.
	Draw func(data []byte, part Part, w, h int, images func(data []byte) (*raster.RGBA, error)) (*raster.RGBA, error)
	// Scales says that Decode can give the picture at a reduced size.
	Scales bool
	// Frames gives an animation's frames in their order, straight, each with the time that it is shown. It ends with the
	// first error of each.
	Frames func(data []byte, each func(p *raster.RGBA, shown time.Duration) error) error
	// Quality is the quality on libjpeg's scale, 1–100, that a file was written at; 0 where it can't be told.
	Quality func(data []byte) int

	// Write is how variants are written in this format; nil for one that is only read.
	Write *Writer
}

// A Part is a rectangle of a drawing, in pixels of its own size.
type Part struct{ X, Y, W, H float64 }

// Want says what is wanted of a picture. A format gives more where it can't leave the rest out.
type Want struct {
	Scale  int  // the size in eighths of the stored one: 8, 4, 2 or 1; sides round up. 0 means 8.
	Rows   int  // rows of the picture at that size, from the top; 0 means all
	Planes bool // the file's own YCbCr planes
}

// A Writer is how a format is written.
type Writer struct {
	MaxSide int  // the longest side that the format can hold; 0: any
	Embeds  bool // Exif and XMP are put in while encoding; into other formats they are put afterwards

	// Lossless keeps every pixel of a picture with straight alpha. Few reports whether that takes a palette.
	Lossless func(p *raster.RGBA, o Options) ([]byte, error)
	Few      func(p *raster.RGBA) bool

	// Lossy opens a picture for writing at one setting after the other, and Fit says which settings those are likely to be.
	Lossy func(p Painted, o Options) (*Encoder, error)
	Fit   *Fit
	// FullChroma says that Lossy keeps colour at full size where edges between colours would show.
	FullChroma bool
	// Pixels says that Lossy wants pixels, whatever the source has.
	Pixels bool
	// OftenLossless says that drawings often take fewer bytes with every pixel kept.
	OftenLossless bool
	// Direct writes at a quality of libjpeg's scale without a search, and names the setting: nothing where it should be
	// searched for. final says that a search comes to nothing better.
	Direct func(p Painted, quality int, quick bool) (data []byte, setting string, final bool, err error)
	// Light reports whether a picture takes so little time to write that it can have more, by one quick encode at a setting.
	Light func(p Painted, o Options, setting float64) (bool, error)

	// Indexed writes a picture in at most so many colours: p is straight, m the same with a palette, which a format without
	// Lossless finds by itself.
	Indexed func(p *raster.RGBA, m *raster.Indexed, colours int) ([]byte, error)

	// Apart says that Animate codes each frame by itself, which takes more bytes than formats do that code what changes.
	Apart bool

	// FromJPEG writes a JPEG's own coefficients: the very same picture in fewer bytes. It errs on JPEGs that the format has no room for.
	FromJPEG func(data []byte) ([]byte, error)

	// Animate begins an animation of w×h pixels that plays so often, 0 for ever, with at most so many colours a frame where
	// frames have palettes. opaque says that no frame has transparency.
	Animate func(w, h, plays, colours int, opaque bool) (Animation, error)
	// Forever says that animations of the format play for ever, whatever plays says.
	Forever bool
}

// Options are how a picture is written, whatever its setting.
type Options struct {
	Effort    Effort
	Quick     bool // a first answer waits for it
	Area      int  // pixels of the whole, of which the picture may be a part; effort depends on it
	Light     bool // it takes so little time that it can have more
	Frame     bool // it is the first of an animation's frames, which are all written alike
	Exif, XMP []byte
}

// Effort is how much time is taken to have fewer bytes.
type Effort uint8

// The efforts.
const (
	Usual    Effort = iota // for what is kept
	First                  // for a first answer
	Thorough               // for what is kept, where the fewest bytes are wanted
)

// Painted is a picture in front of an encoder.
type Painted interface {
	Size() (w, h int)
	Opaque() bool            // no pixel is transparent
	SharpColour() bool       // it has edges between colours that show only with colour at full size
	Planes() *raster.YCbCr   // 4:2:0, Full range; on the matte where it's transparent. Not the caller's to free.
	Straight() *raster.RGBA  // straight alpha. Not the caller's to free.
	Flattened() *raster.RGBA // on the matte where it's transparent. The caller's to free.
}

// An Encoder is one picture in front of one format's encoder. It isn't safe for concurrent use.
type Encoder struct {
	Least, Most, Step float64 // the settings between which it can choose, coarsest and finest, and what they round to
	Finer             float64 // how much finer its settings have to be than Fit says
	Near              float64 // how near a search comes, in points of quality; 0: as near as is usual
	Glances           int     // how many encodes of a first answer take no longer than one of what is kept

	// Name is a setting in the encoder's own terms.
	Name func(setting float64) string
	// Write encodes at a setting.
	Write func(setting float64) ([]byte, error)
	// Read gives what was written in planes, which the caller frees; nil: it is compared in pixels.
	Read func(data []byte) (*raster.YCbCr, error)
	// Show encodes as far as needed to say what decoders show; shown gives that, which the caller frees, and file the bytes.
	// They may be called at the same time, once each. nil: it has to be written and decoded.
	Show func(setting float64) (shown func() *raster.YCbCr, file func() ([]byte, error))
	// Free gives back what it has made, once it isn't used any more; nil: there is nothing.
	Free func()
}

// Exactly is the setting of an animation's frames that keeps every visible pixel.
const Exactly = -1

// An Animation is being written. It must be closed.
type Animation interface {
	// Add adds a frame, straight, of the size of the first, at a setting of the format's Encoder, or Exactly.
	Add(p *raster.RGBA, shown time.Duration, setting float64) error
	// Bytes writes the file.
	Bytes() ([]byte, error)
	// Close frees what the animation holds.
	Close()
}

// A Fit says which settings of an encoder make pictures as good as libjpeg-turbo's qualities do. `go run ./bench/qualitytable`
// makes the tables anew from the corpus.
type Fit struct {
	// Settings are qualities, upwards, with the setting of the median picture.
	Settings [][2]float64
	// Easy is the same for the tenth of pictures that need the coarsest settings; nil: unknown.
	Easy [][2]float64
	// Lines are what the setting depends on in a picture, at some qualities, upwards.
	Lines []Line
	// Harder is how many points of quality the measure of likeness asks more of the format than the median of four other
	// measures does, on the median picture. coarse is 0 from quality 90 on and 1 up to 50.
	Harder func(coarse float64, graphic bool) float64
	// FirstHarder is the same of first answers, where they are made by other means than what is kept; nil: as Harder.
	FirstHarder func(coarse float64, graphic bool) float64
	// Seams is by how many points of quality more than seams alone explain the parts of a large picture look coarser than the
	// whole at the same setting (go run ./bench/parts); nil: none.
	Seams func(coarse float64) float64
}

// A Line is the setting that a picture needs at a quality, from its texture: the quality, a base, and what each of these adds:
// the step that loses as much as libjpeg-turbo, the picture's busyness, and the share of its plain blocks.
type Line [5]float64

// Quality is the quality that the line is for.
func (l Line) Quality() float64 { return l[0] }

// Setting is the setting of a picture of this texture.
func (l Line) Setting(step, busy, plain float64) float64 {
	return l[1] + l[2]*step + l[3]*busy + l[4]*plain
}

// QualityOf is the quality at which a picture that is easy to compress needs a setting: none was written at a higher one.
// What lies beyond the finest mark is unknown, 0.
func (f *Fit) QualityOf(setting float64) int {
	for i := len(f.Easy) - 1; i > 0; i-- {
		a, b := f.Easy[i-1], f.Easy[i]
		if setting < a[1] {
			continue
		}
		if i == len(f.Easy)-1 && setting >= b[1] {
			return 0
		}
		return max(1, int(a[0]+(b[0]-a[0])*(setting-a[1])/max(1e-9, b[1]-a[1])+0.5))
	}
	return 1
}
