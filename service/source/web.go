package source

import (
	"compress/gzip"
	"compress/zlib"
	"context"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"os"
	"strconv"
	"strings"
	"time"

	whatwg "github.com/nlnwa/whatwg-url/url"

	"echolane/core/policy"
	"echolane/service/diskcache"
)

// Web is a lane whose sources come from HTTP origins that its rules allow. What was fetched is kept and
// revalidated as RFC 9111 has it; an origin that fails is answered for by what is kept (RFC 5861, section 4).
type Web struct {
	site    string
	lane    *policy.CompiledLane
	headers http.Header // secret ones, for the source's own origin alone
	client  *http.Client
	total   time.Duration
	keep    *diskcache.Disk // nil: nothing is kept
	cdn     string          // our name in CDN-Loop
	now     func() time.Time
}

// kept is the header of what is kept of a source.
type kept struct {
	Version Version
}

const (
	maxHops     = 3
	staleServed = 10 * time.Second // before a failed origin is tried again
	maxFresh    = 24 * time.Hour
)

// url is the source's URL for a path: the base with the path behind it, or the path itself.
func (w *Web) url(path string) (*whatwg.Url, *policy.Refusal) {
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
			Reason: policy.ReasonBadSourceURL, Parameter: "source", Given: shorten(path), Detail: err.Error(),
			Allowed: "a whole http or https URL as one element of the path, as encodeURIComponent writes it", Remedy: "write it as https%3A%2F%2Fphotos.example.test%2Fcrowd.jpg",
		})
	}
	u.SetHash("")
	return u, nil
}

// Check walks a source's URL through the lane's rules, without fetching it. trace may be nil.
func (w *Web) Check(path string, trace *[]policy.Step) (string, *policy.Refusal) {
	u, no := w.url(path)
	if no != nil {
		return path, no
	}
	return u.Href(true), w.lane.WalkRules(w.site, u.Href(true), trace)
}

func (w *Web) key(path string) string {
	sum := sha256.Sum256([]byte(w.site + "\x00" + w.lane.Name + "\x00" + w.lane.BaseURL + "\x00" + path))
	return base64.RawURLEncoding.EncodeToString(sum[:18])
}

// Look revalidates what is known, or fetches.
func (w *Web) Look(ctx context.Context, path string, have *Version) (Version, []byte, error) {
	// The rules are asked also for what is kept: a rule that was taken back works at once.
	if _, no := w.Check(path, nil); no != nil {
		return Version{}, nil, no
	}
	if have == nil && w.keep != nil {
		if head, _, ok := w.keep.Get(w.key(path)); ok {
			var k kept
			if json.Unmarshal(head, &k) == nil {
				have = &k.Version
			}
		}
	}
	got, err := w.fetch(ctx, path, have)
	if err != nil {
		var no *policy.Refusal
		if have != nil && errors.As(err, &no) && (no.Reason == policy.ReasonOriginFailed || no.Reason == policy.ReasonOriginSlow) {
			stale := *have
			stale.Fresh = staleServed
			return stale, nil, nil
		}
		return Version{}, nil, err
	}
	if got.unchanged {
		v := *have
		v.Fresh = got.version.Fresh
		return v, nil, nil
	}
	if w.keep != nil && got.store {
		if head, err := json.Marshal(kept{got.version}); err == nil {
			w.keep.Put(w.key(path), head, got.data)
		}
	}
	return got.version, got.data, nil
}

// Read gives what is kept, or fetches it again.
func (w *Web) Read(ctx context.Context, path string, v Version) ([]byte, error) {
	if w.keep != nil {
		if _, body, ok := w.keep.Get(w.key(path)); ok && DigestOf(body) == v.Digest {
			return body, nil
		}
	}
	got, err := w.fetch(ctx, path, nil)
	if err != nil {
		return nil, err
	}
	if got.version.Digest != v.Digest {
		return nil, ErrChanged
	}
	return got.data, nil
}

