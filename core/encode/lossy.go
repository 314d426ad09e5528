package encode

import (
	"errors"
	"math"
	"sync"

	"golang.org/x/sync/errgroup"

	"echolane/core/codec"
	"echolane/core/codec/formats"
	"echolane/core/likeness"
	"echolane/core/raster"
)

// lossy writes the picture at the setting that its quality needs.
func (p *Picture) lossy(w *codec.Writer, how Encoding) ([]byte, Encoding, error) {
	quality := float64(how.Quality)
	if w.Direct != nil {
		data, setting, final, err := w.Direct(p, how.Quality, p.Quick)
		if err != nil || data != nil {
			if how.Way, how.Setting = "direct", setting; !final {
				how.Way, how.Provisional = "predicted", true
			}
			return data, how, err
		}
	}
	if p.light = false; w.Light != nil && !p.Quick {
		var err error
		if p.light, err = w.Light(p, p.options(), predictedSetting(w.Fit, quality, p.texture())); err != nil {
			return nil, how, err
		}
	}
	if p.Quick {
		large := p.large(w)
		p.strips = large != nil && large.H >= leastHigh
	}
	e, err := p.encoder(w)
	if err != nil {
		return nil, how, err
	}
	texture := p.texture()
	guess := math.Min(e.Most, math.Max(e.Least, predictedSetting(w.Fit, quality, texture)+e.own.Finer))
	slope := predictedSlope(w.Fit, quality, texture)
	if p.Quick {
		return p.predicted(w, e, guess, slope, how)
	}
	found, how, err := p.searched(w, e, guess, slope, how)
	if err != nil {
		return nil, how, err
	}
	how.Setting, how.setting, how.Trials = e.own.Name(found.Setting), found.Setting, found.Trials
	how.Likeness = Rounded(found.Distance)
	switch {
	case found.Setting >= e.Most && how.Likeness < how.Aim:
		how.Bound = "finest"
	case found.Setting <= e.Least && how.Likeness > how.Aim:
		how.Bound = "coarsest"
	}
	if how.Kind == "graphic" && w.OftenLossless {
		if data, err := w.Lossless(p.Straight(), p.options()); err == nil && len(data) <= len(found.Data) {
			how.Way, how.Setting, how.setting, how.Likeness, how.Quality, how.Bound = "lossless", "", codec.Exactly, 100, 0, ""
			return data, how, nil
		}
	}
	return found.Data, how, nil
}

// An encoder is a format's encoder whose results are looked at.
type encoder struct {
	likeness.Encoder
	own *codec.Encoder
}

// encoder opens the picture for a format. It is the picture's to free.
func (p *Picture) encoder(w *codec.Writer) (encoder, error) {
	own, err := w.Lossy(p, p.options())
	if err != nil {
		return encoder{}, err
	}
	if own.Free != nil {
		p.opened = append(p.opened, own.Free)
	}
	e := encoder{own: own}
	e.Least, e.Most, e.Step = own.Least, own.Most, own.Step
	original := p.original
	if !p.Opaque() && own.Read != nil { // it's laid on the matte
		original = sync.OnceValue(func() *likeness.Picture { return likeness.OfPlanes(p.Planes()) })
	}
	if own.Show != nil {
		e.Try = func(s float64) (data []byte, distance float64, err error) {
			show, write := own.Show(s)
			var file errgroup.Group // beside the look
			file.Go(func() (err error) {
				data, err = write()
				return err
			})
			planes := show()
			defer planes.Free()
			shown := p.look(planes, likeness.OfShown)
			defer shown.Free()
			distance = original().Distance(shown)
			err = file.Wait()
			return data, distance, err
		}
		return e, nil
	}
	e.Try = func(s float64) ([]byte, float64, error) {
		data, err := own.Write(s)
		if err != nil {
			return nil, 0, err
		}
		shown, err := p.read(own, data)
		if err != nil {
			return nil, 0, err
		}
		defer shown.Free()
		return data, original().Distance(shown), nil
	}
	return e, nil
}

// read is what a file of the picture looks like.
func (p *Picture) read(own *codec.Encoder, data []byte) (*likeness.Picture, error) {
	if own.Read != nil {
		planes, err := own.Read(data)
		if err != nil {
			return nil, err
		}
		defer planes.Free()
		return p.look(planes, likeness.OfShown), nil
	}
	format := formats.Of(formats.Sniff(data))
	if format == nil {
		return nil, errors.New("what was encoded is of no format that is read")
	}
	shown, err := format.Decode(data, codec.Want{})
	if err != nil {
		return nil, err
	}
	defer shown.Free()
	shown.RGBA.Premultiply()
	return likeness.OfPixels(shown.RGBA), nil
}

// look is what planes look like, by of: as a whole, or in strips.
func (p *Picture) look(planes *raster.YCbCr, of func(*raster.YCbCr) *likeness.Picture) *likeness.Picture {
	if !p.strips {
		return of(planes)
	}
	planes = stripsOf(planes)
	defer planes.Free()
	return of(planes)
}
