// Package conformance holds what core/render makes against what a real browser paints for the same declarations
// on an <img>. Its tests are the judge; `make conformance-report` writes what it saw as a page.
package conformance

import (
	"bytes"
	"context"
	"fmt"
	"image"
	"image/draw"
	"image/jpeg"
	"image/png"
	"math"
	"net/http"
	"net/http/httptest"
	"strings"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/cdproto/page"
	"github.com/chromedp/chromedp"

	"echolane/core/declare"
	"echolane/core/policy"
	"echolane/core/raster"
	"echolane/core/render"
	"echolane/demo/pictures"
	"echolane/internal/browser"
)

// Source is a picture that cases are made of.
type Source struct {
	Name     string
	Data     []byte
	W, H     int  // upright
	Alpha    bool // it has transparency
	Detailed bool // enough of it to tell a quarter of a pixel
	JPEG     bool
	Type     string // media type; "": PNG, or JPEG
}

// Sources draws them, from the demo's pictures.
func Sources() ([]Source, error) {
	var list []Source
	for _, s := range []struct {
		name, file, query  string
		orientation        uint16
		jpeg, alpha, crowd bool
	}{
		{name: "photo.png", file: "delta-red.jpg", query: "width=960&height=640&object-fit=cover"},
		{name: "photo.jpg", file: "sled-blue.jpg", query: "width=1000&height=625&object-fit=cover", jpeg: true},
		{name: "tall.png", file: "box-kite-cliff.jpg", query: "width=400&height=900&object-fit=cover"},
		{name: "panorama.jpg", file: "coast-panorama.jpg", query: "width=1500&height=300&object-fit=cover", jpeg: true},
		{name: "alpha.png", file: "mark.png", query: "width=500", alpha: true},
		{name: "turned.jpg", file: "rokkaku-studio.jpg", query: "width=640&height=480&object-fit=cover", jpeg: true, orientation: 6},
		{name: "crowd.png", file: "festival-crowd.jpg", query: "width=1200&height=800&object-fit=cover", crowd: true},
		{name: "square.png", file: "poster-press.jpg", query: "width=600&height=600&object-fit=cover"},
		{name: "dawn.png", file: "festival-dawn.jpg", query: "width=896&height=608&object-fit=cover", crowd: true},
	} {
		drawn, err := pictures.Load(s.file)
		if err != nil {
			return nil, err
		}
		m, err := Ours(drawn, s.query)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", s.name, err)
		}
		var b bytes.Buffer
		if s.jpeg {
			err = jpeg.Encode(&b, m, &jpeg.Options{Quality: 92})
		} else {
			plain := png.Encoder{CompressionLevel: png.NoCompression} // it is read a thousand times
			err = plain.Encode(&b, &image.NRGBA{Pix: straight(m), Stride: 4 * m.Rect.Dx(), Rect: m.Rect})
		}
		if err != nil {
			return nil, err
		}
		out := Source{Name: s.name, Data: b.Bytes(), W: m.Rect.Dx(), H: m.Rect.Dy(), Alpha: s.alpha, Detailed: s.crowd, JPEG: s.jpeg}
		if s.orientation != 0 {
			out.Data = withOrientation(out.Data, s.orientation)
			out.W, out.H = out.H, out.W
		}
		list = append(list, out)
	}
	return list, nil
}

// withOrientation puts an Exif segment that gives an orientation behind a JPEG's start.
func withOrientation(data []byte, o uint16) []byte {
	exif := append([]byte("\xff\xe1\x00\x22Exif\x00\x00MM\x00*\x00\x00\x00\x08\x00\x01\x01\x12\x00\x03\x00\x00\x00\x01"), byte(o>>8), byte(o), 0, 0, 0, 0, 0, 0)
	return append(append(append([]byte{}, data[:2]...), exif...), data[2:]...)
}

// Ours renders by the core, and gives premultiplied pixels.
func Ours(source []byte, query string, layers ...Source) (*image.RGBA, error) {
	d, err := declare.Parse(query)
	if err != nil {
		return nil, err
	}
	named := map[string][]byte{}
	for _, l := range layers {
		named["lane/"+l.Name] = l.Data
	}
	p, err := render.Paint(source, render.Job{Request: d.Resolve(declare.Declarations{}, nil), Limits: policy.DefaultLimits, Pictures: named})
	if err != nil {
		return nil, err
	}
	// Rounded to straight colours and back, as every file that we deliver is.
	if !p.Opaque {
		p.Unpremultiply()
		p.Premultiply()
	}
	return &image.RGBA{Pix: p.Pix, Stride: p.Stride, Rect: image.Rect(0, 0, p.W, p.H)}, nil
}

