package declare

import (
	"strconv"
	"time"
)

// A property is one name of the language. How its value is read, written and inherited stands in the methods
// below, as switches over its index rather than as functions in this table: so the declarations stay on the
// stack, and a request costs no allocation here.
type property struct {
	name     string
	allowed  string   // what may stand there, for people
	keywords []string // words to offer when a value is nearly one of them

	mayBeEmpty bool
}

const maxSide = 65535

// The order of the language, which is the order of the address form.
const (
	pXYWH = iota
	pMirror
	pTurn
	pWidth
	pHeight
	pAspect
	pResolution
	pFit
	pPosition
	pGrow
	pBackground
	pBackgroundImage
	pMap
	pSharpen
	pAfterContent
	pAfterWidth
	pAfterHeight
	pAfterInset
	pAfterLayerOpacity
	pAfterBlend
	pAfterLayerTurn
	pAfterLayerColor
	pAfterFont
	pAfterAlign
	pAfterLayerBackground
	pAfterPadding
	pRadius
	pFilter
	pOpacity
	pMatte
	pFormat
	pQuality
	pBudget
	pAnimation
	pRetain
	pClass // what follows says how an answer is delivered
	pAs
	pDownload
	pExpires
	pKeyID
	pSignature
	numProperties
)

var properties = [numProperties]property{
	pXYWH:                 {name: "xywh", allowed: "x,y,width,height in pixels, or percent: and the same in percent, such as 120,80,640,480"},
	pMirror:               {name: "scale", allowed: "1 or -1 for each axis, such as -1 1"},
	pTurn:                 {name: "rotate", allowed: "an angle, such as 90deg, -0.125turn, 50grad or 1.5rad"},
	pWidth:                {name: "width", allowed: "a length in CSS pixels from 1 to 65535, such as 480 or 480px"},
	pHeight:               {name: "height", allowed: "a length in CSS pixels from 1 to 65535, such as 320 or 320px"},
	pAspect:               {name: "aspect-ratio", allowed: "width/height or one number, such as 4/3 or 1.91, from 1/1000 to 1000"},
	pResolution:           {name: "resolution", allowed: "0.5x to 4x, such as 2x"},
	pFit:                  {name: "object-fit", allowed: "fill, cover, contain, none or scale-down", keywords: fits[1:]},
	pPosition:             {name: "object-position", allowed: "one to four values, such as left top, 75 20, 10px 50% or right 10px bottom 20px; or subject, or detail", keywords: []string{"left", "right", "top", "bottom", "center", "subject", "detail"}},
	pGrow:                 {name: "grow", allowed: "no or yes", keywords: grows[1:]},
	pBackground:           {name: "background-color", allowed: "a CSS colour, such as gold, 0a7, rgb(10 120 110 / 0.5) or oklch(48% 0.09 185)"},
	pBackgroundImage:      {name: "background-image", allowed: "url(lane/path), a source of the same site"},
	pAfterContent:         {name: "after-content", allowed: "url(lane/path) or a text in quotes, at most 500 characters"},
	pAfterWidth:           {name: "after-width", allowed: "a length, a percentage of the slot, or auto, such as 18%25"},
	pAfterHeight:          {name: "after-height", allowed: "a length, a percentage of the slot, or auto"},
	pAfterInset:           {name: "after-inset", allowed: "one to four lengths, percentages or auto: top, right, bottom, left, such as auto 4%25 4%25 auto"},
	pAfterLayerOpacity:    {name: "after-opacity", allowed: "a number from 0 to 1 or a percentage"},
	pAfterBlend:           {name: "after-mix-blend-mode", allowed: "one of the sixteen modes, such as multiply", keywords: blends[1:]},
	pAfterLayerTurn:       {name: "after-rotate", allowed: "an angle, such as -12deg"},
	pAfterLayerColor:      {name: "after-color", allowed: "a CSS colour"},
	pAfterFont:            {name: "after-font", allowed: "style, weight, size and family, such as bold 24px sans-serif"},
	pAfterAlign:           {name: "after-text-align", allowed: "left, center or right", keywords: aligns[1:]},
	pAfterLayerBackground: {name: "after-background-color", allowed: "a CSS colour"},
	pAfterPadding:         {name: "after-padding", allowed: "one to four lengths or percentages, such as 4px 8px"},
	pMap:                  {name: "gradient-map", allowed: "two to eight colours from dark to light, and a percentage, such as 123 fed 80%25"},
	pSharpen:              {name: "sharpen", allowed: "a number from 0 to 3, such as 1"},
	pRadius:               {name: "border-radius", allowed: "one to four lengths or percentages, such as 12px or 50%25"},
	pFilter:               {name: "filter", allowed: "at most 16 of blur() brightness() contrast() grayscale() hue-rotate() invert() opacity() saturate() sepia() drop-shadow(), or none", keywords: filterWords},
	pMatte:                {name: "matte", allowed: "a CSS colour, such as white or 0a7"},
	pOpacity:              {name: "opacity", allowed: "a number from 0 to 1 or a percentage, such as .6 or 60%25"},
	pFormat:               {name: "format", allowed: "avif, webp, jpeg, png or gif", keywords: formats[1:]},
	pQuality:              {name: "quality", allowed: "a whole number from 1 to 100, or lossless", keywords: []string{"lossless"}},
	pBudget:               {name: "budget", allowed: "bytes, from 100 to 100000000, such as 60kB, 60KiB or 61440"},
	pAnimation:            {name: "animation", allowed: "none", keywords: animations[1:]},
	pRetain:               {name: "retain", allowed: "one or more of rights, camera and place", keywords: retained},
	pClass:                {name: "class", allowed: "at most eight names from the site's sheet, divided by spaces"},
	pAs:                   {name: "as", allowed: "placeholder, facts or explain", keywords: ases[1:]},
	pDownload:             {name: "download", allowed: "a file name of at most 200 bytes without slashes, or nothing", mayBeEmpty: true},
	pExpires:              {name: "expires", allowed: "a time as RFC 3339 has it, in whole seconds and UTC, such as 2027-05-01T12:00:00Z"},
	pKeyID:                {name: "keyid", allowed: "a key's name: 1 to 64 of a–z, 0–9 and -"},
	pSignature:            {name: "signature", allowed: "43 characters of base64url, as signing gives them"},
}

