package web

import (
	"compress/gzip"
	"compress/zlib"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"os"
	"strings"
	"time"

	whatwg "github.com/nlnwa/whatwg-url/url"

	"echolane/core/policy"
	"echolane/core/wording"
	"echolane/service/source"
	"echolane/service/source/held"
	"echolane/service/trace"
)

// Lane is a lane whose sources come from HTTP origins that its rules allow. What was fetched is kept and
// revalidated as RFC 9111 has it; an origin that fails is answered for by what is kept, where it lets that be.
type Lane struct {
	site    string
	lane    *policy.CompiledLane
	headers http.Header // secret ones, for the source's own origin alone
	client  *http.Client
	total   time.Duration
	keep    *source.Keep
	cdn     func() string // our name in CDN-Loop
	now     func() time.Time
}

const (
	maxHops     = 3
	originRetry = 10 // seconds after which a failed origin is worth another try, where it doesn't say
)

// url is the source's URL for a path: the base with the path behind it, or the path itself.
func (w *Lane) url(path string) (*whatwg.Url, *policy.Refusal) {
	text := path
	if w.lane.BaseURL != "" {
		var b strings.Builder
		for i, element := range strings.Split(path, "/") {
			if i > 0 {
				b.WriteByte('/')
			}
			b.WriteString(url.PathEscape(element))
		}
		text = w.lane.BaseURL + b.String()
	}
	u, err := policy.ReadURL(text)
	if err != nil {
		return nil, policy.No(policy.Refusal{
			Reason: policy.ReasonBadSourceURL, Parameter: "source", Given: wording.Cut(path, 120), Detail: err.Error(),
			Allowed: "a whole http or https URL as one element of the path, as encodeURIComponent writes it", Remedy: "write it as https%3A%2F%2Fphotos.example.test%2Fcrowd.jpg",
		})
	}
	u.SetHash("")
	return u, nil
}

// Check walks a source's URL through the lane's rules, without fetching it. trace may be nil.
func (w *Lane) Check(path string, trace *[]policy.Step) (string, *policy.Refusal) {
	u, no := w.url(path)
	if no != nil {
		return path, no
	}
	return u.Href(true), w.lane.WalkRules(w.site, u.Href(true), trace)
}

func (w *Lane) key(path string) string {
	return source.KeepKey(w.site, w.lane.Name, w.lane.BaseURL, path)
}

// Stat revalidates what is known, or fetches.
func (w *Lane) Stat(ctx context.Context, path string, have *source.Version) (source.Version, *held.Content, error) {
	// The rules are asked also for what is kept: a rule that was taken back works at once.
	if _, no := w.Check(path, nil); no != nil {
		return source.Version{}, nil, no
	}
	key := w.key(path)
	if have != nil {
		c, ok := w.keep.Open(key, *have)
		c.Close()
		if !ok {
			have = nil // what it would be revalidated for is gone
		}
	}
	return w.keep.Newest(ctx, key, have, func(have *source.Version) (source.Version, *held.Content, error) { return w.stat(ctx, path, have) })
}

func (w *Lane) stat(ctx context.Context, path string, have *source.Version) (source.Version, *held.Content, error) {
	v, content, err := w.fetch(ctx, path, have)
	var no *policy.Refusal
	if err != nil && have != nil && errors.As(err, &no) && (no.Reason == policy.ReasonOriginFailed || no.Reason == policy.ReasonOriginSlow) && w.now().Before(have.StaleUntil) {
		stale := *have
		stale.Fresh, stale.Stale = source.StaleServed, true
		return stale, nil, nil
	}
	if err != nil {
		return source.Version{}, nil, err
	}
	if w.keeps(v.Sharing) && content != nil {
		content.Close() // it is kept, and opened again when it's needed
		content = nil
	}
	return v, content, nil
}

// keeps says whether a source is kept between requests, by what its origin lets caches do and what the lane says of that.
func (w *Lane) keeps(s source.Sharing) bool { return s == source.Public || w.lane.Unshared == "keep" }

// Open gives what is kept, or fetches it again.
func (w *Lane) Open(ctx context.Context, path string, v source.Version) (*held.Content, error) {
	return w.keep.OpenOr(w.key(path), v, func() (source.Version, *held.Content, error) { return w.fetch(ctx, path, nil) })
}

// Forget drops what is kept of a source.
func (w *Lane) Forget(path string, since uint64) { w.keep.Forget(w.key(path), since) }

// List fails: an HTTP origin can't be asked for what it has.
func (w *Lane) List(context.Context, string, int) ([]source.Entry, bool, error) {
	return nil, false, errors.ErrUnsupported
}

