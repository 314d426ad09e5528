package encode

import (
	"math"
	"time"

	"echolane/core/codec"
	"echolane/core/codec/formats"
	"echolane/core/declare"
	"echolane/core/likeness"
	"echolane/core/raster"
)

// A Movie is an animation that is being encoded in one format, frame by frame. It must be freed.
type Movie struct {
	Format  declare.Format // one that carries frames
	Quality declare.Quality
	Quick   bool // predict the setting instead of searching for it
	Plays   int  // how often, 0 for ever
	Opaque  bool // no frame has transparency
	Changes bool // all of the picture changes from frame to frame

	how     Encoding
	setting float64      // found on the first frame
	known   bool         // setting is
	colours int          // of a palette; 0: as many as it holds
	first   *raster.RGBA // the first frame, premultiplied
	out     codec.Animation
}

// Free gives back what the movie holds.
func (m *Movie) Free() {
	m.first.Free()
	if m.out != nil {
		m.out.Close()
	}
}

// How is how the bytes came about.
func (m *Movie) How() Encoding { return m.how }

// Add adds a frame, premultiplied, which it leaves straight.
func (m *Movie) Add(p *raster.RGBA, shown time.Duration) error {
	w := formats.Writer(m.Format)
	if m.first == nil {
		m.first = p.Copy()
		if m.colours == 0 {
			m.colours = mostColours
		}
		var err error
		if m.out, err = w.Animate(p.W, p.H, m.Plays, m.colours, m.Opaque); err != nil {
			return err
		}
		if whole, ok := m.out.(interface{ Changing() codec.Animation }); ok && m.Changes {
			next := whole.Changing()
			m.out.Close()
			m.out = next
		}
		switch {
		case m.known:
		case w.Lossy == nil:
			m.how = Encoding{Way: "palette", Quality: int(m.Quality)}
		default:
			if err := m.begin(w, p); err != nil {
				return err
			}
		}
	}
	p.Unpremultiply()
	return m.out.Add(p, shown, m.setting)
}

// begin finds the setting on the first frame, which holds for all.
func (m *Movie) begin(w *codec.Writer, p *raster.RGBA) error {
	if m.Quality == declare.Lossless {
		m.setting, m.how = codec.Exactly, Encoding{Way: "lossless"}
		return nil
	}
	still := Picture{Pixels: p, Quality: m.Quality, Quick: m.Quick, Frame: true}
	defer still.Free()
	data, how, err := still.lossy(w, Encoding{Quality: still.number(), Kind: still.Kind()})
	if err != nil {
		return err
	}
	if m.Quick && how.Kind == "graphic" && w.OftenLossless { // which a search looks at
		exact, err := w.Lossless(still.Straight(), still.options())
		if err != nil {
			return err
		}
		if len(exact) <= len(data) {
			how.Way, how.Setting, how.setting, how.Quality, how.Provisional = "lossless", "", codec.Exactly, 0, false
		}
	}
	m.how, m.setting = how, how.setting
	return nil
}

// Bytes writes the file.
func (m *Movie) Bytes() ([]byte, error) { return m.out.Bytes() }

// Within makes the animation again with fewer colours or a lower quality, until it's within the budget. film adds all frames
// to a movie and gives its bytes. Its error is a *policy.Refusal where that can't be.
func (m *Movie) Within(film func(*Movie) ([]byte, error), data []byte, b Budget) ([]byte, error) {
	if b.keeps(data) {
		return data, nil
	}
	if m.Quality == declare.Lossless {
		return nil, b.refusal(len(data), "leave quality=lossless out, so that quality can give way, or ask for a smaller width or for animation=none")
	}
	b.way = ", or for animation=none"
	w := formats.Writer(m.Format)
	still := Picture{Pixels: m.first, Quality: m.Quality}
	defer still.Free()
	again := func(colours int, setting float64) ([]byte, error) {
		n := &Movie{Format: m.Format, Quality: m.Quality, Plays: m.Plays, Opaque: m.Opaque, Changes: m.Changes, colours: colours, setting: setting, known: true}
		defer n.Free()
		return film(n)
	}
	has := likeness.Found{Data: data}
	if w.Lossy == nil {
		e := still.palettes(b.floor, func(_ *raster.RGBA, _ *raster.Indexed, colours int) ([]byte, error) { return again(colours, 0) })
		has.Setting = e.Most + e.Step
		var err error
		data, m.how, err = b.squeezed(e, coloursName, has, m.how)
		return data, err
	}
	e, err := still.encoder(w)
	if err != nil {
		return nil, err
	}
	first := e.Try
	least, _ := usualSetting(w.Fit, float64(b.floor))
	e.Least = math.Round(least/e.Step) * e.Step
	e.Try = func(setting float64) ([]byte, float64, error) {
		_, far, err := first(setting)
		if err != nil {
			return nil, 0, err
		}
		data, err := again(mostColours, setting)
		return data, far, err
	}
	if has.Setting = e.Most + e.Step; m.setting != codec.Exactly {
		has.Setting = m.setting
	}
	data, m.how, err = b.squeezed(e.Encoder, e.own.Name, has, m.how)
	return data, err
}