func decodePNG(data []byte) (*image.RGBA, error) {
	m, err := png.Decode(bytes.NewReader(data))
	if err != nil {
		return nil, err
	}
	out := image.NewRGBA(image.Rect(0, 0, m.Bounds().Dx(), m.Bounds().Dy()))
	draw.Draw(out, out.Rect, m, m.Bounds().Min, draw.Src)
	return out, nil
}

func straight(m *image.RGBA) []uint8 {
	p := &raster.RGBA{Pix: append([]uint8(nil), m.Pix...), Stride: m.Stride, W: m.Rect.Dx(), H: m.Rect.Dy()}
	p.Unpremultiply()
	return p.Pix
}

// Judge is a browser that paints.
type Judge struct {
	b      *browser.Browser
	server *httptest.Server
	scale  float64
}

// NewJudge starts the browser on a page of these sources.
func NewJudge(sources []Source) (*Judge, error) {
	mux := http.NewServeMux()
	for _, s := range sources {
		kind := "image/png"
		if s.JPEG {
			kind = "image/jpeg"
		}
		if s.Type != "" {
			kind = s.Type
		}
		mux.HandleFunc("GET /"+s.Name, func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Content-Type", kind)
			w.Header().Set("Cache-Control", "max-age=3600")
			w.Write(s.Data)
		})
	}
	mux.HandleFunc("GET /{$}", func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "text/html")
		w.Write([]byte(paper))
	})
	j := &Judge{server: httptest.NewServer(mux), scale: 1}
	var err error
	if j.b, err = browser.Start("font-render-hinting=none", "disable-lcd-text", "disable-frame-rate-limit"); err != nil {
		j.server.Close()
		return nil, err
	}
	err = j.b.Open(j.server.URL + "/")
	if err == nil {
		err = j.b.Do(chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
			_, err := cdp.Call(ctx, t, transparentPage, clear{})
			return err
		}))
	}
	if err == nil {
		err = j.zoom(1)
	}
	if err != nil {
		j.Close()
		return nil, err
	}
	return j, nil
}

// Close ends the browser.
func (j *Judge) Close() {
	j.b.Close()
	j.server.Close()
}

