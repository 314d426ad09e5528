package delivery

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"net"
	"strconv"
	"strings"
	"time"

	"github.com/valyala/fasthttp"

	"echolane/core/metadata"
	"echolane/core/policy"
	"echolane/service/cache"
	"echolane/service/source"
)

// The source itself, for a download: conditional, in ranges, streamed from where it lies.

// original is a source as it goes out: its own bytes, or those that Splices make of them.
type original struct {
	etag     string
	modified time.Time
	size     int64
	splices  []metadata.Splice // none: as it lies there
	content  *source.Content
}

// findOriginal finds what goes out of a source.
func (s *Service) findOriginal(ctx context.Context, r *request, f *found) *policy.Refusal {
	own := f.sources[0]
	o := &original{etag: `"` + string(own.Known.Digest) + `"`, modified: own.Known.Modified, size: own.Known.Bytes}
	if r.lane.Metadata == "strip" {
		all, err := s.Sources.Strip(ctx, own)
		if err != nil {
			return s.refusalOf(err)
		}
		n, ok := metadata.CheckSplices(all, own.Known.Bytes)
		if !ok {
			return s.refusalOf(fmt.Errorf("the parts of %s/%s aren't its own", r.lane.Name, r.path))
		}
		o.splices, o.size, o.etag = all, n, `"`+string(own.Known.Digest)+`-bare"`
	}
	var err error
	if o.content, err = own.Open(ctx); err != nil {
		return s.refusalOf(err)
	}
	f.original = o
	return nil
}

// sendOriginal answers with the source itself.
func (s *Service) sendOriginal(c *fasthttp.RequestCtx, r *request, f *found, e policy.Embedding, start int64) {
	o, own := f.original, f.sources[0]
	h := &c.Response.Header
	h.SetContentType(own.Known.Header.Type)
	h.Set("Content-Disposition", attachment(r, own.Known.Header.Type))
	h.Set("Content-Security-Policy", "sandbox; default-src 'none'")
	h.Set("ETag", o.etag)
	h.Set("Accept-Ranges", "bytes")
	h.SetCanonical(fLocation, r.form(r.declared))
	h.SetCanonical(fCacheStatus, []byte("Echo-Lane; fwd=bypass"))
	if !o.modified.IsZero() {
		h.SetLastModified(o.modified)
	}
	embed(h, e, []byte(controlOf(r, own.Known.Sharing).text(false, e.Restricted, time.Now().Unix())), "")
	from, n, status := int64(0), o.size, fasthttp.StatusOK
	switch {
	case notModified(&c.Request.Header, o.etag, o.modified):
		status, n = fasthttp.StatusNotModified, 0
		h.Del("Content-Type")
	case len(c.Request.Header.Peek("Range")) > 0 && c.IsGet() && o.mayRange(&c.Request.Header):
		first, length, ok, satisfiable := rangeOf(string(c.Request.Header.Peek("Range")), o.size)
		switch {
		case !ok: // a range that isn't understood is none (RFC 9110, section 14.2)
		case !satisfiable:
			status, n = fasthttp.StatusRequestedRangeNotSatisfiable, 0
			h.Set("Content-Range", "bytes */"+strconv.FormatInt(o.size, 10))
		default:
			from, n, status = first, length, fasthttp.StatusPartialContent
			h.Set("Content-Range", fmt.Sprintf("bytes %d-%d/%d", first, first+length-1, o.size))
		}
	}
	c.Response.SetStatusCode(status)
	if n > 0 {
		c.Response.SetBodyStream(&originalReader{o: o, at: from, left: n, conn: c.Conn()}, int(n))
	} else {
		o.content.Close()
	}
	if c.IsHead() {
		n = 0
	}
	s.count(r.site.Name, cache.Original, status, int(n), start)
}

// mayRange says whether a range may be sent: If-Range must name this very version (RFC 9110, section 13.1.5).
func (o *original) mayRange(h *fasthttp.RequestHeader) bool {
	given := bytes.TrimSpace(h.Peek("If-Range"))
	if len(given) == 0 || string(given) == o.etag {
		return true
	}
	at, err := fasthttp.ParseHTTPDate(given)
	return err == nil && !o.modified.IsZero() && at.Equal(o.modified)
}

// rangeOf reads a Range field of one range of bytes (RFC 9110, section 14.1.2). ok is false where it is something else, or
// more than one: then all is sent.
func rangeOf(field string, size int64) (from, n int64, ok, satisfiable bool) {
	unit, spec, found := strings.Cut(field, "=")
	if !found || !strings.EqualFold(strings.TrimSpace(unit), "bytes") || strings.Contains(spec, ",") {
		return 0, 0, false, false
	}
	first, last, found := strings.Cut(strings.TrimSpace(spec), "-")
	number := func(s string) (int64, bool) {
		v, err := strconv.ParseInt(s, 10, 64)
		return v, err == nil && s != "" && s[0] >= '0' && s[0] <= '9'
	}
	if !found {
		return 0, 0, false, false
	}
	if first == "" { // so many of the last
		v, good := number(last)
		if !good {
			return 0, 0, false, false
		}
		v = min(v, size)
		return size - v, v, true, v > 0
	}
	a, good := number(first)
	if !good {
		return 0, 0, false, false
	}
	b := size - 1
	if last != "" {
		if b, good = number(last); !good || b < a {
			return 0, 0, false, false
		}
		b = min(b, size-1)
	}
	return a, b - a + 1, true, a < size
}

// stalled is how long a client may take to read the next piece of an original.
const stalled = 30 * time.Second

// originalReader reads what goes out piece by piece, and holds the client to a deadline for each.
type originalReader struct {
	o        *original
	at, left int64
	conn     net.Conn
}

// Read gives the next bytes. It runs while the answer is written, where nobody else would catch a panic.
func (r *originalReader) Read(p []byte) (n int, err error) {
	defer func() {
		if v := recover(); v != nil {
			err = fmt.Errorf("read an original: panic: %v", v)
		}
	}()
	if r.left <= 0 {
		return 0, io.EOF
	}
	if r.conn != nil {
		r.conn.SetWriteDeadline(time.Now().Add(stalled))
	}
	if int64(len(p)) > r.left {
		p = p[:r.left]
	}
	n, err = r.o.readAt(p, r.at)
	r.at += int64(n)
	r.left -= int64(n)
	if err == io.EOF && r.left > 0 {
		err = io.ErrUnexpectedEOF // the file is shorter than it was
	} else if err == io.EOF {
		err = nil
	}
	return n, err
}

// Close lets go of the source.
func (r *originalReader) Close() error {
	r.o.content.Close()
	return nil
}

// readAt reads of what goes out.
func (o *original) readAt(p []byte, at int64) (int, error) {
	if o.splices == nil {
		return o.content.ReadAt(p, at)
	}
	for _, s := range o.splices {
		n := s.Len()
		if at >= n {
			at -= n
			continue
		}
		if len(s.Put) > 0 {
			return copy(p, s.Put[at:]), nil
		}
		p = p[:min(int64(len(p)), n-at)]
		return o.content.ReadAt(p, s.From+at)
	}
	return 0, io.EOF
}

// Stream reads content for an answer, and holds the client to a deadline for each piece. It closes the content.
func Stream(c *fasthttp.RequestCtx, content *source.Content) io.Reader {
	return &originalReader{o: &original{size: content.Size(), content: content}, left: content.Size(), conn: c.Conn()}
}
