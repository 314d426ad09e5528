package conformance

import (
	"fmt"
	"html"
	"image"
	"strings"

	"echolane/core/declare"
	"echolane/core/policy"
	"echolane/core/render"
	"echolane/service/workshop"
)

// A Layered case is a picture with layers: the same rules go to both sides.
type Layered struct {
	Name   string
	W, H   int     // of the slot
	Slot   string  // what else the picture's own rule says, as of the slot
	Layers []Box   // from the bottom up
	Least  float64 // PSNR; 0: 30
}

// Box is one layer's rule, and its text where it has one.
type Box struct {
	Rule, Text string
}

const plainGround = "background-color: #eef2f7"

// ours makes the case by the core.
func (c Layered) ours(source Source, named ...Source) (*image.RGBA, error) {
	doc := policy.NewDocument("kites")
	doc.Sheet = c.sheet()
	site, _, err := policy.Compile(doc, nil)
	if err != nil {
		return nil, fmt.Errorf("%w in %s", err, doc.Sheet)
	}
	d, err := declare.Parse("class=card")
	if err != nil {
		return nil, err
	}
	r, no := site.Decide(&policy.Ask{Lane: &policy.CompiledLane{}, Declared: d, Accepted: policy.AcceptsAll}, nil)
	if no != nil {
		return nil, no
	}
	job := render.Job{Request: r, Limits: policy.DefaultLimits, Pictures: map[string][]byte{}}
	for _, s := range named {
		job.Pictures["lane/"+s.Name] = s.Data
	}
	if err := workshop.ReadFonts(&job); err != nil {
		return nil, err
	}
	p, err := render.Paint(source.Data, job)
	if err != nil {
		return nil, err
	}
	return &image.RGBA{Pix: p.Pix, Stride: p.Stride, Rect: image.Rect(0, 0, p.W, p.H)}, nil
}

// sheet is the case as a sheet has it.
func (c Layered) sheet() string {
	var sheet strings.Builder
	fmt.Fprintf(&sheet, ".card { width: %dpx; height: %dpx; object-fit: cover; %s }\n", c.W, c.H, c.Slot)
	for i, l := range c.Layers {
		rule := l.Rule
		if l.Text != "" {
			rule = "font-family: Noto Sans; " + rule
			rule += "; content: " + cssQuoted(l.Text)
		} else if !strings.Contains(rule, "content:") {
			rule += "; content: \"\""
		}
		fmt.Fprintf(&sheet, ".card::layer(l%d) { %s }\n", i, rule)
	}
	return sheet.String()
}

// markup is the case as a browser has it.
func (c Layered) markup(source Source) string {
	var b strings.Builder
	fmt.Fprintf(&b, `<div style="position:relative;isolation:isolate;overflow:hidden;width:%dpx;height:%dpx;box-sizing:border-box;%s"><img src="%s" style="position:absolute;inset:0;width:100%%;height:100%%;object-fit:cover">`, c.W, c.H, html.EscapeString(c.Slot), source.Name)
	for i, l := range c.Layers {
		rule := strings.ReplaceAll(l.Rule, "url(lane/", "url(")
		if name, rest, ok := strings.Cut(rule, "content: url("); ok {
			file, rest, _ := strings.Cut(rest, ")")
			fmt.Fprintf(&b, `<img id=l%d src="%s" style="position:absolute;box-sizing:border-box;%s">`, i, file, html.EscapeString(name+rest))
			continue
		}
		fmt.Fprintf(&b, `<div id=l%d style="position:absolute;box-sizing:border-box;white-space:pre-line;hyphens:manual;font-family:'Noto Sans';%s">%s</div>`, i, html.EscapeString(rule), html.EscapeString(l.Text))
	}
	return b.String() + "</div>"
}

func cssQuoted(text string) string {
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`, "\n", `\a `).Replace(text) + `"`
}

