package text

// #cgo LDFLAGS: -licuuc
// #include <stdlib.h>
// #include <unicode/ubidi.h>
// #include <unicode/ubrk.h>
// #include <unicode/uchar.h>
// #include <unicode/uscript.h>
// #include <unicode/ucasemap.h>
// #include <unicode/ustring.h>
//
// // boundaries marks where text may be divided: 1 where it may, 2 where it must be.
// static int boundaries(int kind, const char *locale, const UChar *s, int32_t n, uint8_t *marks) {
// 	UErrorCode e = U_ZERO_ERROR;
// 	UBreakIterator *it = ubrk_open((UBreakIteratorType)kind, locale, s, n, &e);
// 	if (U_FAILURE(e)) return e;
// 	for (int32_t at = ubrk_first(it); at != UBRK_DONE; at = ubrk_next(it))
// 		marks[at] = kind == UBRK_LINE && ubrk_getRuleStatus(it) >= UBRK_LINE_HARD ? 2 : 1;
// 	ubrk_close(it);
// 	return 0;
// }
//
// // levels finds the embedding level of each unit (UAX 9).
// static int levels(const UChar *s, int32_t n, uint8_t base, uint8_t *out) {
// 	UErrorCode e = U_ZERO_ERROR;
// 	UBiDi *bidi = ubidi_openSized(n, 0, &e);
// 	if (U_FAILURE(e)) return e;
// 	ubidi_setPara(bidi, s, n, base, NULL, &e);
// 	const UBiDiLevel *l = ubidi_getLevels(bidi, &e);
// 	if (U_SUCCESS(e)) for (int32_t i = 0; i < n; i++) out[i] = l[i];
// 	ubidi_close(bidi);
// 	return U_SUCCESS(e) ? 0 : e;
// }
//
// enum { UPPER, LOWER, TITLE };
//
// static int32_t change_case(int to, const char *locale, const char *s, int32_t n, char *out, int32_t room) {
// 	UErrorCode e = U_ZERO_ERROR;
// 	UCaseMap *map = ucasemap_open(locale, U_TITLECASE_NO_LOWERCASE | U_TITLECASE_ADJUST_TO_CASED, &e);
// 	if (U_FAILURE(e)) return -1;
// 	int32_t wrote = to == UPPER ? ucasemap_utf8ToUpper(map, out, room, s, n, &e)
// 		: to == LOWER ? ucasemap_utf8ToLower(map, out, room, s, n, &e)
// 		: ucasemap_utf8ToTitle(map, out, room, s, n, &e);
// 	ucasemap_close(map);
// 	return U_SUCCESS(e) ? wrote : -1;
// }
import "C"

import (
	"slices"
	"unicode/utf16"
	"unsafe"
)

// What Unicode says about characters comes from the International Components for Unicode, which browsers use too.

// A kind of boundary.
type boundary C.int

const (
	clusters boundary = C.UBRK_CHARACTER // grapheme clusters (UAX 29)
	lines    boundary = C.UBRK_LINE      // where a line may end (UAX 14)
)

// units are the UTF-16 code units of characters, and where each character begins among them.
type units struct {
	code  []uint16
	start []int // one more than there are characters
}

func unitsOf(runes []rune) units {
	u := units{make([]uint16, 0, len(runes)+8), make([]int, len(runes)+1)}
	for i, r := range runes {
		u.start[i] = len(u.code)
		u.code = utf16.AppendRune(u.code, r)
	}
	u.start[len(runes)] = len(u.code)
	return u
}

// divide marks before which characters text may be divided: 1 where it may, 2 where it must be. There is one more than there are
// characters.
func (u units) divide(kind boundary, locale string) []uint8 {
	out := make([]uint8, len(u.start))
	if len(u.code) == 0 {
		return out
	}
	marks := make([]uint8, len(u.code)+1)
	name := C.CString(locale)
	defer C.free(unsafe.Pointer(name))
	if C.boundaries(C.int(kind), name, (*C.UChar)(unsafe.Pointer(&u.code[0])), C.int32_t(len(u.code)), (*C.uint8_t)(unsafe.Pointer(&marks[0]))) != 0 {
		for i := range out { // out of memory
			out[i] = 1
		}
		return out
	}
	for i, at := range u.start {
		out[i] = marks[at]
	}
	return out
}

