package delivery

import (
	"context"
	"fmt"
	"io"
	"net"
	"time"

	"github.com/valyala/fasthttp"

	"echolane/core/metadata"
	"echolane/core/policy"
	"echolane/service/cache"
	"echolane/service/source/held"
)

// The source itself, for a download: conditional, in ranges, streamed from where it lies.

// original is a source as it goes out: its own bytes, or those that Splices make of them.
type original struct {
	etag     string
	modified time.Time
	size     int64
	splices  []metadata.Splice // none: as it lies there
	content  *held.Content
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
	h.Set("Content-Disposition", disposition(r, own.Known.Header.Type))
	h.Set("Content-Security-Policy", "sandbox; default-src 'none'")
	h.Set("ETag", o.etag)
	h.Set("Accept-Ranges", "bytes")
	h.SetCanonical(fLocation, r.form(r.declared))
	h.SetCanonical(fCacheStatus, []byte("Echo-Lane; fwd=bypass"))
	if !o.modified.IsZero() {
		h.SetLastModified(o.modified)
	}
	embed(h, e, []byte(controlOf(r, own.Known.Sharing).text(false, e.Restricted, time.Now().Unix())), "")
	n, parts := o.size, []part{{span: span{0, o.size}}}
	if notModified(&c.Request.Header, o.etag, o.modified) {
		c.Response.SetStatusCode(fasthttp.StatusNotModified)
		n = 0
		h.Del("Content-Type")
	} else if spans, all := partial(c, o.size, o.etag, o.modified); !all {
		switch n = 0; len(spans) {
		case 0:
		case 1:
			n, parts = spans[0].n, []part{{span: spans[0]}}
		default:
			var mediaType string
			parts, mediaType, n = partsOf(spans, own.Known.Header.Type, o.size)
			h.SetContentType(mediaType)
		}
	}
	if n > 0 {
		c.Response.SetBodyStream(&originalReader{o: o, parts: parts, conn: c.Conn()}, int(n))
	} else {
		o.content.Close()
	}
	if c.IsHead() {
		n = 0
	}
	s.count(r.site.Name, cache.Original, c.Response.StatusCode(), int(n), n, start)
}

// stalled is how long a client may take to read the next piece of an original.
const stalled = 30 * time.Second

// originalReader reads what goes out piece by piece, and holds the client to a deadline for each.
type originalReader struct {
	o     *original
	parts []part // what is still to go out
	conn  net.Conn
}

// Read gives the next bytes. It runs while the answer is written, where nobody else would catch a panic.
func (r *originalReader) Read(p []byte) (n int, err error) {
	defer func() {
		if v := recover(); v != nil {
			err = fmt.Errorf("read an original: panic: %v", v)
		}
	}()
	for len(r.parts) > 0 && len(r.parts[0].text) == 0 && r.parts[0].n <= 0 {
		r.parts = r.parts[1:]
	}
	if len(r.parts) == 0 {
		return 0, io.EOF
	}
	if r.conn != nil {
		r.conn.SetWriteDeadline(time.Now().Add(stalled))
	}
	now := &r.parts[0]
	if len(now.text) > 0 {
		n = copy(p, now.text)
		now.text = now.text[n:]
		return n, nil
	}
	if int64(len(p)) > now.n {
		p = p[:now.n]
	}
	n, err = r.o.readAt(p, now.from)
	now.from += int64(n)
	now.n -= int64(n)
	if err == io.EOF && now.n > 0 {
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
func Stream(c *fasthttp.RequestCtx, content *held.Content) io.Reader {
	return &originalReader{o: &original{size: content.Size(), content: content}, parts: []part{{span: span{0, content.Size()}}}, conn: c.Conn()}
}
