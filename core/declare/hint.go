package declare

import (
	"regexp"
	"slices"
	"strings"
	"sync"

	"echolane/core/wording"
)

// What people write who mean something that a URL has another word for, or that it can't know. A hint comes from here first, and
// from spelling only where two letters differ.

const (
	ofTheSlot  = "that is the slot's, so it stays in the page's stylesheet"
	slotMarkup = "that is the slot's: `echolane markup SITE/LANE/PATH --slot '%s'` writes HTML that follows it"
	ofThePage  = "that is the page's, not the picture's: keep it in the page's stylesheet"
)

// meanings are hints by name. One that is a single name is also what is nearest.
var meanings = sync.OnceValue(func() map[string]string {
	return hints(map[string]string{
		"w size inline-size columns":               "write width",
		"h block-size":                             "write height",
		"ratio aspect shape":                       "write aspect-ratio",
		"density device-pixel-ratio":               "write resolution",
		"fit mode":                                 "write object-fit",
		"position focus anchor":                    "write object-position",
		"crop cut region part view-box image-crop": "write xywh for a part of the picture, or object-fit=cover for the slot's shape",
		"flip mirror":                              "write scale, such as scale=-1 1",
		"turn angle rotation":                      "write rotate, such as rotate=90deg",
		"radius rounded corner-radius":             "write border-radius",
		"bg background-colour fill":                "write background-color",
		"blur brightness contrast grayscale greyscale hue-rotate invert saturate sepia drop-shadow": "write filter, such as filter=blur(4px)",
		"remove retouch inpaint":                   "write erase, such as erase=120,80,64,40",
		"hide anonymise anonymize pixelate censor": "write redact, such as redact=faces",
		"cutout cut-out matting":                   "write mask-image, such as mask-image=subject",
		"duotone tint":                             "write gradient-map",
		"sharp sharpness unsharp":                  "write sharpen",
		"type output extension":                    "write format",
		"q":                                        "write quality",
		"watermark overlay text caption content":   "write after-content, or before-content where it goes under the picture",
		"upscale enlarge":                          "write grow",
		"filename attachment":                      "write download",
		"expiry expires-at":                        "write expires",
		"metadata exif":                            "write retain",
		"bytes weight filesize max-bytes":          "write budget",
		"mask mask-border":                         "write mask-image, such as mask-image=subject, a gradient or url(lane/path), and mask-position, -size and -repeat; clip-path cuts to a shape",
		"outline outline-offset outline-width outline-color outline-style":                           "an outline lies outside of the slot: border draws inside of it",
		"background-attachment background-clip background-origin background-blend-mode":              "the ground fills the slot: background-color, -image, -position, -size and -repeat are read",
		"border-image border-image-source border-image-slice border-image-width border-image-repeat": "a border is drawn in a colour: border=4px solid gold",
		"box-sizing": "leave it out: border and padding always lie inside of the slot, as with border-box",

		"max-width min-width max-inline-size min-inline-size":  slot("max-width: 100%"),
		"max-height min-height max-block-size min-block-size":  slot("height: 320px"),
		"inset top right bottom left inset-inline inset-block": ofTheSlot,
		"display visibility float clear vertical-align overflow overflow-x overflow-y overflow-clip-margin z-index isolation contain content-visibility container container-type":                                                              ofTheSlot,
		"margin margin-top margin-right margin-bottom margin-left margin-inline margin-block margin-inline-start margin-inline-end margin-block-start margin-block-end":                                                                        ofTheSlot,
		"flex flex-grow flex-shrink flex-basis order gap row-gap column-gap grid grid-area grid-row grid-column align-self justify-self place-self align-items justify-content justify-items align-content place-items place-content":          ofTheSlot,
		"cursor pointer-events user-select touch-action scroll-margin scroll-snap-align":                                                                                                                                                       ofThePage,
		"transition transition-property transition-duration transition-delay transition-timing-function will-change animation-name animation-duration animation-delay animation-iteration-count animation-timing-function animation-fill-mode": ofThePage,
		"font font-size font-family font-weight line-height color text-align text-indent letter-spacing text-decoration text-transform white-space":                                                                                            "of a text on the picture, write after-font, after-color or after-text-align; of the page, keep it in the page's stylesheet",
		"transform-origin transform-box transform-style perspective translate backface-visibility":                                                                                                                                             ofThePage,
		"aspect-ratio-auto": "write aspect-ratio",
		"loading decoding fetchpriority sizes srcset alt src": "that is an attribute of the page's <img>: `echolane markup SITE/LANE/PATH` writes it",
	})
})

func slot(css string) string { return strings.Replace(slotMarkup, "%s", css, 1) }

func hints(table map[string]string) map[string]string {
	m := map[string]string{}
	for names, hint := range table {
		for _, name := range strings.Fields(names) {
			m[name] = hint
		}
	}
	return m
}

// hintForName is the way out for a name that isn't known, and the name of the language that is meant, where it is one.
func hintForName(name string) (remedy, nearest string) {
	lower := strings.ToLower(name)
	for _, prefix := range []string{"-webkit-", "-moz-", "-ms-", "-o-"} {
		if plain, ok := strings.CutPrefix(lower, prefix); ok {
			if index(plain) >= 0 || shorthandOf(plain) != nil {
				return "", plain
			}
			lower = plain
		}
	}
	if strings.HasPrefix(lower, "--") {
		return "a custom property is the page's: write its value where it is used", ""
	}
	if hint, ok := meanings()[lower]; ok {
		if one, ok := strings.CutPrefix(hint, "write "); ok && index(one) >= 0 {
			return "", one
		}
		return hint, ""
	}
	return "", nearestName(lower)
}