// levels finds each character's embedding level, odd where it goes from right to left.
func (u units) levels(rightToLeft bool) []uint8 {
	out := make([]uint8, len(u.start)-1)
	base := C.uint8_t(0)
	if rightToLeft {
		base = 1
	}
	if len(u.code) == 0 {
		return out
	}
	all := make([]uint8, len(u.code))
	if C.levels((*C.UChar)(unsafe.Pointer(&u.code[0])), C.int32_t(len(u.code)), base, (*C.uint8_t)(unsafe.Pointer(&all[0]))) != 0 {
		for i := range all {
			all[i] = uint8(base)
		}
	}
	for i := range out {
		out[i] = all[u.start[i]]
	}
	return out
}

// transform changes the case of a text as a language has it.
func transform(text string, to Transform, locale string) string {
	how := C.int(C.UPPER)
	switch to {
	case Lowercase:
		how = C.LOWER
	case Capitalize:
		how = C.TITLE
	case AsWritten:
		return text
	}
	if text == "" {
		return text
	}
	name, in := C.CString(locale), C.CString(text)
	defer C.free(unsafe.Pointer(name))
	defer C.free(unsafe.Pointer(in))
	room := 3*len(text) + 64 // no character grows by more (Unicode Standard, section 5.18)
	out := make([]byte, room)
	n := C.change_case(how, name, in, C.int32_t(len(text)), (*C.char)(unsafe.Pointer(&out[0])), C.int32_t(room))
	if n < 0 || int(n) > room {
		return text
	}
	return string(out[:n])
}

// quotesAsBrackets is a text in which the quotation marks that stand in East Asian text are brackets: lines are divided before and behind
// them as there (UAX 14 of Unicode 16, rule LB19a).
func quotesAsBrackets(runes []rune) []rune {
	out := runes
	for i := 1; i+1 < len(runes); i++ {
		to := map[rune]rune{'‘': '「', '“': '「', '’': '」', '”': '」'}[runes[i]]
		if to == 0 || !eastAsian(runes[i-1]) || !eastAsian(runes[i+1]) {
			continue
		}
		if &out[0] == &runes[0] {
			out = slices.Clone(runes)
		}
		out[i] = to
	}
	return out
}

// eastAsian reports whether a character is as wide as an ideograph (UAX 11: F, W or H).
func eastAsian(r rune) bool {
	switch C.u_getIntPropertyValue(C.UChar32(r), C.UCHAR_EAST_ASIAN_WIDTH) {
	case C.U_EA_FULLWIDTH, C.U_EA_WIDE, C.U_EA_HALFWIDTH:
		return true
	}
	return false
}

// isEmoji reports whether a character is drawn in colours by itself (UTS 51, section 1.4.2).
func isEmoji(r rune) bool {
	return C.u_hasBinaryProperty(C.UChar32(r), C.UCHAR_EMOJI_PRESENTATION) != 0
}

// mayBeEmoji reports whether a character can be drawn in colours.
func mayBeEmoji(r rune) bool {
	return r > 0xFF && C.u_hasBinaryProperty(C.UChar32(r), C.UCHAR_EMOJI) != 0
}

// leavesNothing reports whether a character shows as nothing where a font doesn't know it.
func leavesNothing(r rune) bool {
	return r < ' ' && r != '\t' || r == 0x7F || C.u_hasBinaryProperty(C.UChar32(r), C.UCHAR_DEFAULT_IGNORABLE_CODE_POINT) != 0
}

// scriptOf is a character's script (UAX 24) by its code in ISO 15924, "" where it goes with its neighbours.
func scriptOf(r rune) string {
	switch {
	case r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z':
		return "Latn"
	case r < 0x80:
		return ""
	}
	var e C.UErrorCode
	code := C.uscript_getScript(C.UChar32(r), &e)
	switch code {
	case C.USCRIPT_COMMON, C.USCRIPT_INHERITED, C.USCRIPT_UNKNOWN, C.USCRIPT_INVALID_CODE:
		return ""
	}
	return C.GoString(C.uscript_getShortName(code))
}
