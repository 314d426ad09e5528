package web

import (
	"net/http"
	"testing"
	"time"

	"echolane/service/source"
)

func TestFreshness(t *testing.T) {
	now := time.Date(2026, 11, 27, 12, 0, 0, 0, time.UTC)
	date := func(d time.Duration) string { return now.Add(d).Format(http.TimeFormat) }
	const otherwise, day = 40 * time.Second, 24 * time.Hour
	for _, c := range []struct {
		section string // of RFC 9111 where no other is named
		fields  []string
		fresh   time.Duration
		sharing source.Sharing
		stale   time.Duration
	}{
		{"4.2.2 nothing is said", nil, otherwise, source.Public, day},
		{"5.2.2.1 max-age", []string{"Cache-Control", "max-age=7"}, 7 * time.Second, source.Public, day},
		{"5.2 names in any case", []string{"Cache-Control", "Max-Age=7"}, 7 * time.Second, source.Public, day},
		{"5.2 a quoted number", []string{"Cache-Control", `max-age="7"`}, 7 * time.Second, source.Public, day},
		{"5.2 a comma in a quoted string", []string{"Cache-Control", `foo="a, max-age=9", max-age=7`}, 7 * time.Second, source.Public, day},
		{"5.2 nothing but a quoted string", []string{"Cache-Control", `foo="a, max-age=9"`}, otherwise, source.Public, day},
		{"5.2 an escaped quote", []string{"Cache-Control", `foo="a\", no-store", max-age=7`}, 7 * time.Second, source.Public, day},
		{"5.2 a quote that isn't closed", []string{"Cache-Control", `foo="a, no-store`}, otherwise, source.Public, day},
		{"9110 5.3 lines are one list", []string{"Cache-Control", "public", "Cache-Control", "max-age=7"}, 7 * time.Second, source.Public, day},
		{"4.2.1 the first of two counts", []string{"Cache-Control", "max-age=7, max-age=70"}, 7 * time.Second, source.Public, day},
		{"4.2.1 what isn't a number is stale", []string{"Cache-Control", "max-age=soon"}, 0, source.Public, day},
		{"4.2.1 a negative one is stale", []string{"Cache-Control", "max-age=-1"}, 0, source.Public, day},
		{"1.2.2 too large is as long as it goes", []string{"Cache-Control", "max-age=99999999999999999999"}, maxFresh, source.Public, day},
		{"5.2.2.10 s-maxage wins and must be validated", []string{"Cache-Control", "max-age=1, s-maxage=99"}, 99 * time.Second, source.Public, 0},
		{"5.1 Age is taken off", []string{"Cache-Control", "max-age=99", "Age", "9"}, 90 * time.Second, source.Public, day},
		{"5.1 an Age beyond it", []string{"Cache-Control", "max-age=9", "Age", "99"}, 0, source.Public, day},
		{"5.1 an Age that isn't one", []string{"Cache-Control", "max-age=9", "Age", "x"}, 9 * time.Second, source.Public, day},
		{"5.3 Expires", []string{"Expires", date(50 * time.Second), "Date", date(0)}, 50 * time.Second, source.Public, day},
		{"5.3 Expires by the origin's own clock", []string{"Expires", date(-3550 * time.Second), "Date", date(-3600 * time.Second)}, 50 * time.Second, source.Public, day},
		{"5.3 Expires without a Date", []string{"Expires", date(50 * time.Second)}, 50 * time.Second, source.Public, day},
		{"5.3 Expires: 0 has passed", []string{"Expires", "0"}, 0, source.Public, day},
		{"5.3 Expires: -1 has passed", []string{"Expires", "-1"}, 0, source.Public, day},
		{"5.3 a date that isn't one has passed", []string{"Expires", "tomorrow"}, 0, source.Public, day},
		{"5.3 max-age wins over Expires", []string{"Expires", "0", "Cache-Control", "max-age=7"}, 7 * time.Second, source.Public, day},
		{"5.2.2.4 no-cache", []string{"Cache-Control", "no-cache, max-age=7"}, 0, source.Public, 0},
		{"5.2.2.4 no-cache of a field", []string{"Cache-Control", `no-cache="Set-Cookie", max-age=7`}, 0, source.Public, 0},
		{"5.2.2.5 no-store", []string{"Cache-Control", "no-store, max-age=7"}, 0, source.NoStore, day},
		{"5.2.2.7 private", []string{"Cache-Control", "private, max-age=7"}, 7 * time.Second, source.Private, day},
		{"5.2.2.2 must-revalidate", []string{"Cache-Control", "max-age=7, must-revalidate"}, 7 * time.Second, source.Public, 0},
		{"5.2.2.8 proxy-revalidate", []string{"Cache-Control", "max-age=7, proxy-revalidate"}, 7 * time.Second, source.Public, 0},
		{"5861 4 stale-if-error", []string{"Cache-Control", "max-age=7, stale-if-error=60"}, 7 * time.Second, source.Public, time.Minute},
		{"5861 4 must-revalidate wins", []string{"Cache-Control", "max-age=7, stale-if-error=60, must-revalidate"}, 7 * time.Second, source.Public, 0},
		{"empty elements", []string{"Cache-Control", ",, ,max-age=7,"}, 7 * time.Second, source.Public, day},
		{"white space", []string{"Cache-Control", " max-age = 7 "}, 7 * time.Second, source.Public, day},
	} {
		h := http.Header{}
		for i := 0; i+1 < len(c.fields); i += 2 {
			h.Add(c.fields[i], c.fields[i+1])
		}
		f := freshnessOf(fieldsOf(h), otherwise, now)
		if f.lifetime != c.fresh || f.sharing != c.sharing || f.stale != c.stale && c.sharing != source.NoStore {
			t.Errorf("%s: fresh %v, sharing %v, stale %v; want %v, %v, %v", c.section, f.lifetime, f.sharing, f.stale, c.fresh, c.sharing, c.stale)
		}
	}
	// Section 4.3.4: a 304 brings what is kept up to date; what it doesn't name stays.
	kept := map[string][]string{"Cache-Control": {"max-age=7"}, "Etag": {`"a"`}, "Age": {"5"}, "Last-Modified": {date(-time.Hour)}}
	if f := freshnessOf(updated(kept, http.Header{"Date": {date(0)}}), otherwise, now); f.lifetime != 7*time.Second {
		t.Errorf("a 304 without Cache-Control is fresh for %v, want what is kept says", f.lifetime)
	}
	if f := freshnessOf(updated(kept, http.Header{"Cache-Control": {"no-store"}}), otherwise, now); f.sharing != source.NoStore {
		t.Error("a 304 that says no-store isn't heard")
	}
	if got := updated(kept, http.Header{"Etag": {`"b"`}}); got["Etag"][0] != `"b"` || got["Last-Modified"] == nil {
		t.Errorf("%v", got)
	}
	for text, want := range map[string]int{"120": 120, "0": 1, "-5": 10, "": 10, "soon": 10, date(90 * time.Second): 91, date(-time.Hour): 1, "99999999": 86400} {
		if got := retryIn(http.Header{"Retry-After": {text}}, 10, now); got != want {
			t.Errorf("Retry-After %q: %d, want %d", text, got, want)
		}
	}
}
