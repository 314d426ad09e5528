package main

import (
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"testing"

	"echolane/internal/testbed"
	"echolane/service/api"
)

// call asks the API as somebody else than the bed's token: with these fields and no others.
func call(t *testing.T, s *testbed.Process, method, path, body string, fields ...string) testbed.Answer {
	t.Helper()
	return s.Ask(t, method, "/-/api/v1"+path, strings.NewReader(body), append([]string{"Authorization", ""}, fields...)...)
}

func decoded[T any](t *testing.T, a testbed.Answer, status int) T {
	t.Helper()
	var v T
	if a.StatusCode != status {
		t.Fatalf("%s %s: %d %s, want %d", a.Request.Method, a.Request.URL, a.StatusCode, a.Data, status)
	}
	if err := json.Unmarshal(a.Data, &v); err != nil {
		t.Fatalf("%s: %v in %s", a.Request.URL, err, a.Data)
	}
	return v
}

func TestTokensReachAsFarAsTheySay(t *testing.T) {
	t.Parallel()
	s := bed.Kestrel(t, "--source-root", bed.Pictures)
	bed.Must(t, s, "site", "add", "archive")
	token := func(may string, sites ...string) string {
		t.Helper()
		args := []string{"token", "add", may + " token", "--may", may}
		if sites != nil {
			args = append(args, "--sites", strings.Join(sites, ","))
		}
		return "Bearer " + strings.TrimSpace(bed.Must(t, s, args...))
	}
	read, edit, own, one := token("read"), token("edit"), token("own"), token("edit", "archive")
	lane := fmt.Sprintf(`{"name": "more", "folder": %q}`, bed.Pictures)
	for _, c := range []struct {
		name, token, method, path, body string
		status                          int
	}{
		{"nobody looks", "", "GET", "/sites", "", 401},
		{"nobody looks at refusals", "", "GET", "/refusals", "", 401},
		{"nobody changes", "", "POST", "/sites", `{"site": "x"}`, 401},
		{"a made-up token", "Bearer elane_nothing", "GET", "/sites", "", 401},
		{"read looks", read, "GET", "/sites/kestrel", "", 200},
		{"read looks at sources", read, "GET", "/sites/kestrel/lanes/catalogue/sources", "", 200},
		{"read doesn't change", read, "POST", "/sites/kestrel/lanes", lane, 403},
		{"read doesn't mend", read, "POST", "/refusals/1/mend", "", 404},
		{"read doesn't see tokens", read, "GET", "/tokens", "", 403},
		{"edit changes", edit, "POST", "/sites/kestrel/lanes", lane, 200},
		{"edit doesn't add sites", edit, "POST", "/sites", `{"site": "x"}`, 403},
		{"edit doesn't remove sites", edit, "DELETE", "/sites/archive", "", 403},
		{"edit doesn't make tokens", edit, "POST", "/tokens", `{"name": "x", "may": "own"}`, 403},
		{"edit doesn't add people", edit, "POST", "/people", `{"name": "x", "password": "0123456789", "may": "own"}`, 403},
		{"own adds sites", own, "POST", "/sites", `{"site": "x"}`, 201},
		{"own lists people", own, "GET", "/people", "", 200},
		{"a token of one site looks at it", one, "GET", "/sites/archive", "", 200},
		{"and not at another", one, "GET", "/sites/kestrel", "", 403},
		{"nor at another's original", one, "GET", "/sites/kestrel/lanes/catalogue/original?path=mark.png", "", 403},
		{"nor at all refusals", one, "GET", "/refusals", "", 403},
		{"but at its own", one, "GET", "/refusals?site=archive", "", 200},
	} {
		a := call(t, s, c.method, c.path, c.body, "Authorization", c.token)
		if a.StatusCode != c.status {
			t.Errorf("%s: %d %s, want %d", c.name, a.StatusCode, a.Data, c.status)
		}
		if a.StatusCode >= 400 && a.Problem(t).Remedy == "" {
			t.Errorf("%s: no way out: %s", c.name, a.Data)
		}
	}
	seen := decoded[api.Page[api.Site]](t, call(t, s, "GET", "/sites", "", "Authorization", one), 200)
	if len(seen.Items) != 1 || seen.Items[0].Name != "archive" {
		t.Errorf("a token of one site lists %+v", seen.Items)
	}
	out := bed.Must(t, s, "token", "list")
	if strings.Contains(out, "elane_") || !strings.Contains(out, "read token") {
		t.Errorf("token list:\n%s", out)
	}
	bed.Must(t, s, "token", "remove", "1", "--yes")
	if a := call(t, s, "GET", "/sites", "", "Authorization", read); a.StatusCode != 401 {
		t.Errorf("a revoked token: %d", a.StatusCode)
	}
	if r := bed.Run(t, s, "token", "remove", "2"); r.Code != 2 || !strings.Contains(r.Err, "--yes") {
		t.Errorf("revoking without being sure: %d %s", r.Code, r.Err)
	}
	for _, bad := range []string{`{"name": "x", "may": "all"}`, `{"name": "", "may": "read"}`, `{"name": "x", "may": "read", "sites": ["none"]}`, `{"name": "x", "may": "own", "sites": ["archive"]}`, `{"nam": "x"}`, `{`, `[]`} {
		if a := call(t, s, "POST", "/tokens", bad, "Authorization", own); a.StatusCode != 400 {
			t.Errorf("%s: %d", bad, a.StatusCode)
		}
	}
}