// set reads a property's value; reason is "" where that went well.
func (d *Declarations) set(i int, v string) (reason string) {
	switch i {
	case pXYWH:
		return setRegion(&d.XYWH, v)
	case pMirror:
		return setMirror(&d.Mirror, v)
	case pTurn:
		return setTurn(&d.Turn, v)
	case pPosition:
		return setPosition(&d.Position, v)
	case pBackground:
		return setColor(&d.Background, v)
	case pBackgroundImage:
		return setURL(&d.BackgroundImage, v)
	case pAfterContent:
		return setContent(&d.After, v)
	case pAfterWidth:
		return setSide(&d.After.Width, v)
	case pAfterHeight:
		return setSide(&d.After.Height, v)
	case pAfterInset:
		return setInset(&d.After.Inset, v)
	case pAfterLayerOpacity:
		return setOpacity(&d.After.Opacity, v)
	case pAfterBlend:
		return setKeyword(&d.After.Blend, blends, v)
	case pAfterLayerTurn:
		return setTurn(&d.After.Turn, v)
	case pAfterLayerColor:
		return setColor(&d.After.Color, v)
	case pAfterFont:
		return setFont(&d.After.Font, v)
	case pAfterAlign:
		return setKeyword(&d.After.Align, aligns, v)
	case pAfterLayerBackground:
		return setColor(&d.After.Background, v)
	case pAfterPadding:
		return setPadding(&d.After.Padding, v)
	case pMap:
		return setMap(&d.Map, v)
	case pSharpen:
		return setSharpen(&d.Sharpen, v)
	case pRadius:
		return setRadius(&d.Radius, v)
	case pFilter:
		return setFilter(&d.Filter, v)
	case pMatte:
		return setColor(&d.Matte, v)
	case pWidth:
		return setLength(&d.Width, v)
	case pHeight:
		return setLength(&d.Height, v)
	case pAspect:
		return setRatio(&d.Aspect, v)
	case pResolution:
		return setResolution(&d.Resolution, v)
	case pFit:
		return setKeyword(&d.Fit, fits, v)
	case pGrow:
		return setKeyword(&d.Grow, grows, v)
	case pOpacity:
		return setOpacity(&d.Opacity, v)
	case pFormat:
		return setKeyword(&d.Format, formats[:], v)
	case pQuality:
		return setQuality(&d.Quality, v)
	case pBudget:
		return setBudget(&d.Budget, v)
	case pAnimation:
		return setKeyword(&d.Animation, animations, v)
	case pRetain:
		return setRetain(&d.Retain, v)
	case pClass:
		return setClass(&d.Class, v)
	case pAs:
		return setKeyword(&d.As, ases, v)
	case pDownload:
		return setDownload(d, v)
	case pExpires:
		return setExpires(d, v)
	case pKeyID:
		return setToken(&d.KeyID, v, 64, isKeyID)
	default:
		return setToken(&d.Signature, v, 43, isBase64URL)
	}
}

