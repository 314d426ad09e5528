package delivery

import (
	"bytes"
	"crypto/rand"
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/valyala/fasthttp"
)

// Parts of an answer (RFC 9110, section 14): one range, or several in one body.

// A span is a range of bytes.
type span struct{ from, n int64 }

const (
	mostRanges   = 16 // of one request; with more, all is sent
	partsType    = "multipart/byteranges; boundary="
	boundaryWide = 24
)

// rangesOf reads a Range field. ok is false where it isn't one of bytes, or asks for more ranges than is sensible: then all is
// sent. Without spans nothing of it is there (416).
func rangesOf(field string, size int64) (spans []span, ok bool) {
	unit, set, found := strings.Cut(field, "=")
	if !found || !strings.EqualFold(strings.TrimSpace(unit), "bytes") {
		return nil, false
	}
	asked, sum := 0, int64(0)
	for text := range strings.SplitSeq(set, ",") {
		if text = strings.Trim(text, " \t"); text == "" {
			continue // an empty element of a list (RFC 9110, section 5.6.1.2)
		}
		s, good, there := spanOf(text, size)
		if asked++; !good || asked > mostRanges {
			return nil, false
		}
		if there {
			spans = append(spans, s)
			sum += s.n
		}
	}
	if asked == 0 || asked > 1 && sum > size { // they overlap: whoever asks so wants more than all
		return nil, false
	}
	return spans, true
}

// spanOf reads one range; there is false where it begins behind the end.
func spanOf(text string, size int64) (s span, good, there bool) {
	first, last, found := strings.Cut(text, "-")
	number := func(s string) (int64, bool) {
		v, err := strconv.ParseInt(s, 10, 64)
		return v, err == nil && s != "" && s[0] >= '0' && s[0] <= '9'
	}
	if !found {
		return s, false, false
	}
	if first == "" { // so many of the last
		v, good := number(last)
		v = min(v, size)
		return span{size - v, v}, good, v > 0
	}
	a, good := number(first)
	b := size - 1
	if good && last != "" {
		var more bool
		if b, more = number(last); !more || b < a {
			return s, false, false
		}
		b = min(b, size-1)
	}
	return span{a, b - a + 1}, good, a < size
}

// partial works out what of a body of size bytes goes out, and says so in the fields. all is true where all of it does.
func partial(c *fasthttp.RequestCtx, size int64, etag string, modified time.Time) (spans []span, all bool) {
	field := c.Request.Header.Peek("Range")
	if len(field) == 0 || !c.IsGet() || !mayRange(&c.Request.Header, etag, modified) {
		return nil, true
	}
	spans, ok := rangesOf(string(field), size)
	h := &c.Response.Header
	switch {
	case !ok: // a Range that isn't understood is none (RFC 9110, section 14.2)
		return nil, true
	case len(spans) == 0:
		c.Response.SetStatusCode(fasthttp.StatusRequestedRangeNotSatisfiable)
		h.Set("Content-Range", "bytes */"+strconv.FormatInt(size, 10))
	default:
		c.Response.SetStatusCode(fasthttp.StatusPartialContent)
		if len(spans) == 1 {
			h.Set("Content-Range", contentRange(spans[0], size))
		}
	}
	return spans, false
}

func contentRange(s span, size int64) string {
	return fmt.Sprintf("bytes %d-%d/%d", s.from, s.from+s.n-1, size)
}

// mayRange reports whether a range may be sent: If-Range must name this very version (RFC 9110, section 13.1.5).
func mayRange(h *fasthttp.RequestHeader, etag string, modified time.Time) bool {
	given := bytes.TrimSpace(h.Peek("If-Range"))
	if len(given) == 0 || string(given) == etag {
		return true
	}
	at, err := fasthttp.ParseHTTPDate(given)
	return err == nil && !modified.IsZero() && at.Equal(modified)
}

// A part is a piece of an answer: text, and then a span of the body.
type part struct {
	text []byte
	span
}

// partsOf lays several ranges out as one body (RFC 9110, section 14.6), and gives its type and size.
func partsOf(spans []span, mediaType string, size int64) (parts []part, contentType string, n int64) {
	boundary := rand.Text()[:boundaryWide]
	for i, s := range spans {
		text := "\r\n--" + boundary + "\r\nContent-Type: " + mediaType + "\r\nContent-Range: " + contentRange(s, size) + "\r\n\r\n"
		if i == 0 {
			text = text[2:]
		}
		parts = append(parts, part{[]byte(text), s})
	}
	parts = append(parts, part{text: []byte("\r\n--" + boundary + "--\r\n")})
	for _, p := range parts {
		n += int64(len(p.text)) + p.n
	}
	return parts, partsType + boundary, n
}
