package wording

import (
	"fmt"
	"strings"
	"unicode/utf8"
)

// Text returns the beginning of s that takes at most so many bytes, as text that anything takes: bytes that are no
// UTF-8 become U+FFFD, and NUL, which PostgreSQL refuses, becomes its picture, U+2400.
func Text(s string, most int) string {
	return head(clean(head(s, most)), most)
}

// Cut is Text with … in place of what was left out. It is for telling people again what they sent.
func Cut(s string, most int) string {
	whole := clean(head(s, most))
	if len(s) <= most && len(whole) <= most {
		return whole
	}
	return head(whole, most-len("…")) + "…"
}

func clean(s string) string {
	if strings.IndexByte(s, 0) >= 0 {
		s = strings.ReplaceAll(s, "\x00", "\u2400")
	}
	return strings.ToValidUTF8(s, "\ufffd")
}

// head cuts s between two characters.
func head(s string, most int) string {
	if len(s) <= most {
		return s
	}
	for cut := most; cut >= 0 && cut > most-utf8.UTFMax; cut-- {
		if utf8.RuneStart(s[cut]) {
			return s[:cut]
		}
	}
	return s[:most] // no UTF-8 anyway
}

// Join writes a list's members, with the separator between them.
func Join[T fmt.Stringer](list []T, separator string) string {
	words := make([]string, len(list))
	for i, v := range list {
		words[i] = v.String()
	}
	return strings.Join(words, separator)
}