// declared is what d declares, a bit for each property.
func (d *Declarations) declared() (set uint64) {
	if d.XYWH.Declared {
		set |= 1 << pXYWH
	}
	if d.Mirror.Declared {
		set |= 1 << pMirror
	}
	if d.Turn.Declared {
		set |= 1 << pTurn
	}
	if d.Position.Declared {
		set |= 1 << pPosition
	}
	if d.Background.Declared {
		set |= 1 << pBackground
	}
	if d.BackgroundImage != "" {
		set |= 1 << pBackgroundImage
	}
	if d.After.Content != "" {
		set |= 1 << pAfterContent
	}
	if d.After.Width.Declared {
		set |= 1 << pAfterWidth
	}
	if d.After.Height.Declared {
		set |= 1 << pAfterHeight
	}
	if d.After.Inset.Declared {
		set |= 1 << pAfterInset
	}
	if d.After.Opacity.Declared {
		set |= 1 << pAfterLayerOpacity
	}
	if d.After.Blend != BlendUnset {
		set |= 1 << pAfterBlend
	}
	if d.After.Turn.Declared {
		set |= 1 << pAfterLayerTurn
	}
	if d.After.Color.Declared {
		set |= 1 << pAfterLayerColor
	}
	if d.After.Font.Declared {
		set |= 1 << pAfterFont
	}
	if d.After.Align != AlignUnset {
		set |= 1 << pAfterAlign
	}
	if d.After.Background.Declared {
		set |= 1 << pAfterLayerBackground
	}
	if d.After.Padding.Declared {
		set |= 1 << pAfterPadding
	}
	if d.Map.Declared {
		set |= 1 << pMap
	}
	if d.Sharpen.Declared {
		set |= 1 << pSharpen
	}
	if d.Radius.Declared {
		set |= 1 << pRadius
	}
	if d.Filter != "" {
		set |= 1 << pFilter
	}
	if d.Matte.Declared {
		set |= 1 << pMatte
	}
	if d.Width != 0 {
		set |= 1 << pWidth
	}
	if d.Height != 0 {
		set |= 1 << pHeight
	}
	if !d.Aspect.IsZero() {
		set |= 1 << pAspect
	}
	if d.Resolution != 0 {
		set |= 1 << pResolution
	}
	if d.Fit != FitUnset {
		set |= 1 << pFit
	}
	if d.Grow != GrowUnset {
		set |= 1 << pGrow
	}
	if d.Opacity.Declared {
		set |= 1 << pOpacity
	}
	if d.Format != FormatUnset {
		set |= 1 << pFormat
	}
	if d.Quality != 0 {
		set |= 1 << pQuality
	}
	if d.Budget != 0 {
		set |= 1 << pBudget
	}
	if d.Animation != AnimationUnset {
		set |= 1 << pAnimation
	}
	if d.Retain != 0 {
		set |= 1 << pRetain
	}
	if d.Class != "" {
		set |= 1 << pClass
	}
	if d.As != AsUnset {
		set |= 1 << pAs
	}
	if d.Download.Declared {
		set |= 1 << pDownload
	}
	if d.Expires != 0 {
		set |= 1 << pExpires
	}
	if d.KeyID != "" {
		set |= 1 << pKeyID
	}
	if d.Signature != "" {
		set |= 1 << pSignature
	}
	return set
}