// Near is false: a source may have to be fetched.
func (w *Lane) Near() bool { return false }

// PathOf gives the path under which the lane has the source at a URL.
func (w *Lane) PathOf(address string) (string, bool) {
	path := address
	if w.lane.BaseURL != "" {
		rest, below := strings.CutPrefix(address, w.lane.BaseURL)
		plain, err := url.PathUnescape(rest)
		if !below || err != nil {
			return "", false
		}
		path = plain
	}
	_, no := w.Check(path, nil)
	return path, no == nil
}

// Close ends idle connections.
func (w *Lane) Close() { w.client.CloseIdleConnections() }

// fetch gets the source, or, where have is still what there is, have with what the origin says of it now and no content.
func (w *Lane) fetch(ctx context.Context, path string, have *source.Version) (source.Version, *held.Content, error) {
	ctx, cancel := context.WithTimeout(ctx, w.total)
	defer cancel()
	at, no := w.url(path)
	if no != nil {
		return source.Version{}, nil, no
	}
	origin := at.Scheme() + "://" + at.Host()
	own := true // until a foreign host has had a hand in where to go
	for hop := 0; ; hop++ {
		href := at.Href(true)
		if no := w.lane.WalkRules(w.site, href, nil); no != nil {
			if hop > 0 {
				no.Detail = "the origin redirects to it, and " + no.Detail
			}
			return source.Version{}, nil, no
		}
		own = own && at.Scheme()+"://"+at.Host() == origin
		answer, err := w.ask(ctx, href, have, own)
		if err != nil {
			return source.Version{}, nil, w.failed(href, err)
		}
		switch answer.StatusCode {
		case 301, 302, 303, 307, 308:
			answer.Body.Close()
			if hop == maxHops {
				return source.Version{}, nil, policy.No(policy.Refusal{Reason: policy.ReasonTooManyRedirects, Parameter: "source", Given: wording.Cut(href, 120), Detail: fmt.Sprintf("the origin redirects more than %d times", maxHops), Allowed: fmt.Sprintf("at most %d redirects", maxHops), Remedy: "use the address that it ends at"})
			}
			next, err := at.Parse(answer.Header.Get("Location"))
			if err != nil || answer.Header.Get("Location") == "" {
				return source.Version{}, nil, w.broken(href, "it redirects to what isn't a URL", originRetry)
			}
			if next, err = policy.ReadURL(next.Href(true)); err != nil {
				return source.Version{}, nil, policy.No(policy.Refusal{Reason: policy.ReasonBadSourceURL, Parameter: "source", Given: wording.Cut(answer.Header.Get("Location"), 120), Detail: "the origin redirects to it: " + err.Error(), Allowed: "http and https URLs", Remedy: "use the address that the picture is at"})
			}
			at = next
			continue
		}
		defer answer.Body.Close()
		return w.take(ctx, href, path, answer, have)
	}
}

func (w *Lane) ask(ctx context.Context, href string, have *source.Version, own bool) (*http.Response, error) {
	r, err := http.NewRequestWithContext(ctx, "GET", href, nil)
	if err != nil {
		return nil, err
	}
	r.Header.Set("Accept", "image/*,*/*;q=0.1")
	r.Header.Set("User-Agent", "echolane")
	r.Header.Set("CDN-Loop", w.cdn())
	if p := trace.From(ctx).Child().String(); p != "" {
		r.Header.Set(trace.Field, p)
	}
	if own {
		for name, values := range w.headers {
			r.Header[name] = values
		}
	}
	if have != nil {
		tag, modified, _ := strings.Cut(have.Validator, "\n")
		if tag != "" {
			r.Header.Set("If-None-Match", tag)
		} else if modified != "" {
			r.Header.Set("If-Modified-Since", modified)
		}
	}
	return w.client.Do(r)
}

