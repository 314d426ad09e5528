package encode

import (
	"fmt"
	"math"

	"echolane/core/codec"
	"echolane/core/codec/formats"
	"echolane/core/declare"
	"echolane/core/likeness"
	"echolane/core/metadata"
	"echolane/core/policy"
	"echolane/core/raster"
)

// A Budget is how many bytes a variant may have, of which embedded facts take some, and the least quality that it may be
// brought down to.
type Budget struct {
	bytes, facts, floor int
	way                 string // another way out, for a refusal's remedy
}

// NewBudget is a budget of so many bytes, facts among them where they aren't counted yet.
func NewBudget(bytes, floor int, facts metadata.Facts) Budget {
	plain := []byte("\xff\xd8\xff\xd9") // what they take is about the same in all formats
	return Budget{bytes: bytes, facts: len(metadata.Embed(plain, facts)) - len(plain), floor: max(1, floor)}
}

func (b Budget) keeps(data []byte) bool { return len(data)+b.facts <= b.bytes }

func (b Budget) refusal(least int, remedy string) *policy.Refusal {
	least += b.facts
	return policy.No(policy.Refusal{
		Reason: policy.ReasonBudgetOutOfReach, Parameter: "budget", Given: fmt.Sprint(b.bytes),
		Detail:  fmt.Sprintf("the smallest possible variant of this picture at this size has %d bytes", least),
		Allowed: fmt.Sprintf("at least %d", least), Remedy: remedy,
	})
}

// Within brings an encoding of the picture down to a budget. Its error is a *policy.Refusal where that can't be.
func (p *Picture) Within(format declare.Format, data []byte, how Encoding, b Budget) ([]byte, Encoding, error) {
	if b.keeps(data) {
		return data, how, nil
	}
	if p.Quality == declare.Lossless {
		return nil, how, b.refusal(len(data), "leave quality=lossless out, so that quality can give way, or allow more bytes")
	}
	w := formats.Writer(format)
	has := likeness.Found{Data: data}
	if w.Lossy == nil {
		e := p.inColours(w, b.floor)
		has.Setting = e.Most + e.Step
		return b.squeezed(e, coloursName, has, how)
	}
	p.Quick = false // bytes count from here on
	e, err := p.encoder(w)
	if err != nil {
		return nil, how, err
	}
	least, _ := usualSetting(w.Fit, float64(b.floor))
	e.Least = math.Max(e.Least, math.Round(least/e.Step)*e.Step)
	has.Setting, _ = usualSetting(w.Fit, float64(p.number()))
	for _, t := range how.Trials {
		if t.Bytes == len(data) {
			has.Setting = t.Setting
		}
	}
	return b.squeezed(e.Encoder, e.own.Name, has, how)
}

func coloursName(bits float64) string { return fmt.Sprintf("%d colours", 1<<int(bits)) }

// squeezed searches for the finest setting within the budget, below the one that was too large.
func (b Budget) squeezed(e likeness.Encoder, name func(float64) string, has likeness.Found, how Encoding) ([]byte, Encoding, error) {
	has.Setting = math.Max(has.Setting, e.Least+e.Step)
	found, ok, err := likeness.Within(e, has, b.bytes-b.facts)
	if err != nil {
		return nil, how, err
	}
	if !ok {
		return nil, how, b.refusal(min(len(found.Data), len(has.Data)), "allow more bytes, or ask for a smaller width or height"+b.way)
	}
	how.Way, how.Setting, how.setting = "budget", name(found.Setting), found.Setting
	how.Likeness = Rounded(found.Distance)
	how.Trials = append(how.Trials, found.Trials[1:]...)
	return found.Data, how, nil
}

// palettes is an encoder whose settings are the bits of a palette: 1 to 8, for 2 to 256 colours. Its least setting is the one
// that still reaches the floor.
func (p *Picture) palettes(floor int, write func(straight *raster.RGBA, m *raster.Indexed, colours int) ([]byte, error)) likeness.Encoder {
	straight := p.Straight()
	e := likeness.Encoder{Least: 1, Most: 8, Step: 1}
	for e.Least < e.Most {
		if _, far := p.reduced(straight, 1<<int(e.Least)); likeness.Likeness(far) >= float64(floor) {
			break
		}
		e.Least++
	}
	e.Try = func(bits float64) ([]byte, float64, error) {
		colours := 1 << int(bits)
		m, far := p.reduced(straight, colours)
		data, err := write(straight, m, colours)
		return data, far, err
	}
	return e
}

// inColours is palettes of a still's format.
func (p *Picture) inColours(w *codec.Writer, floor int) likeness.Encoder {
	return p.palettes(floor, w.Indexed)
}