// List gives none: an HTTP origin can't be asked for what it has.
func (w *Web) List(context.Context, string, int) ([]Entry, bool, error) { return nil, false, nil }

// Close ends idle connections.
func (w *Web) Close() { w.client.CloseIdleConnections() }

type fetched struct {
	unchanged bool
	version   Version
	data      []byte
	store     bool
}

func (w *Web) fetch(ctx context.Context, path string, have *Version) (fetched, error) {
	ctx, cancel := context.WithTimeout(ctx, w.total)
	defer cancel()
	at, no := w.url(path)
	if no != nil {
		return fetched{}, no
	}
	origin := at.Scheme() + "://" + at.Host()
	for hop := 0; ; hop++ {
		href := at.Href(true)
		if no := w.lane.WalkRules(w.site, href, nil); no != nil {
			if hop > 0 {
				no.Detail = "the origin redirects to it, and " + no.Detail
			}
			return fetched{}, no
		}
		answer, err := w.ask(ctx, href, have, at.Scheme()+"://"+at.Host() == origin)
		if err != nil {
			return fetched{}, w.failed(href, err)
		}
		switch answer.StatusCode {
		case 301, 302, 303, 307, 308:
			answer.Body.Close()
			if hop == maxHops {
				return fetched{}, policy.No(policy.Refusal{Reason: policy.ReasonTooManyRedirects, Parameter: "source", Given: shorten(href), Detail: fmt.Sprintf("the origin redirects more than %d times", maxHops), Allowed: fmt.Sprintf("at most %d redirects", maxHops), Remedy: "use the address that it ends at"})
			}
			next, err := at.Parse(answer.Header.Get("Location"))
			if err != nil || answer.Header.Get("Location") == "" {
				return fetched{}, w.broken(href, "it redirects to what isn't a URL")
			}
			if next, err = policy.ReadURL(next.Href(true)); err != nil {
				return fetched{}, policy.No(policy.Refusal{Reason: policy.ReasonBadSourceURL, Parameter: "source", Given: shorten(answer.Header.Get("Location")), Detail: "the origin redirects to it: " + err.Error(), Allowed: "http and https URLs", Remedy: "use the address that the picture is at"})
			}
			at = next
			continue
		}
		got, err := w.take(href, path, answer, have)
		answer.Body.Close()
		return got, err
	}
}

func (w *Web) ask(ctx context.Context, href string, have *Version, own bool) (*http.Response, error) {
	r, err := http.NewRequestWithContext(ctx, "GET", href, nil)
	if err != nil {
		return nil, err
	}
	r.Header.Set("Accept", "image/*,*/*;q=0.1")
	r.Header.Set("User-Agent", "echolane")
	r.Header.Set("CDN-Loop", w.cdn)
	if own {
		for name, values := range w.headers {
			r.Header[name] = values
		}
	}
	if have != nil {
		tag, modified, _ := strings.Cut(have.Stamp, "\n")
		if tag != "" {
			r.Header.Set("If-None-Match", tag)
		} else if modified != "" {
			r.Header.Set("If-Modified-Since", modified)
		}
	}
	return w.client.Do(r)
}