// The page puts one picture into its corner, styled as told, and says how large it came out. A picture that has
// to be cut, mirrored or turned first goes through a canvas at its natural size.
const paper = `<!doctype html><style>html,body{margin:0;background:transparent}img{position:absolute;left:0;top:0;display:block}</style><body><script>
async function prepare(src, cut, mirror, turn, layer) {
  const i = new Image(); i.decoding = "sync"; i.src = src; await i.decode();
  if (!cut && !mirror && !turn && !layer) return src;
  const [x, y, w, h] = cut ?? [0, 0, i.naturalWidth, i.naturalHeight];
  const a = (turn ?? 0) * Math.PI / 180, right = (turn ?? 0) % 90 === 0;
  const s = Math.abs(Math.sin(a)), k = Math.abs(Math.cos(a));
  const W = right ? Math.round(w * k + h * s) : Math.ceil(w * k + h * s - 1e-6), H = right ? Math.round(w * s + h * k) : Math.ceil(w * s + h * k - 1e-6);
  const c = document.createElement("canvas"); c.width = W; c.height = H;
  const g = c.getContext("2d"); g.imageSmoothingQuality = "high";
  g.translate(W / 2, H / 2); g.rotate(right ? Math.round(turn ?? 0) * Math.PI / 180 : a); g.scale(mirror?.[0] ?? 1, mirror?.[1] ?? 1);
  if (right) { const r = ((turn ?? 0) / 90) % 4; g.setTransform(...[[1,0,0,1],[0,1,-1,0],[-1,0,0,-1],[0,-1,1,0]][r], W / 2, H / 2); g.scale(mirror?.[0] ?? 1, mirror?.[1] ?? 1); }
  g.drawImage(i, x, y, w, h, -w / 2, -h / 2, w, h);
  if (layer) {
    const l = new Image(); l.decoding = "sync"; l.src = layer.src; await l.decode();
    g.setTransform(1, 0, 0, 1, 0, 0); g.globalAlpha = layer.alpha; g.globalCompositeOperation = layer.mode;
    g.drawImage(l, layer.x, layer.y);
  }
  return c.toDataURL("image/png");
}
async function pose(src, style, keyframes, animation, ms) {
  const s = document.createElement("style"), i = document.createElement("img");
  s.textContent = keyframes; document.querySelector("style.moves")?.remove(); s.className = "moves"; document.head.append(s);
  i.decoding = "sync"; i.style.cssText = style + ";animation:" + animation + ";animation-play-state:paused"; i.src = src;
  document.querySelector(".stage")?.remove(); document.querySelector("img")?.remove(); document.body.append(i);
  await i.decode();
  const [a] = i.getAnimations();
  a.currentTime = ms;
  await new Promise(r => requestAnimationFrame(() => requestAnimationFrame(r)));
  const b = i.getBoundingClientRect();
  return [b.width, b.height];
}
// hold has what CSS names at hand. Grounds are fetched as images are, masks as what another origin must let be read; the browser keeps
// a picture as it was fetched last, and paints without it while it's fetched the other way.
async function hold(css) {
  const held = [];
  for (const [, property, value] of css.matchAll(/([\w-]+)\s*:([^;}]*url\([^;}]*)/g)) for (const [, u] of value.matchAll(/url\(["']?([^"')]+)/g)) {
    const l = new Image(); if (property.includes("mask")) l.crossOrigin = "anonymous";
    l.src = u; await l.decode(); held.push(l);
  }
  window.held = held;
}
// stage puts boxes over a picture, in a slot that clips them.
async function stage(html) {
  document.querySelector("img")?.remove(); document.querySelector(".stage")?.remove();
  const s = document.createElement("div"); s.className = "stage"; s.innerHTML = html;
  await hold([...s.querySelectorAll("*")].map((e) => e.style.cssText + (e.tagName === "STYLE" ? e.textContent : "")).join(" "));
  document.body.append(s);
  for (const i of s.querySelectorAll("img")) await i.decode();
  await document.fonts.ready;
  await new Promise(r => requestAnimationFrame(() => requestAnimationFrame(r)));
  const b = s.firstElementChild.getBoundingClientRect();
  return [b.width, b.height];
}
// staged puts boxes that move over a picture, so many milliseconds after they began. They stand from the start: what moves is painted
// once, and then turned as a picture of itself.
async function staged(html, ms) {
  const size = await stage(html + "<style>*, *::before, *::after { animation-play-state: paused !important }</style>");
  for (const a of document.getAnimations()) a.currentTime = ms;
  await new Promise(r => requestAnimationFrame(() => requestAnimationFrame(r)));
  return size;
}
// broken gives the lines that the text of an element is in.
function broken(query) {
  const e = document.querySelector(query), lines = []; let last = -1e9, r = document.createRange();
  const walk = document.createTreeWalker(e, NodeFilter.SHOW_TEXT), style = getComputedStyle(e), way = style.writingMode;
  for (let n; (n = walk.nextNode()); ) for (let i = 0; i < n.data.length; ) {
    const c = String.fromCodePoint(n.data.codePointAt(i)); r.setStart(n, i); r.setEnd(n, i += c.length);
    const b = [...r.getClientRects()].pop(); if (!b || c === "\n") continue;
    const middle = way === "horizontal-tb" ? (b.top + b.bottom) / 2 : (b.left + b.right) / 2 * (way === "vertical-rl" ? -1 : 1);
    if (middle > last + parseFloat(style.fontSize) * 0.6) { lines.push(""); last = middle; }
    lines[lines.length - 1] += c;
  }
  return lines.map((l) => l.trim());
}
async function paint(src, style, zoom, cut, mirror, turn, layer) {
  await hold(style);
  const i = document.createElement("img"); i.decoding = "sync"; i.style.cssText = style; document.body.style.zoom = zoom;
  i.src = await prepare(src, cut, mirror, turn, layer);
  document.querySelector(".stage")?.remove(); document.querySelector("img")?.remove(); document.body.append(i);
  await i.decode();
  await new Promise(r => requestAnimationFrame(() => requestAnimationFrame(r)));
  const b = i.getBoundingClientRect();
  return [b.width, b.height];
}
</script>`

type clear struct{}

// MarshalJSON keeps the zero that makes the page transparent.
func (clear) MarshalJSON() ([]byte, error) { return []byte(`{"color":{"r":0,"g":0,"b":0,"a":0}}`), nil }