// nearestName is the name that a name is a misspelling of: at most two letters differ, and it's of the layer if that is.
func nearestName(name string) string {
	candidates := append(Names(), shorthandNames...)
	family := func(name string) string { // of the picture, of a layer, whose own name may be misspelt
		layers := []string{BeforeLayer, AfterLayer}
		for _, layer := range layers {
			if strings.HasPrefix(name, layer) {
				return layer
			}
		}
		head, _, _ := strings.Cut(name, "-")
		return wording.Misspelt(head, layers)
	}
	own := family(name)
	list := slices.DeleteFunc(candidates, func(c string) bool { return family(c) != own })
	return wording.Misspelt(name, list)
}

var ofViewport = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`(?i)[0-9.](vw|vh|vmin|vmax|vi|vb|[sld]v(w|h|i|b|min|max)|cq(w|h|i|b|min|max))\b`)
})

const aGround = "a ground is a colour, or a source of the site as url(lane/path)"

// A valueHint is a way out for values, by what stands in them.
type valueHint struct {
	pattern *regexp.Regexp
	remedy  string
}

// valueHints are tried in order. They are made when the first is needed: a render worker never needs them.
var valueHints = sync.OnceValue(func() []valueHint {
	return []valueHint{
		{regexp.MustCompile(`(?i)!\s*important`), "leave !important out: what a URL says wins already"},
		{regexp.MustCompile(`(?i)\b(var|env|attr)\(`), "what a page computes isn't known here: write the value itself"},
		{regexp.MustCompile(`(?i)^(inherit|revert|revert-layer)$`), "a picture has nothing to take it from: write the value itself, or leave it out"},
		{regexp.MustCompile(`(?i)\bcurrentcolor\b`), "the page's text colour isn't known here: write the colour itself"},
		{regexp.MustCompile(`(?i)\b(light-dark|color-mix|color|lab|lch|device-cmyk)\(`), "write the colour as hexadecimal, rgb(), hsl(), hwb(), oklab() or oklch()"},
		{ofViewport(), slot("width: 50vw")},
		{regexp.MustCompile(`(?i)\b(max-content|min-content|fit-content|stretch|-webkit-fill-available)\b`), "leave it out: without a size a picture has its natural one"},
		{regexp.MustCompile(`(?i)[0-9.](ch|ex|lh|rlh|cap|ic|rex|rch)\b`), "that depends on the page's font: write the length in px or rem"},
		{regexp.MustCompile(`(?i)image-set\(|element\(|cross-fade\(|paint\(`), aGround},
	}
})

// hintForValue is the way out for a value that isn't allowed, "" where what is allowed says it.
func hintForValue(name, value string) string {
	sized := name == "width" || name == "height"
	if sized && ofViewport().MatchString(value) && !strings.Contains(value, "!") {
		return slot(name + ": " + wording.Cut(value, 40))
	}
	for _, h := range valueHints() {
		if h.pattern.MatchString(value) {
			return h.remedy
		}
	}
	lower := strings.ToLower(value)
	has := func(words ...string) bool {
		for _, w := range words {
			if strings.Contains(lower, w) {
				return true
			}
		}
		return false
	}
	switch {
	case sized && has("%"):
		return slot(name + ": " + wording.Cut(value, 40))
	case has("calc(", "min(", "max(", "clamp(") && strings.Contains(value, "  "):
		return "in a URL + means a space: write %2B"
	case has("calc(", "min(", "max(", "clamp("):
		return "calc(), min(), max() and clamp() of px, rem, em, pt, pc, cm, mm, in and q are read; of percentages too where that is px + percent in any slot"
	case name == "transform" || name == "scale":
		return "only turns and mirrorings are the picture's: rotate(), and scale() of 1 and -1; sizes come from width and height, and what moves it on the page stays in the page's stylesheet"
	case name == "box-shadow":
		return "a shadow around the slot stays in the page's stylesheet; one that falls inwards begins with inset"
	case name == "filter" && has("url("):
		return "filters of the page's SVG aren't known here: use the functions"
	case name == "clip-path" && has("url(", "path(", "shape("):
		return "inset(), circle(), ellipse() and polygon() are read"
	case strings.HasPrefix(name, "border") && has("groove", "ridge", "inset", "outset"):
		return "styles that are drawn are solid, dashed, dotted and double"
	case strings.HasPrefix(name, "background") && has("url("):
		return "a ground's picture is a source of the same site: url(lane/path)"
	case strings.HasPrefix(name, "background") && has(","):
		return "there is one ground: one picture over one colour"
	case strings.HasPrefix(name, "background") && has("fixed"):
		return "leave fixed out: a picture doesn't scroll"
	case name == "image-rendering":
		return "write pixelated, or auto"
	case name == "image-orientation":
		return "write from-image, or none and rotate"
	case name == "animation":
		return "animation=none gives a still; a picture that moves by itself is a class of the sheet with @keyframes, and what moves it on the page stays in the page's stylesheet"
	}
	return ""
}