// take reads an answer that isn't a redirect.
func (w *Web) take(href, path string, answer *http.Response, have *Version) (fetched, error) {
	fresh, store := w.freshness(answer.Header)
	switch s := answer.StatusCode; {
	case s == 304 && have != nil:
		return fetched{unchanged: true, version: Version{Fresh: fresh}}, nil
	case s == 404 || s == 410:
		return fetched{}, missing(w.site+"/"+w.lane.Name, path)
	case s == 401 || s == 403:
		return fetched{}, w.broken(href, fmt.Sprintf("it answered %s; if it wants a key, keep it with: echolane lane secret %s/%s --header 'Authorization: …'", answer.Status, w.site, w.lane.Name))
	case s != 200:
		return fetched{}, w.broken(href, "it answered "+answer.Status)
	}
	limit := w.lane.Limits
	if answer.ContentLength > 0 {
		if no := limit.CheckBytes(answer.ContentLength); no != nil {
			return fetched{}, no
		}
	}
	body, err := decoded(io.LimitReader(answer.Body, limit.SourceBytes+1), answer.Header.Get("Content-Encoding"))
	if err != nil {
		return fetched{}, w.broken(href, err.Error())
	}
	data, err := io.ReadAll(io.LimitReader(body, limit.SourceBytes+1))
	if no := limit.CheckBytes(int64(len(data))); no != nil {
		no.Detail = fmt.Sprintf("the source has more than the %d bytes that are read", limit.SourceBytes)
		return fetched{}, no
	}
	if err != nil {
		return fetched{}, w.failed(href, err)
	}
	v := Version{Digest: DigestOf(data), Stamp: answer.Header.Get("ETag") + "\n" + answer.Header.Get("Last-Modified"), Fresh: fresh}
	return fetched{version: v, data: data, store: store}, nil
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
	return nil, fmt.Errorf("it sends the content coding %s, which nobody asked for", shorten(coding))
}

// freshness is how long an answer is fresh (RFC 9111, section 4.2), and whether it may be kept (section 3).
func (w *Web) freshness(h http.Header) (time.Duration, bool) {
	cc := map[string]string{}
	for _, field := range h.Values("Cache-Control") {
		for part := range strings.SplitSeq(field, ",") {
			name, value, _ := strings.Cut(strings.TrimSpace(part), "=")
			cc[strings.ToLower(name)] = strings.Trim(value, `"`)
		}
	}
	has := func(name string) bool { _, ok := cc[name]; return ok }
	if has("no-store") || has("private") {
		return 0, false
	}
	if has("no-cache") {
		return 0, true
	}
	seconds, said := 0.0, false
	for _, name := range []string{"s-maxage", "max-age"} {
		if v, err := strconv.ParseFloat(cc[name], 64); err == nil && has(name) {
			seconds, said = v, true
			break
		}
	}
	if !said {
		if e, err := http.ParseTime(h.Get("Expires")); err == nil {
			date, err := http.ParseTime(h.Get("Date"))
			if err != nil {
				date = w.now()
			}
			seconds, said = e.Sub(date).Seconds(), true
		}
	}
	if !said {
		return time.Duration(w.lane.FreshS) * time.Second, true
	}
	if age, err := strconv.ParseFloat(h.Get("Age"), 64); err == nil {
		seconds -= age
	}
	return min(max(0, time.Duration(seconds*float64(time.Second))), maxFresh), true
}

func (w *Web) broken(href, how string) *policy.Refusal {
	return policy.No(policy.Refusal{
		Reason: policy.ReasonOriginFailed, Parameter: "source", Given: shorten(href), Detail: "the origin of lane " + w.site + "/" + w.lane.Name + " failed: " + how,
		Remedy: "look whether the source's address opens in a browser, and try again", RetryIn: 10,
	})
}

// failed puts what went wrong on the way to an origin into words.
func (w *Web) failed(href string, err error) error {
	var no *policy.Refusal
	if errors.As(err, &no) {
		return no
	}
	var network net.Error
	if errors.Is(err, context.DeadlineExceeded) || errors.Is(err, os.ErrDeadlineExceeded) || errors.As(err, &network) && network.Timeout() {
		return policy.No(policy.Refusal{
			Reason: policy.ReasonOriginSlow, Parameter: "source", Given: shorten(href), Detail: "the origin of lane " + w.site + "/" + w.lane.Name + " took too long",
			Remedy: "try again later", RetryIn: 10,
		})
	}
	var u *url.Error
	if errors.As(err, &u) {
		err = u.Err
	}
	return w.broken(href, shorten(err.Error()))
}
