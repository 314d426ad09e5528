package text

// #cgo LDFLAGS: -lharfbuzz
// #include <stdlib.h>
// #include <string.h>
// #include <harfbuzz/hb.h>
// #include <harfbuzz/hb-ot.h>
//
// typedef struct { char op; float x[6]; } piece;
// typedef struct { piece *list; int n, room, full; } trail;
//
// enum { MOST_PIECES = 100000 };
//
// static piece *next(trail *t) {
// 	if (t->n == t->room) {
// 		int room = t->room ? 2 * t->room : 64;
// 		piece *p = room > MOST_PIECES ? NULL : realloc(t->list, room * sizeof *p);
// 		if (!p) { t->full = 1; return NULL; }
// 		t->list = p, t->room = room;
// 	}
// 	return &t->list[t->n++];
// }
// static void move_to(hb_draw_funcs_t *f, void *to, hb_draw_state_t *s, float x, float y, void *u) {
// 	piece *p = next(to);
// 	if (p) *p = (piece){'M', {x, y}};
// }
// static void line_to(hb_draw_funcs_t *f, void *to, hb_draw_state_t *s, float x, float y, void *u) {
// 	piece *p = next(to);
// 	if (p) *p = (piece){'L', {x, y}};
// }
// static void quad_to(hb_draw_funcs_t *f, void *to, hb_draw_state_t *s, float ax, float ay, float x, float y, void *u) {
// 	piece *p = next(to);
// 	if (p) *p = (piece){'Q', {ax, ay, x, y}};
// }
// static void cube_to(hb_draw_funcs_t *f, void *to, hb_draw_state_t *s, float ax, float ay, float bx, float by, float x, float y, void *u) {
// 	piece *p = next(to);
// 	if (p) *p = (piece){'C', {ax, ay, bx, by, x, y}};
// }
//
// static hb_draw_funcs_t *drawing(void) {
// 	hb_draw_funcs_t *f = hb_draw_funcs_create();
// 	hb_draw_funcs_set_move_to_func(f, move_to, NULL, NULL);
// 	hb_draw_funcs_set_line_to_func(f, line_to, NULL, NULL);
// 	hb_draw_funcs_set_quadratic_to_func(f, quad_to, NULL, NULL);
// 	hb_draw_funcs_set_cubic_to_func(f, cube_to, NULL, NULL);
// 	return f;
// }
//
// static piece *outline_of(hb_font_t *font, unsigned id, int *n) {
// 	trail t = {0};
// 	hb_draw_funcs_t *f = drawing();
// 	hb_font_get_glyph_shape(font, id, f, &t);
// 	hb_draw_funcs_destroy(f);
// 	*n = t.full ? 0 : t.n;
// 	return t.list;
// }
//
// static hb_face_t *open_face(const char *data, unsigned n, unsigned index) {
// 	hb_blob_t *blob = hb_blob_create_or_fail(data, n, HB_MEMORY_MODE_DUPLICATE, NULL, NULL);
// 	if (!blob) return NULL;
// 	hb_face_t *face = index < hb_face_count(blob) ? hb_face_create(blob, index) : NULL;
// 	hb_blob_destroy(blob);
// 	if (face && !hb_face_get_glyph_count(face)) { hb_face_destroy(face); face = NULL; }
// 	if (face) hb_face_make_immutable(face);
// 	return face;
// }
//
// static int has_table(hb_face_t *face, hb_tag_t tag) {
// 	hb_blob_t *blob = hb_face_reference_table(face, tag);
// 	unsigned n = hb_blob_get_length(blob);
// 	hb_blob_destroy(blob);
// 	return n > 0;
// }
//
// static hb_font_t *open_font(hb_face_t *face, hb_variation_t *v, unsigned n) {
// 	hb_font_t *font = hb_font_create(face);
// 	int upem = hb_face_get_upem(face);
// 	hb_font_set_scale(font, upem, upem);
// 	hb_font_set_variations(font, v, n);
// 	hb_font_make_immutable(font);
// 	return font;
// }
//
// static hb_buffer_t *shape_run(hb_font_t *font, const uint32_t *text, int n, int from, int to, int way, const char *script, const char *lang, int plain, const int *trims, int n_trims) {
// 	hb_buffer_t *b = hb_buffer_create();
// 	hb_buffer_add_utf32(b, text, n, from, to - from);
// 	hb_buffer_set_direction(b, (hb_direction_t)way);
// 	hb_buffer_set_script(b, hb_script_from_string(script, 4));
// 	hb_buffer_set_language(b, hb_language_from_string(lang, -1));
// 	static const hb_tag_t ligatures[] = {HB_TAG('l','i','g','a'), HB_TAG('c','l','i','g'), HB_TAG('d','l','i','g'), HB_TAG('h','l','i','g'), HB_TAG('c','a','l','t')};
// 	hb_tag_t trim = HB_DIRECTION_IS_VERTICAL((hb_direction_t)way) ? HB_TAG('v','h','a','l') : HB_TAG('h','a','l','t');
// 	hb_feature_t *list = malloc((n_trims + 5) * sizeof *list);
// 	int k = 0;
// 	for (int i = 0; list && plain && i < 5; i++) list[k++] = (hb_feature_t){ligatures[i], 0, 0, HB_FEATURE_GLOBAL_END};
// 	for (int i = 0; list && i < n_trims; i++) list[k++] = (hb_feature_t){trim, 1, trims[i], trims[i] + 1};
// 	hb_shape(font, b, list, k);
// 	free(list);
// 	return b;
// }
import "C"