var transparentPage = cdp.Command[clear, cdp.Empty]{Method: "Emulation.setDefaultBackgroundColorOverride"}

func (j *Judge) zoom(scale float64) error {
	j.scale = scale
	return j.b.Do(chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
		_, err := cdp.Call(ctx, t, emulation.SetDeviceMetricsOverride, emulation.SetDeviceMetricsOverrideParams{Width: 1600, Height: 1200, DeviceScaleFactor: scale})
		return err
	}))
}

// Stage is what the browser paints of markup whose first element is the slot.
func (j *Judge) Stage(html string) (*image.RGBA, error) {
	return j.seen(fmt.Sprintf("stage(%q)", html))
}

// Staged is what it paints of such markup whose elements @keyframes move, so many seconds after their animations were started.
func (j *Judge) Staged(html string, at float64) (*image.RGBA, error) {
	if err := j.zoom(1); err != nil {
		return nil, err
	}
	return j.seen(fmt.Sprintf("staged(%q, %g)", html, at*1000))
}

// Broken gives the lines of an element's text on the stage.
func (j *Judge) Broken(selector string) ([]string, error) {
	return browser.Run(j.b, chromedp.Evaluate[[]string](fmt.Sprintf("broken(%q)", selector)))
}

// Painted is what the browser paints: the box of one <img>, at a device scale.
func (j *Judge) Painted(src, style string, o Before, scale float64) (*image.RGBA, error) {
	if scale != j.scale {
		if err := j.zoom(scale); err != nil {
			return nil, err
		}
	}
	zoom := o.Zoom
	if zoom == 0 {
		zoom = 1
	}
	expression := fmt.Sprintf("paint(%q, %q, %g, %s, %s, %s, %s)", src, style, zoom, list(o.Cut), list(o.Mirror), number(o.Turn), o.Layer)
	return j.seen(expression)
}

// Posed is what the browser paints of one <img> that @keyframes move, so many seconds after its animation was started.
func (j *Judge) Posed(src, style, keyframes, animation string, at float64) (*image.RGBA, error) {
	if err := j.zoom(1); err != nil {
		return nil, err
	}
	return j.seen(fmt.Sprintf("pose(%q, %q, %q, %q, %g)", src, style, keyframes, animation, at*1000))
}

// seen is the box that an expression's promise tells the size of.
func (j *Judge) seen(expression string) (*image.RGBA, error) {
	box, err := browser.Run(j.b, chromedp.Evaluate[[]float64](expression, chromedp.EvalAwaitPromise))
	if err != nil {
		return nil, fmt.Errorf("%s: %w", expression, err)
	}
	w, h := math.Max(1, math.Floor(box[0]*1+0.5)), math.Max(1, math.Floor(box[1]+0.5))
	var shot page.CaptureScreenshotResult
	beyond, fast := w > 1600 || h > 1200, true
	err = j.b.Do(chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
		var err error
		shot, err = cdp.Call(ctx, t, page.CaptureScreenshot, page.CaptureScreenshotParams{
			Clip: &page.Viewport{Width: w, Height: h, Scale: 1}, CaptureBeyondViewport: &beyond, OptimizeForSpeed: &fast,
		})
		return err
	}))
	if err != nil {
		return nil, err
	}
	return decodePNG(shot.Data)
}

// Before is what is done to a picture before CSS sees it, since CSS has no word for it or does it later.
type Before struct {
	Cut    []float64 // x, y, w, h
	Mirror []float64
	Turn   float64
	Zoom   float64 // CSS zoom: resolution, and slots that shrink
	Layer  *Layer
}

// Layer is a source painted on top at its natural size. A canvas blends by the same formulas as CSS.
type Layer struct {
	Source Source
	X, Y   float64
	Alpha  float64
	Mode   string
}

func (l *Layer) String() string {
	if l == nil {
		return "null"
	}
	mode := l.Mode
	if mode == "normal" {
		mode = "source-over"
	}
	return fmt.Sprintf("{src: %q, x: %g, y: %g, alpha: %g, mode: %q}", l.Source.Name, l.X, l.Y, l.Alpha, mode)
}

func list(v []float64) string {
	if v == nil {
		return "null"
	}
	words := make([]string, len(v))
	for i, x := range v {
		words[i] = fmt.Sprint(x)
	}
	return "[" + strings.Join(words, ",") + "]"
}

func number(v float64) string {
	if v == 0 {
		return "null"
	}
	return fmt.Sprint(v)
}
