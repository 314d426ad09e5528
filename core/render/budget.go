package render

import (
	"fmt"
	"math"

	"echolane/core/codec/gif"
	"echolane/core/codec/png"
	"echolane/core/declare"
	"echolane/core/likeness"
	"echolane/core/metadata"
	"echolane/core/policy"
	"echolane/core/raster"
)

// A budget is how many bytes a variant may have, of which embedded facts take some, and the least quality that the site
// delivers.
type budget struct {
	bytes, facts, floor int
	way                 string // another way out, for a refusal's remedy
}

func budgetOf(job Job, facts metadata.Facts) budget {
	plain := []byte("\xff\xd8\xff\xd9") // what they take is about the same in all formats
	return budget{bytes: int(job.Request.Budget), facts: len(metadata.Embed(plain, facts)) - len(plain), floor: max(1, job.Floor)}
}

func (b budget) keeps(data []byte) bool { return len(data)+b.facts <= b.bytes }

func (b budget) refusal(least int, remedy string) *policy.Refusal {
	least += b.facts
	return policy.No(policy.Refusal{
		Reason: policy.ReasonBudgetOutOfReach, Parameter: "budget", Given: fmt.Sprint(b.bytes),
		Detail:  fmt.Sprintf("the smallest possible variant of this picture at this size has %d bytes", least),
		Allowed: fmt.Sprintf("at least %d", least), Remedy: remedy,
	})
}

// within brings the variant down to a budget.
func (f *finish) within(format declare.Format, data []byte, how Encoding, b budget) ([]byte, Encoding, error) {
	if b.keeps(data) {
		return data, how, nil
	}
	if f.quality == declare.Lossless {
		return nil, how, b.refusal(len(data), "leave quality=lossless out, so that quality can give way, or allow more bytes")
	}
	var e encoder
	has := likeness.Found{Data: data}
	if format == declare.PNG || format == declare.GIF {
		e.Encoder, e.name = f.inColours(format, b.floor), coloursName
		has.Setting = e.Most + e.Step
	} else {
		f.predict = false // bytes count from here on
		var err error
		if e, err = f.encoder(format); err != nil {
			return nil, how, err
		}
		least, _ := settingFor(format, float64(b.floor))
		e.Least = math.Max(e.Least, math.Round(least/e.Step)*e.Step)
		has.Setting, _ = settingFor(format, float64(f.number()))
		for _, t := range how.Trials {
			if t.Bytes == len(data) {
				has.Setting = t.Setting
			}
		}
	}
	return b.squeezed(e.Encoder, e.name, has, how)
}

func coloursName(bits float64) string { return fmt.Sprintf("%d colours", 1<<int(bits)) }

// squeezed is what an encoder can do within a budget that what it has is beyond.
func (b budget) squeezed(e likeness.Encoder, name func(float64) string, has likeness.Found, how Encoding) ([]byte, Encoding, error) {
	has.Setting = math.Max(has.Setting, e.Least+e.Step)
	found, ok, err := likeness.Within(e, has, b.bytes-b.facts)
	if err != nil {
		return nil, how, err
	}
	if !ok {
		return nil, how, b.refusal(min(len(found.Data), len(has.Data)), "allow more bytes, or ask for a smaller width or height"+b.way)
	}
	how.Way, how.Setting = "budget", name(found.Setting)
	how.Likeness = rounded(found.Distance)
	how.Trials = append(how.Trials, found.Trials[1:]...)
	return found.Data, how, nil
}

// palettes are the palettes of 2, 4, 8 to 256 colours, whose settings are their colours' bits. The smallest is the one
// that still comes up to a quality.
func (f *finish) palettes(floor int, write func(p *raster.RGBA, m *raster.Indexed, colours int) ([]byte, error)) likeness.Encoder {
	p := f.straight()
	e := likeness.Encoder{Least: 1, Most: 8, Step: 1}
	for e.Least < e.Most {
		if _, far := f.reduced(p, 1<<int(e.Least)); likeness.Likeness(far) >= float64(floor) {
			break
		}
		e.Least++
	}
	e.Try = func(bits float64) ([]byte, float64, error) {
		colours := 1 << int(bits)
		m, far := f.reduced(p, colours)
		data, err := write(p, m, colours)
		return data, far, err
	}
	return e
}

// inColours is palettes of a still's format.
func (f *finish) inColours(format declare.Format, floor int) likeness.Encoder {
	return f.palettes(floor, func(p *raster.RGBA, m *raster.Indexed, colours int) ([]byte, error) {
		if format == declare.GIF {
			return gif.Encode(p, colours)
		}
		return png.EncodeIndexed(m)
	})
}