import (
	"errors"
	"fmt"
	"runtime"
	"unsafe"
)

// Fonts are read, shaped and drawn by HarfBuzz, as browsers do it. It reads what it needs of a font when it needs it: a collection of
// twenty megabytes costs what is used of it.

// A fontFace is one face of a file, in units of its em. It is never changed; safe for concurrent use.
type fontFace struct {
	face    *C.hb_face_t
	upem    float64
	axes    bool // it is variable
	bitmap  bool // glyphs of it are pictures of pixels
	rigid   bool // it has no outlines
	key     cacheKey
	colr    *colr // its glyphs that are graphs of paints; nil for none
	columns bool  // it says how upright characters move the pen in vertical writing
}

var errFont = errors.New("it isn't a TTF, OTF, WOFF or WOFF2 font")

func openFace(data []byte, index int) (*fontFace, error) {
	if len(data) < 12 {
		return nil, errFont
	}
	f := C.open_face((*C.char)(unsafe.Pointer(&data[0])), C.uint(len(data)), C.uint(index))
	if f == nil {
		return nil, errFont
	}
	out := &fontFace{face: f, upem: float64(C.hb_face_get_upem(f)), axes: C.hb_ot_var_has_data(f) != 0, bitmap: C.hb_ot_color_has_png(f) != 0, rigid: C.has_table(f, tagOf("glyf")) == 0 && C.has_table(f, tagOf("CFF ")) == 0 && C.has_table(f, tagOf("CFF2")) == 0,
		columns: C.has_table(f, tagOf("vmtx")) != 0, colr: readColr(f)}
	runtime.AddCleanup(out, func(f *C.hb_face_t) { C.hb_face_destroy(f) }, f)
	return out, nil
}

// A font is a face at a place on its axes.
type font struct {
	*fontFace
	hb *C.hb_font_t
	at string // its place on the axes
}

func (f *fontFace) font(axes []Variation) *font {
	list := make([]C.hb_variation_t, 0, len(axes)+1)
	for _, a := range axes {
		if len(a.Axis) == 4 {
			list = append(list, C.hb_variation_t{tag: C.hb_tag_t(uint32(a.Axis[0])<<24 | uint32(a.Axis[1])<<16 | uint32(a.Axis[2])<<8 | uint32(a.Axis[3])), value: C.float(a.Value)})
		}
	}
	list = append(list, C.hb_variation_t{})
	hb := C.open_font(f.face, &list[0], C.uint(len(list)-1))
	out := &font{f, hb, fmt.Sprint(axes)}
	runtime.AddCleanup(out, func(hb *C.hb_font_t) { C.hb_font_destroy(hb) }, hb)
	return out
}

// extents are how far the font goes above and below its baseline, and the gap between lines.
func (f *font) extents() (ascent, descent, gap float64, ok bool) {
	var e C.hb_font_extents_t
	defer runtime.KeepAlive(f)
	if C.hb_font_get_h_extents(f.hb, &e) == 0 {
		return 0, 0, 0, false
	}
	return float64(e.ascender), -float64(e.descender), float64(e.line_gap), true
}

// glyphOf is the glyph that a character has by itself.
func (f *font) glyphOf(r rune) (id uint32, ok bool) {
	var g C.hb_codepoint_t
	defer runtime.KeepAlive(f)
	ok = C.hb_font_get_nominal_glyph(f.hb, C.hb_codepoint_t(r), &g) != 0
	return uint32(g), ok
}

func (f *font) advanceOf(id uint32) float64 {
	defer runtime.KeepAlive(f)
	return float64(C.hb_font_get_glyph_h_advance(f.hb, C.hb_codepoint_t(id)))
}

// A shapedGlyph is one that shaping gives, in units of the em.
type shapedGlyph struct {
	id              uint32
	cluster         int // the first of the characters that it is of
	advance, dx, dy float64
	unsafe          bool // a text that is divided in front of its cluster is shaped otherwise there
}

// A heading is which way the pen goes.
type heading C.int

const (
	rightwards heading = C.HB_DIRECTION_LTR
	leftwards  heading = C.HB_DIRECTION_RTL
	downwards  heading = C.HB_DIRECTION_TTB
	upwards    heading = C.HB_DIRECTION_BTT
)

// along is the heading of characters at a level, which stand upright in vertical writing or don't.
func along(level uint8, upright bool) heading {
	switch {
	case upright && level&1 != 0:
		return upwards
	case upright:
		return downwards
	case level&1 != 0:
		return leftwards
	}
	return rightwards
}