func TestSessionsAreOfOurOwnPagesAlone(t *testing.T) {
	t.Parallel()
	s := bed.Kestrel(t)
	addOwner(t, s)
	right := `{"name": "wren", "password": "kites in the wind"}`
	a := call(t, s, "POST", "/session", right)
	cookies := (&http.Response{Header: a.Header}).Cookies()
	if a.StatusCode != 200 || len(cookies) != 1 {
		t.Fatalf("%d %s", a.StatusCode, a.Data)
	}
	k := cookies[0]
	if !k.HttpOnly || !k.Secure || k.SameSite != http.SameSiteStrictMode || k.Path != "/-/" || len(k.Value) < 40 {
		t.Errorf("the cookie is %+v", k)
	}
	cookie := k.Name + "=" + k.Value
	for _, c := range []struct {
		name   string
		fields []string
		status int
	}{
		{"our own page", []string{"Sec-Fetch-Site", "same-origin", "Origin", s.Base}, 201},
		{"no page at all", nil, 201},
		{"another site's page", []string{"Sec-Fetch-Site", "cross-site"}, 403},
		{"a page of a sibling host", []string{"Sec-Fetch-Site", "same-site"}, 403},
		{"another origin", []string{"Origin", "https://evil.test"}, 403},
		{"an opaque origin", []string{"Origin", "null"}, 403},
		{"our host on another port", []string{"Origin", "http://127.0.0.1:1"}, 403},
	} {
		name := strings.ReplaceAll(c.name, " ", "-")
		name = strings.ToLower(strings.ReplaceAll(name, "'", ""))
		a := call(t, s, "POST", "/sites", `{"site": "`+name+`"}`, append([]string{"Cookie", cookie}, c.fields...)...)
		if a.StatusCode != c.status {
			t.Errorf("%s: %d %s, want %d", c.name, a.StatusCode, a.Data, c.status)
		}
	}
	if a := call(t, s, "POST", "/session", right, "Sec-Fetch-Site", "cross-site"); a.StatusCode != 403 {
		t.Errorf("signing in from another site's page: %d", a.StatusCode)
	}
	if a := call(t, s, "DELETE", "/session", "", "Cookie", cookie); a.StatusCode != 204 {
		t.Errorf("signing out: %d", a.StatusCode)
	}
	if a := call(t, s, "GET", "/sites", "", "Cookie", cookie); a.StatusCode != 401 {
		t.Errorf("a session that was closed: %d", a.StatusCode)
	}
}

