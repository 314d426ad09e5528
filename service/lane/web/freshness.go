package web

import (
	"net/http"
	"strconv"
	"strings"
	"time"

	"echolane/service/source"
)

// freshness is what an origin's fields say about keeping its answer (RFC 9111).
type freshness struct {
	lifetime time.Duration  // how long it is fresh (section 4.2)
	sharing  source.Sharing // who may keep it (section 3)
	stale    time.Duration  // how long beyond that it may stand in for an answer that fails (section 4.2.4; RFC 5861, section 4)
}

const (
	maxFresh = 24 * time.Hour
)

// keptFields are those that freshness and validation depend on; a 304 brings them up to date (section 3.2).
var keptFields = []string{"Cache-Control", "Expires", "Date", "Age", "Etag", "Last-Modified"}

// fieldsOf keeps what freshness depends on.
func fieldsOf(h http.Header) map[string][]string {
	out := map[string][]string{}
	for _, name := range keptFields {
		if v := h.Values(name); len(v) > 0 {
			out[name] = v
		}
	}
	return out
}

// updated is what is kept with a 304's fields in the place of its own (section 4.3.4). An Age of before says nothing of now.
func updated(kept map[string][]string, h http.Header) map[string][]string {
	out := fieldsOf(h)
	for name, v := range kept {
		if _, there := out[name]; !there && name != "Age" && name != "Date" {
			out[name] = v
		}
	}
	return out
}

// freshnessOf reads the fields of an answer that came at now. otherwise is the lifetime where nothing is said.
func freshnessOf(fields map[string][]string, otherwise time.Duration, now time.Time) freshness {
	h := http.Header(fields)
	cc := cacheControl(h.Values("Cache-Control"))
	f := freshness{lifetime: otherwise, stale: source.MaxStale}
	switch {
	case cc.has("no-store"):
		f.sharing = source.NoStore
	case cc.has("private"):
		f.sharing = source.Private
	}
	if n, ok := cc.seconds("stale-if-error"); ok {
		f.stale = min(n, source.MaxStale)
	}
	// What must be validated may not be stale; a shared cache's own lifetime implies that (section 5.2.2.10).
	if cc.has("must-revalidate") || cc.has("proxy-revalidate") || cc.has("no-cache") || cc.has("s-maxage") {
		f.stale = 0
	}
	explicit := true
	switch {
	case f.sharing == source.NoStore, cc.has("no-cache"):
		f.lifetime = 0
	case cc.has("s-maxage"):
		f.lifetime, _ = cc.seconds("s-maxage") // what isn't a number is stale (section 4.2.1)
	case cc.has("max-age"):
		f.lifetime, _ = cc.seconds("max-age")
	case len(h.Values("Expires")) > 0:
		f.lifetime = 0
		if e, err := http.ParseTime(h.Get("Expires")); err == nil { // any other form is in the past (section 5.3)
			date, err := http.ParseTime(h.Get("Date"))
			if err != nil {
				date = now
			}
			f.lifetime = e.Sub(date)
		}
	default:
		explicit = false
	}
	if age, err := strconv.ParseInt(strings.TrimSpace(h.Get("Age")), 10, 64); err == nil && age > 0 && explicit {
		f.lifetime -= time.Duration(min(age, int64(maxFresh/time.Second))) * time.Second
	}
	f.lifetime = min(max(0, f.lifetime), maxFresh)
	return f
}

// directives are a Cache-Control's, by name in lower case (section 5.2). The first of a name counts.
type directives map[string]string

func (d directives) has(name string) bool { _, ok := d[name]; return ok }

// seconds is a directive's number of seconds (section 1.2.2): too large ones are as long as it goes.
func (d directives) seconds(name string) (time.Duration, bool) {
	text, ok := d[name]
	if !ok || text == "" || strings.Trim(text, "0123456789") != "" {
		return 0, false
	}
	n, err := strconv.ParseInt(text, 10, 64)
	if err != nil || n > 1<<31 {
		n = 1 << 31
	}
	return time.Duration(n) * time.Second, true
}

// cacheControl reads the lines of the field as one list of directives, each a name with or without a token or a quoted
// string (section 5.2; RFC 9110, sections 5.6.1 and 5.6.4).
func cacheControl(lines []string) directives {
	out := directives{}
	for _, line := range lines {
		for line != "" {
			var name, value string
			line = strings.TrimLeft(line, " \t,")
			end := strings.IndexAny(line, "=,")
			if end < 0 {
				name, line = line, ""
			} else if name = line[:end]; line[end] == ',' {
				line = line[end+1:]
			} else {
				value, line = directiveValue(line[end+1:])
			}
			if name = strings.ToLower(strings.TrimSpace(name)); name != "" && !out.has(name) {
				out[name] = value
			}
		}
	}
	return out
}

// directiveValue reads a token or a quoted string, and gives what stands behind the comma after it.
func directiveValue(s string) (value, rest string) {
	s = strings.TrimLeft(s, " \t")
	if !strings.HasPrefix(s, `"`) {
		value, rest, _ = strings.Cut(s, ",")
		return strings.TrimSpace(value), rest
	}
	var b strings.Builder
	i := 1
	for ; i < len(s) && s[i] != '"'; i++ {
		if s[i] == '\\' && i+1 < len(s) {
			i++
		}
		b.WriteByte(s[i])
	}
	if _, rest, ok := strings.Cut(s[min(i, len(s)):], ","); ok {
		return b.String(), rest
	}
	return b.String(), ""
}

// retryIn is how many seconds an origin asks to be left alone (RFC 9110, section 10.2.3); otherwise where it doesn't.
func retryIn(h http.Header, otherwise int, now time.Time) int {
	text := strings.TrimSpace(h.Get("Retry-After"))
	if n, err := strconv.Atoi(text); err == nil && n >= 0 {
		return min(max(n, 1), 86400)
	}
	if t, err := http.ParseTime(text); err == nil {
		return min(max(int(t.Sub(now).Seconds())+1, 1), 86400)
	}
	return otherwise
}