// boxes are the cases of layers without text.
func boxes() []Layered {
	one := func(name string, least float64, rules ...string) Layered {
		c := Layered{Name: name, W: 420, H: 300, Least: least}
		for _, r := range rules {
			c.Layers = append(c.Layers, Box{Rule: r})
		}
		return c
	}
	const mark = "content: url(lane/alpha.png);"
	const square = "content: url(lane/square.png);"
	return []Layered{
		one("a colour", 0, "inset: 20px 40px; background-color: rgb(200 20 60 / 60%)"),
		one("percentages", 0, "left: 10%; top: 20%; width: 33%; height: 41%; background-color: teal"),
		one("right and bottom", 0, "right: 5%; bottom: 12px; width: 90px; height: 70px; background-color: gold"),
		one("an aspect-ratio", 0, "left: 30px; top: 20px; width: 200px; aspect-ratio: 2; background-color: navy"),
		one("an aspect-ratio by height", 0, "left: 30px; top: 20px; height: 120px; aspect-ratio: 3 / 2; background-color: navy"),
		one("fractions of a pixel", 0, "left: 10.4px; top: 20.6px; width: 100.5px; height: 80.7px; background-color: crimson"),
		one("linear-gradient", 0, "inset: 0; background: linear-gradient(to top, rgb(0 0 0 / 80%), transparent 60%)"),
		one("radial-gradient", 0, "inset: 10px; background: radial-gradient(circle at 30% 40%, #fc0, #f60 40%, transparent 70%)"),
		one("conic-gradient", 0, "left: 60px; top: 40px; width: 200px; height: 200px; border-radius: 50%; background: conic-gradient(from 30deg, red, yellow, lime, aqua, blue, magenta, red)"),
		one("several grounds", 0, "inset: 20px; background: linear-gradient(45deg, rgb(255 0 0 / 50%) 25%, transparent 25%) 0 0 / 40px 40px, radial-gradient(circle, white, transparent) center / 200px 100px no-repeat, #2468"),
		one("a tiled mark", 0, "inset: 0; background: url(lane/alpha.png) 0 0 / 80px 80px; opacity: .4"),
		one("a mark spaced", 0, "inset: 15px; background: url(lane/alpha.png) center / 90px 90px space; opacity: .7"),
		one("a mark rounded", 29, "inset: 15px; background: url(lane/alpha.png) 0 0 / 70px 70px round"),
		one("a ground that covers", 0, "inset: 30px 60px; background: url(lane/square.png) 50% 20% / cover no-repeat; border-radius: 20px"),
		one("a picture", 0, mark+"left: 20px; top: 30px; width: 150px"),
		one("a picture by height", 0, mark+"right: 8px; bottom: 8px; height: 90px; opacity: .6"),
		one("a picture that covers", 0, square+"left: 20px; top: 20px; width: 300px; height: 120px; object-fit: cover; object-position: 50% 10%; border-radius: 16px"),
		one("a picture that is contained", 0, square+"left: 20px; top: 20px; width: 300px; height: 120px; object-fit: contain; background-color: #fff8"),
		one("a picture that is filled", 0, square+"left: 20px; top: 20px; width: 300px; height: 120px"),
		one("a framed picture", 0, square+"left: 40px; top: 30px; width: 200px; height: 200px; border: 8px solid white; padding: 6px; background-color: #c30; object-fit: cover"),
		one("a round picture", 0, square+"left: 40px; top: 30px; width: 200px; height: 200px; border-radius: 50%; border: 6px solid gold; object-fit: cover"),
		one("a shadow", 0, "left: 60px; top: 50px; width: 240px; height: 140px; background-color: white; border-radius: 18px; box-shadow: 0 12px 30px rgb(0 0 0 / 60%)"),
		one("shadows that spread", 0, "left: 60px; top: 50px; width: 240px; height: 140px; background-color: #fff6; border-radius: 10px; box-shadow: 0 0 0 6px #c00, 10px 10px 0 12px rgb(0 0 0 / 50%), 0 0 20px -4px blue"),
		one("inner and outer shadows", 0, "left: 60px; top: 50px; width: 240px; height: 140px; background-color: #ffd; box-shadow: inset 0 0 20px #840, 4px 4px 8px black"),
		one("a blur", 0, "left: 80px; top: 60px; width: 200px; height: 120px; background-color: #f40; filter: blur(9px)"),
		one("a drop-shadow", 0, mark+"left: 80px; top: 40px; width: 180px; filter: drop-shadow(6px 8px 5px rgb(0 0 0 / 70%))"),
		one("filters of colour", 0, square+"left: 20px; top: 20px; width: 200px; height: 200px; filter: grayscale(.8) contrast(1.4) brightness(1.1)"),
		one("a backdrop blurred", 28, "left: 60px; top: 60px; width: 280px; height: 160px; backdrop-filter: blur(8px); background-color: rgb(255 255 255 / 30%); border-radius: 24px"),
		one("a backdrop in grey", 0, "inset: 0 50% 0 0; backdrop-filter: grayscale(1) brightness(.8)"),
		one("multiply", 0, "inset: 30px; background-color: #e60; mix-blend-mode: multiply"),
		one("screen", 0, "inset: 30px; background: linear-gradient(90deg, #06e, #e06); mix-blend-mode: screen"),
		one("overlay of a picture", 0, square+"inset: 0; width: 420px; height: 300px; mix-blend-mode: overlay; object-fit: cover"),
		one("colour", 0, "inset: 30px; background-color: #0a8; mix-blend-mode: color; opacity: .8"),
		one("turned", 28, "left: 120px; top: 90px; width: 180px; height: 100px; background-color: #fff; rotate: 12deg"),
		one("a turned picture", 27, square+"left: 120px; top: 60px; width: 160px; height: 160px; rotate: -20deg; border: 6px solid white"),
		one("a circle cut", 0, square+"left: 60px; top: 40px; width: 220px; height: 220px; clip-path: circle(40% at 50% 50%)"),
		one("a polygon cut", 0, "inset: 20px; background: linear-gradient(red, blue); clip-path: polygon(50% 0, 100% 100%, 0 100%)"),
		one("a mask", 0, square+"left: 60px; top: 40px; width: 220px; height: 220px; mask-image: linear-gradient(black, transparent)"),
		one("over one another", 0, "inset: 20px 200px 60px 20px; background-color: #d22; z-index: 2", "inset: 60px 100px 90px 80px; background-color: #2a2", "inset: 100px 20px 20px 160px; background-color: #22d; z-index: 1"),
		one("a border of four", 0, "left: 40px; top: 40px; width: 260px; height: 160px; border-top: 10px solid red; border-right: 20px dashed gold; border-bottom: 6px solid blue; border-left: 14px double white; background-color: #000a"),
		{Name: "a slot with corners and a filter", W: 420, H: 300, Slot: "border-radius: 40px; filter: saturate(.4)", Layers: []Box{{Rule: "left: 0; top: 0; width: 120px; height: 120px; background-color: red"}}},
		{Name: "a badge", W: 420, H: 300, Least: 29, Layers: []Box{{Rule: "right: 16px; top: 16px; padding: 6px 14px; border-radius: 999px; background: linear-gradient(90deg, #d0261c, #f26b1d); color: white; font-weight: bold; font-size: 18px; box-shadow: 0 2px 8px rgb(0 0 0 / 50%)", Text: "−20 %"}}},
		{Name: "a caption", W: 420, H: 300, Layers: []Box{{Rule: "inset: auto 0 0 0; padding: 40px 20px 16px; background: linear-gradient(transparent, rgb(0 0 0 / 80%)); color: white; font-size: 20px; line-height: 1.3; text-shadow: 0 1px 3px black", Text: "Delta kites above the harbour, drawn on a day of steady wind"}}},
		{Name: "a quote", W: 420, H: 300, Layers: []Box{{Rule: "inset: 12% 10%; padding: 20px; background-color: rgb(255 255 255 / 85%); border-left: 6px solid #c30; font-family: Noto Serif; font-style: italic; font-size: 22px; text-align: center; align-content: center; border-radius: 4px", Text: "A kite is a flag that asks a question of the wind."}}},
	}
}