func TestGuessingPasswordsGetsSlow(t *testing.T) {
	s := bed.Kestrel(t)
	addOwner(t, s)
	statuses := map[int]int{}
	for range 8 {
		a := call(t, s, "POST", "/session", `{"name": "wren", "password": "a wrong guess"}`)
		statuses[a.StatusCode]++
		if a.StatusCode == 429 && a.Header.Get("Retry-After") == "" {
			t.Error("it isn't said when the next try is looked at")
		}
	}
	if statuses[401] < 3 || statuses[429] < 3 || statuses[200] > 0 {
		t.Errorf("eight wrong guesses give %v", statuses)
	}
	if a := call(t, s, "POST", "/session", `{"name": "wren", "password": "kites in the wind"}`); a.StatusCode != 429 {
		t.Errorf("the right password in the waiting time: %d", a.StatusCode)
	}
	// Nobody learns from the answers which names there are.
	other := bed.Kestrel(t)
	addOwner(t, other)
	wrong := call(t, other, "POST", "/session", `{"name": "wren", "password": "a wrong guess"}`)
	nobody := call(t, other, "POST", "/session", `{"name": "nobody", "password": "a wrong guess"}`)
	if string(wrong.Data) != string(nobody.Data) || wrong.StatusCode != 401 {
		t.Errorf("%s and %s", wrong.Data, nobody.Data)
	}
}

func TestPeopleAndTheirPasswords(t *testing.T) {
	t.Parallel()
	s := bed.Kestrel(t)
	addOwner(t, s)
	if r := bed.Run(t, s, "person", "list"); !strings.Contains(r.Out, "wren") {
		t.Errorf("person list: %s", r.Out)
	}
	if a := s.Ask(t, "POST", "/-/api/v1/people", strings.NewReader(`{"name": "wren", "password": "kites in the wind", "may": "own"}`)); a.StatusCode != 409 {
		t.Errorf("a name twice: %d", a.StatusCode)
	}
	if a := s.Ask(t, "POST", "/-/api/v1/people", strings.NewReader(`{"name": "kite", "password": "short", "may": "own"}`)); a.StatusCode != 400 {
		t.Errorf("a short password: %d", a.StatusCode)
	}
	if r := bed.Run(t, s, "person", "remove", "1", "--yes"); r.Code != 1 || !strings.Contains(r.Err, "last owner") {
		t.Errorf("removing the last owner: %d %s", r.Code, r.Err)
	}
	signIn := func(password string) (int, string) {
		a := call(t, s, "POST", "/session", `{"name": "wren", "password": "`+password+`"}`)
		return a.StatusCode, strings.Split(a.Header.Get("Set-Cookie"), ";")[0]
	}
	_, first := signIn("kites in the wind")
	_, second := signIn("kites in the wind")
	if a := call(t, s, "PUT", "/session/password", `{"old": "wrong", "new": "another long one"}`, "Cookie", first); a.StatusCode != 401 {
		t.Errorf("with the wrong old password: %d", a.StatusCode)
	}
	if a := call(t, s, "PUT", "/session/password", `{"old": "kites in the wind", "new": "another long one"}`, "Cookie", first); a.StatusCode != 200 {
		t.Errorf("changing the password: %d %s", a.StatusCode, a.Data)
	}
	if a := call(t, s, "GET", "/sites", "", "Cookie", second); a.StatusCode != 401 {
		t.Errorf("another session after the change: %d", a.StatusCode)
	}
	if code, _ := signIn("another long one"); code != 200 {
		t.Errorf("the new password: %d", code)
	}
}