// take reads an answer that isn't a redirect.
func (w *Lane) take(ctx context.Context, href, path string, answer *http.Response, have *source.Version) (source.Version, *held.Content, error) {
	switch s := answer.StatusCode; {
	case s == 304 && have != nil:
		v := w.version(updated(have.Fields, answer.Header))
		v.Digest, v.Bytes = have.Digest, have.Bytes
		if v.Validator != have.Validator || v.Sharing != have.Sharing {
			w.keep.Refresh(w.key(path), v)
		}
		return v, nil, nil
	case s == 404 || s == 410:
		return source.Version{}, nil, source.Missing(w.site+"/"+w.lane.Name, path)
	case s == 401 || s == 403:
		return source.Version{}, nil, w.broken(href, fmt.Sprintf("it answered %s; if it wants a key, keep it with: echolane lane secret %s/%s --header 'Authorization: …'", answer.Status, w.site, w.lane.Name), originRetry)
	case s != 200:
		return source.Version{}, nil, w.broken(href, "it answered "+answer.Status, retryIn(answer.Header, originRetry, w.now()))
	}
	limit := w.lane.Limits
	if answer.ContentLength > 0 {
		if no := limit.CheckBytes(answer.ContentLength); no != nil {
			return source.Version{}, nil, no
		}
	}
	coding := answer.Header.Get("Content-Encoding")
	body, err := decoded(io.LimitReader(answer.Body, limit.SourceBytes+1), coding)
	if err != nil {
		return source.Version{}, nil, w.broken(href, err.Error(), originRetry)
	}
	hint := answer.ContentLength
	if coding != "" {
		hint = -1
	}
	said := w.version(fieldsOf(answer.Header))
	v, content, err := w.keep.Receive(ctx, body, limit.SourceBytes, hint, "", func(d held.Digest, n int64) (source.Version, string) {
		v := said
		v.Digest, v.Bytes = d, n
		if !w.keeps(v.Sharing) {
			return v, ""
		}
		return v, w.key(path)
	})
	if errors.Is(err, source.ErrTooLong) {
		no := limit.CheckBytes(limit.SourceBytes + 1)
		no.Detail = fmt.Sprintf("the source has more than the %d bytes that are read", limit.SourceBytes)
		return source.Version{}, nil, no
	}
	if err != nil {
		return source.Version{}, nil, w.failed(href, err)
	}
	return v, content, nil
}

// version is what an origin's fields say of a source.
func (w *Lane) version(fields map[string][]string) source.Version {
	h, now := http.Header(fields), w.now()
	f := freshnessOf(fields, w.lane.Fresh, now)
	v := source.Version{Validator: h.Get("ETag") + "\n" + h.Get("Last-Modified"), Fresh: f.lifetime, Fields: fields, Validated: now, StaleUntil: now.Add(f.lifetime + f.stale), Sharing: f.sharing}
	if f.stale == 0 {
		v.StaleUntil = time.Time{}
	}
	if t, err := http.ParseTime(h.Get("Last-Modified")); err == nil {
		v.Modified = t.UTC()
	}
	switch {
	case f.sharing != source.Public && !w.keeps(f.sharing):
		v.Fresh, v.StaleUntil = 0, time.Time{}
	case f.sharing == source.NoStore:
		v.Fresh = w.lane.Fresh
	}
	return v
}

// decoded undoes a content coding, under the same limit as what it makes.
func decoded(r io.Reader, coding string) (io.Reader, error) {
	switch strings.ToLower(strings.TrimSpace(coding)) {
	case "", "identity":
		return r, nil
	case "gzip", "x-gzip":
		g, err := gzip.NewReader(r)
		if err != nil {
			return nil, errors.New("it says gzip and sends something else")
		}
		return g, nil
	case "deflate":
		z, err := zlib.NewReader(r)
		if err != nil {
			return nil, errors.New("it says deflate and sends something else")
		}
		return z, nil
	}
	return nil, fmt.Errorf("it sends the content coding %s, which nobody asked for", wording.Cut(coding, 120))
}

func (w *Lane) broken(href, how string, retry int) *policy.Refusal {
	return policy.No(policy.Refusal{
		Reason: policy.ReasonOriginFailed, Parameter: "source", Given: wording.Cut(href, 120), Detail: "the origin of lane " + w.site + "/" + w.lane.Name + " failed: " + how,
		Remedy: "look whether the source's address opens in a browser, and try again", RetryIn: retry,
	})
}

// failed puts what went wrong on the way to an origin into words.
func (w *Lane) failed(href string, err error) error {
	var no *policy.Refusal
	if errors.As(err, &no) {
		return no
	}
	if errors.Is(err, context.Canceled) {
		return err
	}
	var network net.Error
	if errors.Is(err, context.DeadlineExceeded) || errors.Is(err, os.ErrDeadlineExceeded) || errors.As(err, &network) && network.Timeout() {
		return policy.No(policy.Refusal{
			Reason: policy.ReasonOriginSlow, Parameter: "source", Given: wording.Cut(href, 120), Detail: "the origin of lane " + w.site + "/" + w.lane.Name + " took too long",
			Remedy: "try again later", RetryIn: 10,
		})
	}
	var u *url.Error
	if errors.As(err, &u) {
		err = u.Err
	}
	return w.broken(href, wording.Cut(err.Error(), 120), originRetry)
}