// shape shapes the characters from one to before another; those around them are looked at. plain leaves ligatures out. The glyphs stand in
// the order in which they are seen. trims are the characters that lose their empty half.
func (f *font) shape(runes []rune, from, to int, way heading, script, lang string, plain bool, trims []int) []shapedGlyph {
	if to <= from {
		return nil
	}
	code, name := C.CString(script), C.CString(lang)
	defer C.free(unsafe.Pointer(code))
	defer C.free(unsafe.Pointer(name))
	flag := func(b bool) C.int {
		if b {
			return 1
		}
		return 0
	}
	var list []C.int
	for _, at := range trims {
		if at >= from && at < to {
			list = append(list, C.int(at))
		}
	}
	var first *C.int
	if len(list) > 0 {
		first = &list[0]
	}
	b := C.shape_run(f.hb, (*C.uint32_t)(unsafe.Pointer(&runes[0])), C.int(len(runes)), C.int(from), C.int(to), C.int(way), code, name, flag(plain), first, C.int(len(list)))
	defer C.hb_buffer_destroy(b)
	runtime.KeepAlive(f)
	var n C.uint
	info := C.hb_buffer_get_glyph_infos(b, &n)
	at := C.hb_buffer_get_glyph_positions(b, &n)
	if n == 0 || info == nil || at == nil {
		return nil
	}
	out := make([]shapedGlyph, n)
	infos, places := unsafe.Slice(info, n), unsafe.Slice(at, n)
	for i := range out {
		cluster := min(max(int(infos[i].cluster), from), to-1)
		unsafe := C.hb_glyph_info_get_glyph_flags(&infos[i])&C.HB_GLYPH_FLAG_UNSAFE_TO_BREAK != 0
		advance := float64(places[i].x_advance)
		if way == downwards || way == upwards {
			advance = -float64(places[i].y_advance)
		}
		out[i] = shapedGlyph{uint32(infos[i].codepoint), cluster, advance, float64(places[i].x_offset), float64(places[i].y_offset), unsafe}
	}
	return out
}

// outline is a glyph's, from its origin, y downwards, multiplied by k.
func (f *font) outline(id uint32, k float64) []Segment {
	var n C.int
	list := C.outline_of(f.hb, C.uint(id), &n)
	runtime.KeepAlive(f)
	if list == nil {
		return nil
	}
	defer C.free(unsafe.Pointer(list))
	pieces := unsafe.Slice(list, n)
	out := make([]Segment, len(pieces))
	for i, p := range pieces {
		out[i].Op = byte(p.op)
		for j := range 3 {
			out[i].Points[j] = [2]float64{float64(p.x[2*j]) * k, -float64(p.x[2*j+1]) * k}
		}
	}
	return out
}

// picture is a glyph that is a PNG file in its font, and the box that it fills, y downwards, in units of the em.
func (f *font) picture(id uint32) (data []byte, x0, y0, x1, y1 float64, ok bool) {
	defer runtime.KeepAlive(f)
	if !f.bitmap {
		return nil, 0, 0, 0, 0, false
	}
	blob := C.hb_ot_color_glyph_reference_png(f.hb, C.hb_codepoint_t(id))
	defer C.hb_blob_destroy(blob)
	var n C.uint
	p := C.hb_blob_get_data(blob, &n)
	var e C.hb_glyph_extents_t
	if n == 0 || C.hb_font_get_glyph_extents(f.hb, C.hb_codepoint_t(id), &e) == 0 {
		return nil, 0, 0, 0, 0, false
	}
	x0, y0 = float64(e.x_bearing), -float64(e.y_bearing)
	return C.GoBytes(unsafe.Pointer(p), C.int(n)), x0, y0, x0 + float64(e.width), y0 - float64(e.height), true
}

// A tint is one layer of a coloured glyph.
type tint struct {
	id     uint32
	colour [4]uint8
	own    bool // it has the text's colour
}

const mostTints = 256

// tints are the layers of a glyph that has them in colours of their own (OpenType 1.9, COLR version 0).
func (f *font) tints(id uint32) []tint {
	defer runtime.KeepAlive(f)
	if C.hb_ot_color_has_layers(f.face) == 0 {
		return nil
	}
	var layers [mostTints]C.hb_ot_color_layer_t
	n := C.uint(mostTints)
	if C.hb_ot_color_glyph_get_layers(f.face, C.hb_codepoint_t(id), 0, &n, &layers[0]) == 0 {
		return nil
	}
	var colours [1024]C.hb_color_t
	m := C.uint(len(colours))
	C.hb_ot_color_palette_get_colors(f.face, 0, 0, &m, &colours[0])
	out := make([]tint, n)
	for i := range out {
		l := layers[i]
		out[i] = tint{id: uint32(l.glyph), own: true}
		if l.color_index != 0xFFFF && C.uint(l.color_index) < m {
			c := uint32(colours[l.color_index]) // blue, green, red, alpha
			out[i].own, out[i].colour = false, [4]uint8{uint8(c >> 8), uint8(c >> 16), uint8(c >> 24), uint8(c)}
		}
	}
	return out
}