// inherit takes a property's value from other declarations.
func (d *Declarations) inherit(i int, from *Declarations) {
	switch i {
	case pXYWH:
		d.XYWH = from.XYWH
	case pMirror:
		d.Mirror = from.Mirror
	case pTurn:
		d.Turn = from.Turn
	case pPosition:
		d.Position = from.Position
	case pBackground:
		d.Background = from.Background
	case pBackgroundImage:
		d.BackgroundImage = from.BackgroundImage
	case pAfterContent:
		d.After.Content, d.After.Text = from.After.Content, from.After.Text
	case pAfterWidth:
		d.After.Width = from.After.Width
	case pAfterHeight:
		d.After.Height = from.After.Height
	case pAfterInset:
		d.After.Inset = from.After.Inset
	case pAfterLayerOpacity:
		d.After.Opacity = from.After.Opacity
	case pAfterBlend:
		d.After.Blend = from.After.Blend
	case pAfterLayerTurn:
		d.After.Turn = from.After.Turn
	case pAfterLayerColor:
		d.After.Color = from.After.Color
	case pAfterFont:
		d.After.Font = from.After.Font
	case pAfterAlign:
		d.After.Align = from.After.Align
	case pAfterLayerBackground:
		d.After.Background = from.After.Background
	case pAfterPadding:
		d.After.Padding = from.After.Padding
	case pMap:
		d.Map = from.Map
	case pSharpen:
		d.Sharpen = from.Sharpen
	case pRadius:
		d.Radius = from.Radius
	case pFilter:
		d.Filter = from.Filter
	case pMatte:
		d.Matte = from.Matte
	case pWidth:
		d.Width = from.Width
	case pHeight:
		d.Height = from.Height
	case pAspect:
		d.Aspect = from.Aspect
	case pResolution:
		d.Resolution = from.Resolution
	case pFit:
		d.Fit = from.Fit
	case pGrow:
		d.Grow = from.Grow
	case pOpacity:
		d.Opacity = from.Opacity
	case pFormat:
		d.Format = from.Format
	case pQuality:
		d.Quality = from.Quality
	case pBudget:
		d.Budget = from.Budget
	case pAnimation:
		d.Animation = from.Animation
	case pRetain:
		d.Retain = from.Retain
	case pClass:
		d.Class = from.Class
	}
}

// appendValue writes a property's value the one way.
func (d *Declarations) appendValue(i int, b []byte) []byte {
	switch i {
	case pXYWH:
		return appendRegion(b, d.XYWH)
	case pMirror:
		return appendMirror(b, d.Mirror)
	case pTurn:
		return append(appendNumber(b, d.Turn.Degrees), "deg"...)
	case pPosition:
		return appendPosition(b, d.Position)
	case pBackground:
		return appendColor(b, d.Background)
	case pBackgroundImage:
		return appendEscaped(b, "url("+d.BackgroundImage+")")
	case pAfterContent:
		return appendContent(b, &d.After)
	case pAfterWidth:
		return appendSide(b, d.After.Width)
	case pAfterHeight:
		return appendSide(b, d.After.Height)
	case pAfterInset:
		return appendInset(b, d.After.Inset)
	case pAfterLayerOpacity:
		return appendNumber(b, d.After.Opacity.Value)
	case pAfterBlend:
		return append(b, blends[d.After.Blend]...)
	case pAfterLayerTurn:
		return append(appendNumber(b, d.After.Turn.Degrees), "deg"...)
	case pAfterLayerColor:
		return appendColor(b, d.After.Color)
	case pAfterFont:
		return appendFont(b, d.After.Font)
	case pAfterAlign:
		return append(b, aligns[d.After.Align]...)
	case pAfterLayerBackground:
		return appendColor(b, d.After.Background)
	case pAfterPadding:
		return appendPadding(b, d.After.Padding)
	case pMap:
		return appendMap(b, d.Map)
	case pSharpen:
		return appendNumber(b, d.Sharpen.Amount)
	case pRadius:
		return appendRadius(b, d.Radius)
	case pFilter:
		return appendEscaped(b, d.Filter)
	case pMatte:
		return appendColor(b, d.Matte)
	case pWidth:
		return appendNumber(b, d.Width)
	case pHeight:
		return appendNumber(b, d.Height)
	case pAspect:
		b = appendNumber(b, d.Aspect.W)
		if d.Aspect.H != 1 {
			b = appendNumber(append(b, '/'), d.Aspect.H)
		}
		return b
	case pResolution:
		return append(appendNumber(b, d.Resolution), 'x')
	case pFit:
		return append(b, d.Fit.String()...)
	case pGrow:
		return append(b, d.Grow.String()...)
	case pOpacity:
		return appendNumber(b, d.Opacity.Value)
	case pFormat:
		return append(b, d.Format.String()...)
	case pQuality:
		if d.Quality == Lossless {
			return append(b, "lossless"...)
		}
		return strconv.AppendInt(b, int64(d.Quality), 10)
	case pBudget:
		return strconv.AppendInt(b, d.Budget, 10)
	case pAnimation:
		return append(b, d.Animation.String()...)
	case pRetain:
		return d.Retain.appendTo(b)
	case pClass:
		return appendEscaped(b, d.Class)
	case pAs:
		return append(b, d.As.String()...)
	case pDownload:
		return appendEscaped(b, d.Download.Name)
	case pExpires:
		return time.Unix(d.Expires, 0).UTC().AppendFormat(b, time.RFC3339)
	case pKeyID:
		return append(b, d.KeyID...)
	default:
		return append(b, d.Signature...)
	}
}