func TestListsComeInPages(t *testing.T) {
	t.Parallel()
	s := bed.Kestrel(t)
	for i := range 5 {
		bed.Must(t, s, "site", "add", fmt.Sprintf("site-%d", i))
	}
	var all []string
	for after := ""; ; {
		page := decoded[api.Page[api.Site]](t, s.Get(t, "/-/api/v1/sites?limit=2&after="+after), 200)
		if len(page.Items) > 2 {
			t.Errorf("a page of %d", len(page.Items))
		}
		for _, site := range page.Items {
			all = append(all, site.Name)
		}
		if after = page.Next; after == "" {
			break
		}
	}
	if strings.Join(all, " ") != "kestrel site-0 site-1 site-2 site-3 site-4" {
		t.Errorf("%v", all)
	}
	for _, path := range []string{"/sites?limit=0", "/sites?limit=x", "/sites/kestrel/history?after=x", "/sites/kestrel/history?after=-2", "/sites/kestrel/weighings?after=x", "/refusals?after=-1", "/refusals?after=1e9"} {
		a := s.Get(t, "/-/api/v1"+path)
		if no := a.Problem(t); a.StatusCode != 400 || no.Parameter != "limit" && no.Parameter != "after" || no.Remedy == "" {
			t.Errorf("%s: %d, %+v", path, a.StatusCode, no)
		}
	}
}

// Pictures for the console's own pages can't be embedded elsewhere, nor run what they might hold.
func TestPicturesOfTheConsoleStayThere(t *testing.T) {
	t.Parallel()
	s := bed.Kestrel(t)
	for _, path := range []string{"/lanes/catalogue/original?path=mark.png", "/sheet/preview?source=catalogue/mark.png"} {
		a := s.Get(t, "/-/api/v1/sites/kestrel"+path)
		if a.StatusCode != 200 || !strings.HasPrefix(a.Header.Get("Content-Type"), "image/") {
			t.Fatalf("%s: %d, %v", path, a.StatusCode, a.Header)
		}
		for name, want := range map[string]string{
			"Cross-Origin-Resource-Policy": "same-origin", "X-Content-Type-Options": "nosniff", "Cache-Control": "private, no-cache",
			"Content-Security-Policy": "sandbox; default-src 'none'",
		} {
			if got := a.Header.Get(name); got != want {
				t.Errorf("%s: %s is %q, want %q", path, name, got, want)
			}
		}
	}
}

func TestAWriteSaysWhatItChanges(t *testing.T) {
	t.Parallel()
	s := bed.Kestrel(t)
	a := s.Get(t, "/-/api/v1/sites/kestrel")
	tag := a.Header.Get("ETag")
	site := decoded[api.Site](t, a, 200)
	site.Document.Shapes = []string{"1"}
	body, err := json.Marshal(site.Document)
	if err != nil {
		t.Fatal(err)
	}
	put := func(match string) testbed.Answer {
		fields := []string{}
		if match != "" {
			fields = append(fields, "If-Match", match)
		}
		return s.Ask(t, "PUT", "/-/api/v1/sites/kestrel", strings.NewReader(string(body)), fields...)
	}
	for _, c := range []struct {
		match  string
		status int
		reason string
	}{{"", 428, "if-match-needed"}, {`"99"`, 412, "changed-meanwhile"}, {"nonsense", 400, "bad-request"}, {tag, 200, ""}, {tag, 412, "changed-meanwhile"}} {
		a := put(c.match)
		if a.StatusCode != c.status || c.reason != "" && string(a.Problem(t).Reason) != c.reason {
			t.Errorf("If-Match %q: %d %s", c.match, a.StatusCode, a.Data)
		}
	}
	if a := s.Ask(t, "DELETE", "/-/api/v1/sites/kestrel", nil); a.StatusCode != 428 {
		t.Errorf("removing without If-Match: %d", a.StatusCode)
	}
	if a := s.Ask(t, "PUT", "/-/api/v1/sites/kestrel", strings.NewReader(strings.Repeat(" ", 2<<20)), "If-Match", "*"); a.StatusCode != 400 {
		t.Errorf("a body of 2 MiB: %d", a.StatusCode)
	}
	if a := s.Ask(t, "PUT", "/-/api/v1/sites/kestrel", strings.NewReader(`{"site": "kestrel", "formts": ["webp"]}`), "If-Match", "*"); a.StatusCode != 400 || !strings.Contains(a.Problem(t).Remedy, "formats") {
		t.Errorf("a misspelt field: %d %s", a.StatusCode, a.Data)
	}
}

var errNotYet = errors.New("not yet")
