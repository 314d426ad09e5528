package web

import (
	"bytes"
	"compress/gzip"
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"echolane/core/policy"
	"echolane/service/cache/disk"
	"echolane/service/source"
	"echolane/service/source/held"

	"io"
	"log/slog"
)

// names is a resolver whose answers the test decides. A name with several answers gives them in turn, as one
// that rebinds does.
type names struct {
	answers map[string][][]string
	asked   map[string]int
}

func (n *names) lookup(_ context.Context, host string) ([]netip.Addr, error) {
	turns := n.answers[host]
	if len(turns) == 0 {
		return nil, &net.DNSError{Err: "no such host", Name: host, IsNotFound: true}
	}
	if n.asked == nil {
		n.asked = map[string]int{}
	}
	turn := turns[min(n.asked[host], len(turns)-1)]
	n.asked[host]++
	var list []netip.Addr
	for _, a := range turn {
		list = append(list, netip.MustParseAddr(a))
	}
	return list, nil
}

var kinds = source.Kinds{Kind{}}

func lane(t *testing.T, ls *source.Lanes, change func(*policy.Lane)) source.Lane {
	t.Helper()
	d := policy.NewDocument("kestrel")
	d.Lanes = []policy.Lane{{Name: "press", Kind: "web", Allow: []string{"*://*:*/*"}}}
	if change != nil {
		change(&d.Lanes[0])
	}
	d.Complete(kinds.Describe())
	s, _, err := policy.Compile(d, kinds.Describe())
	if err != nil {
		t.Fatal(err)
	}
	if ls.Keep == nil {
		ls.Keep = source.NewKeep(nil, 0)
	}
	if ls.CDN == nil {
		ls.CDN = func() string { return "" }
	}
	if ls.Timeouts == (source.Timeouts{}) {
		ls.Timeouts = source.Timeouts{Connect: 500 * time.Millisecond, FirstByte: 500 * time.Millisecond, Total: time.Second}
	}
	l, err := ls.Of(&policy.SiteSettings{Site: s, Document: d}, s.Lanes[0])
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(ls.Close)
	return l
}

// look finds out the version that there is, and gives its bytes.
func look(l source.Lane, path string, have *source.Version) (source.Version, []byte, error) {
	v, content, err := l.Stat(context.Background(), path, have)
	if err == nil && content == nil {
		content, err = l.Open(context.Background(), path, v)
	}
	if err != nil {
		return v, nil, err
	}
	defer content.Close()
	data, err := io.ReadAll(content.Reader())
	if err == nil && v.Digest == "" {
		v.Digest = held.DigestOf(data)
	}
	if err == nil && held.DigestOf(data) != v.Digest {
		err = errors.New("the bytes aren't the version's")
	}
	return v, data, err
}

func reasonOf(err error) string {
	var no *policy.Refusal
	if errors.As(err, &no) {
		return string(no.Reason)
	}
	return fmt.Sprint(err)
}

// The attack list: what a stranger may put into an image's URL to make the service fetch what it must not.
// Every one is allowed by the lane's rules, which match everything; what stops it is the fetching itself.
func TestServerSideRequestsStayOnThePublicInternet(t *testing.T) {
	reached := atomic.Int64{}
	inside := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { reached.Add(1); w.Write([]byte("secret")) }))
	defer inside.Close()
	_, port, _ := net.SplitHostPort(inside.Listener.Addr().String())
	n := &names{answers: map[string][][]string{
		"localhost":             {{"127.0.0.1", "::1"}},
		"inside.test":           {{"127.0.0.1"}},
		"ten.test":              {{"10.1.2.3"}},
		"metadata.test":         {{"169.254.169.254"}},
		"six.test":              {{"::1"}},
		"mapped.test":           {{"::ffff:127.0.0.1"}},
		"unique-local.test":     {{"fd00::1"}},
		"link-local.test":       {{"fe80::1"}},
		"nat64.test":            {{"64:ff9b::7f00:1"}},
		"six-to-four.test":      {{"2002:7f00:1::"}},
		"nothing.test":          {{"0.0.0.0"}},
		"two.test":              {{"10.0.0.1", "192.168.0.1"}},
		"127.0.0.1.nip.test":    {{"127.0.0.1"}},
		"xn--bcher-kva.test":    {{"127.0.0.1"}},
		"inside.test.":          {{"127.0.0.1"}},
		"metadata.internal":     {{"169.254.169.254"}},
		"kubernetes.default":    {{"10.96.0.1"}},
		"carrier.test":          {{"100.64.0.1"}},
		"broadcast.test":        {{"255.255.255.255"}},
		"multicast.test":        {{"224.0.0.1"}},
		"documentation.test":    {{"192.0.2.1"}},
		"benchmark.test":        {{"198.18.0.1"}},
		"documentation-6.test":  {{"2001:db8::1"}},
		"teredo.test":           {{"2001:0:4136:e378:8000:63bf:3fff:fdd2"}},
		"multicast-6.test":      {{"ff02::1"}},
		"unspecified-6.test":    {{"::"}},
		"compatible.test":       {{"::7f00:1"}},
		"site-local.test":       {{"fec0::1"}},
		"class-e.test":          {{"240.0.0.1"}},
		"private-sixteen.test":  {{"192.168.1.1"}},
		"private-twelve.test":   {{"172.16.0.1"}},
		"private-twelve-b.test": {{"172.31.255.255"}},
	}}
	web := lane(t, &source.Lanes{Kinds: kinds, Lookup: n.lookup, CDN: func() string { return "echolane-test" }}, nil)
	cases := map[string]string{ // URL → reason
		"http://127.0.0.1:" + port + "/":                        "address-not-public",
		"http://127.1:" + port + "/":                            "address-not-public",
		"http://127.0.1:" + port + "/":                          "address-not-public",
		"http://2130706433:" + port + "/":                       "address-not-public",
		"http://0x7f000001:" + port + "/":                       "address-not-public",
		"http://0x7f.0.0.1:" + port + "/":                       "address-not-public",
		"http://0177.0.0.1:" + port + "/":                       "address-not-public",
		"http://017700000001:" + port + "/":                     "address-not-public",
		"http://0x7f.1:" + port + "/":                           "address-not-public",
		"http://127.0.0.1.:" + port + "/":                       "address-not-public",
		"http://127.255.255.254:" + port + "/":                  "address-not-public",
		"http://①②⑦.0.0.1:" + port + "/":                        "address-not-public",
		"http://１２７.0.0.1:" + port + "/":                        "address-not-public",
		"http://127。0。0。1:" + port + "/":                        "address-not-public",
		"http://%31%32%37.0.0.1:" + port + "/":                  "address-not-public",
		"http://0:" + port + "/":                                "address-not-public",
		"http://0.0.0.0:" + port + "/":                          "address-not-public",
		"http://[::1]:" + port + "/":                            "address-not-public",
		"http://[0:0:0:0:0:0:0:1]:" + port + "/":                "address-not-public",
		"http://[::ffff:127.0.0.1]:" + port + "/":               "address-not-public",
		"http://[::ffff:7f00:1]:" + port + "/":                  "address-not-public",
		"http://[::127.0.0.1]:" + port + "/":                    "address-not-public",
		"http://[::]:" + port + "/":                             "address-not-public",
		"http://[64:ff9b::127.0.0.1]/":                          "address-not-public",
		"http://[fe80::1]/":                                     "address-not-public",
		"http://[fd00::1]/":                                     "address-not-public",
		"http://[fe80::1%25eth0]/":                              "bad-source-url",
		"http://[::1%25lo]/":                                    "bad-source-url",
		"http://[::1/":                                          "bad-source-url",
		"http://169.254.169.254/latest/":                        "address-not-public",
		"http://0xa9fea9fe/latest/":                             "address-not-public",
		"http://2852039166/latest/":                             "address-not-public",
		"http://10.0.0.1/":                                      "address-not-public",
		"http://172.16.0.1/":                                    "address-not-public",
		"http://192.168.0.1/":                                   "address-not-public",
		"http://100.64.0.1/":                                    "address-not-public",
		"http://198.51.100.7/":                                  "address-not-public",
		"http://255.255.255.255/":                               "address-not-public",
		"http://256.256.256.256/":                               "bad-source-url",
		"http://1.2.3.4.5/":                                     "bad-source-url",
		"http://localhost:" + port + "/":                        "address-not-public",
		"http://LOCALHOST:" + port + "/":                        "address-not-public",
		"http://loc%61lhost:" + port + "/":                      "address-not-public",
		"http://inside.test:" + port + "/":                      "address-not-public",
		"http://inside.test.:" + port + "/":                     "address-not-public",
		"http://127.0.0.1.nip.test:" + port + "/":               "address-not-public",
		"http://bücher.test:" + port + "/":                      "address-not-public",
		"http:inside.test:" + port + "/":                        "address-not-public",
		"http:\\\\inside.test:" + port + "\\":                   "address-not-public",
		"http://public.test@inside.test:" + port + "/":          "bad-source-url",
		"http://public.test:pw@inside.test:" + port + "/":       "bad-source-url",
		"http://inside.test:" + port + "\\@public.test/":        "address-not-public",
		"http://inside.test:" + port + "#@public.test/":         "address-not-public",
		"http://inside.test:" + port + "?@public.test/":         "address-not-public",
		"file:///etc/passwd":                                    "bad-source-url",
		"ftp://inside.test/":                                    "bad-source-url",
		"gopher://inside.test:" + port + "/_GET%20/":            "bad-source-url",
		"data:image/png;base64,AAAA":                            "bad-source-url",
		"javascript:alert(1)":                                   "bad-source-url",
		"blob:http://inside.test/1":                             "bad-source-url",
		"//inside.test/":                                        "bad-source-url",
		"inside.test/":                                          "bad-source-url",
		"":                                                      "bad-source-url",
		"http://":                                               "bad-source-url",
		"http:///etc/passwd":                                    "origin-failed", // the host is "etc", which there isn't
		"http://public.test\r\nX: y/":                           "bad-source-url",
		"http://inside.test:" + port + "/\r\nHost: public.test": "bad-source-url",
		"http://inside.test:99999/":                             "bad-source-url",
		"http://" + strings.Repeat("a", 5000) + ".test/":        "bad-source-url",
	}
	for host := range n.answers {
		if strings.HasSuffix(host, ".test") || strings.Contains(host, "internal") || strings.Contains(host, "kubernetes") {
			cases["http://"+host+":"+port+"/picture.jpg"] = "address-not-public"
		}
	}
	if len(cases) < 60 {
		t.Fatalf("only %d cases", len(cases))
	}
	for url, want := range cases {
		_, _, err := look(web, url, nil)
		if got := reasonOf(err); got != want {
			t.Errorf("%.80q: %s, want %s (%v)", url, got, want, err)
		}
	}
	if reached.Load() != 0 {
		t.Errorf("the server inside was reached %d times", reached.Load())
	}
}

// outside lets a test's own server stand for a public one: the lane may talk to the one address it has.
const outside = "127.0.0.2"

func serve(t *testing.T, h http.HandlerFunc) (port string, s *httptest.Server) {
	t.Helper()
	l, err := net.Listen("tcp", outside+":0")
	if err != nil {
		t.Fatal(err)
	}
	s = httptest.NewUnstartedServer(h)
	s.Listener.Close()
	s.Listener = l
	s.Start()
	t.Cleanup(s.Close)
	_, port, _ = net.SplitHostPort(l.Addr().String())
	return port, s
}

func TestEveryHopOfARedirectIsHeldToTheRulesAndTheAddresses(t *testing.T) {
	reached := atomic.Int64{}
	inside := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { reached.Add(1) }))
	defer inside.Close()
	_, insidePort, _ := net.SplitHostPort(inside.Listener.Addr().String())
	var port string
	port, _ = serve(t, func(w http.ResponseWriter, r *http.Request) {
		base := "http://public.test:" + port
		to := map[string]string{
			"/inside":      "http://inside.test:" + insidePort + "/",
			"/literal":     "http://127.0.0.1:" + insidePort + "/",
			"/decimal":     "http://2130706433:" + insidePort + "/",
			"/six":         "http://[::1]:" + insidePort + "/",
			"/file":        "file:///etc/passwd",
			"/credentials": "http://me:pw@public.test:" + port + "/picture",
			"/not-allowed": "http://other.test:" + port + "/picture",
			"/loop":        base + "/loop",
			"/1":           base + "/2", "/2": base + "/3", "/3": base + "/picture", "/0": base + "/1",
			"/relative": "picture", "/nowhere": "", "/broken": "http://[",
		}[r.URL.Path]
		if _, redirect := map[string]bool{"/picture": true}[r.URL.Path]; redirect {
			w.Write([]byte("picture"))
			return
		}
		if to != "" {
			w.Header().Set("Location", to)
		}
		w.WriteHeader(302)
	})
	n := &names{answers: map[string][][]string{"public.test": {{outside}}, "other.test": {{outside}}, "inside.test": {{"127.0.0.1"}}}}
	web := lane(t, &source.Lanes{Kinds: kinds, Lookup: n.lookup}, func(l *policy.Lane) {
		l.Allow = []string{"http://public.test:" + port + "/*", "http://inside.test/*", "http://inside.test:" + insidePort + "/*", "http://127.0.0.1:" + insidePort + "/*", `http://[\:\:1]:` + insidePort + "/*"}
		l.Private = []string{outside}
	})
	for path, want := range map[string]string{
		"/picture": "<nil>", "/relative": "<nil>", "/1": "<nil>", "/0": "too-many-redirects", "/loop": "too-many-redirects",
		"/inside": "address-not-public", "/literal": "address-not-public", "/decimal": "address-not-public", "/six": "address-not-public",
		"/file": "bad-source-url", "/credentials": "bad-source-url", "/not-allowed": "source-not-allowed", "/nowhere": "origin-failed", "/broken": "origin-failed",
	} {
		_, data, err := look(web, "http://public.test:"+port+path, nil)
		if got := reasonOf(err); got != want || err == nil && string(data) != "picture" {
			t.Errorf("%s: %s %q, want %s", path, got, data, want)
		}
	}
	if reached.Load() != 0 {
		t.Error("the server inside was reached")
	}
}

func TestANameThatRebindsGainsNothing(t *testing.T) {
	port, _ := serve(t, func(w http.ResponseWriter, _ *http.Request) { w.Write([]byte("picture")) })
	n := &names{answers: map[string][][]string{"rebound.test": {{outside}, {"127.0.0.1"}}, "mixed.test": {{"10.0.0.1", outside}}}}
	web := lane(t, &source.Lanes{Kinds: kinds, Lookup: n.lookup}, func(l *policy.Lane) { l.Private = []string{outside} })
	if _, _, err := look(web, "http://rebound.test:"+port+"/", nil); err != nil {
		t.Errorf("the first time: %v", err)
	}
	web.(*Lane).client.CloseIdleConnections()
	if _, _, err := look(web, "http://rebound.test:"+port+"/", nil); reasonOf(err) != "address-not-public" {
		t.Errorf("rebound: %v", err)
	}
	if _, _, err := look(web, "http://mixed.test:"+port+"/", nil); err != nil {
		t.Errorf("of several addresses the one that is allowed: %v", err)
	}
}

func TestWhatAnOriginSendsIsBounded(t *testing.T) {
	var bomb bytes.Buffer
	z := gzip.NewWriter(&bomb)
	z.Write(make([]byte, 4<<20))
	z.Close()
	endless := make(chan struct{})
	defer close(endless)
	var heard atomic.Pointer[http.Header]
	port, _ := serve(t, func(w http.ResponseWriter, r *http.Request) {
		h := r.Header.Clone()
		heard.Store(&h)
		switch r.URL.Path {
		case "/large":
			w.Write(make([]byte, 200_000))
		case "/stream":
			for range 100 {
				w.Write(make([]byte, 10_000))
				w.(http.Flusher).Flush()
			}
		case "/bomb":
			w.Header().Set("Content-Encoding", "gzip")
			w.Write(bomb.Bytes())
		case "/lies":
			w.Header().Set("Content-Encoding", "gzip")
			w.Write([]byte("no gzip"))
		case "/brotli":
			w.Header().Set("Content-Encoding", "br")
		case "/gzip":
			w.Header().Set("Content-Encoding", "gzip")
			z := gzip.NewWriter(w)
			z.Write([]byte("picture"))
			z.Close()
		case "/silent":
			<-endless
		case "/slow":
			w.Write([]byte("a"))
			w.(http.Flusher).Flush()
			<-endless
		case "/cut":
			w.Header().Set("Content-Length", "100")
			w.Write([]byte("half"))
		case "/gone":
			w.WriteHeader(410)
		case "/ours":
			w.WriteHeader(500)
		case "/closed":
			w.WriteHeader(401)
		case "/headers":
			for i := range 2000 {
				w.Header().Set(fmt.Sprintf("X-%d", i), strings.Repeat("a", 100))
			}
		default:
			w.Write([]byte("picture"))
		}
	})
	n := &names{answers: map[string][][]string{"public.test": {{outside}}}}
	web := lane(t, &source.Lanes{Kinds: kinds, Lookup: n.lookup, CDN: func() string { return "echolane-test" }}, func(l *policy.Lane) { l.Private, l.SourceBytes = []string{outside}, 100_000 })
	for path, want := range map[string]string{
		"/ok": "<nil>", "/gzip": "<nil>", "/large": "source-too-many-bytes", "/stream": "source-too-many-bytes", "/bomb": "source-too-many-bytes",
		"/lies": "origin-failed", "/brotli": "origin-failed", "/silent": "origin-slow", "/slow": "origin-slow", "/cut": "origin-failed",
		"/gone": "no-such-source", "/ours": "origin-failed", "/closed": "origin-failed", "/headers": "origin-failed",
	} {
		_, data, err := look(web, "http://public.test:"+port+path, nil)
		if got := reasonOf(err); got != want || err == nil && string(data) != "picture" {
			t.Errorf("%s: %s %q, want %s", path, got, data, want)
		}
	}
	if seen := *heard.Load(); seen.Get("CDN-Loop") != "echolane-test" || seen.Get("Cookie") != "" || seen.Get("X-Forwarded-For") != "" {
		t.Errorf("the origin is sent %v", seen)
	}
}

func TestSourcesArePaidForOnceAndRevalidated(t *testing.T) {
	hits := map[string]int{}
	version, failing := "1", false
	port, _ := serve(t, func(w http.ResponseWriter, r *http.Request) {
		hits[r.URL.Path]++
		switch {
		case failing:
			w.WriteHeader(503)
			return
		case r.URL.Path == "/tagged":
			w.Header().Set("ETag", `"`+version+`"`)
			w.Header().Set("Cache-Control", "max-age=7")
			if r.Header.Get("If-None-Match") == `"`+version+`"` {
				hits["304"]++
				w.WriteHeader(304)
				return
			}
		case r.URL.Path == "/no-store":
			w.Header().Set("Cache-Control", "no-store")
		case r.URL.Path == "/shared":
			w.Header().Set("Cache-Control", "max-age=1, s-maxage=99")
			w.Header().Set("Age", "9")
		}
		w.Write([]byte("picture " + version))
	})
	n := &names{answers: map[string][][]string{"public.test": {{outside}}}}
	disk := disk.Open(disk.Options{Dir: t.TempDir(), Bytes: 1 << 20, Log: slog.New(slog.NewTextHandler(io.Discard, nil))})
	ls := &source.Lanes{Kinds: kinds, Lookup: n.lookup, Keep: source.NewKeep(disk, 0)}
	web := lane(t, ls, func(l *policy.Lane) { l.Private, l.FreshS = []string{outside}, new(int); *l.FreshS = 40 })
	base := "http://public.test:" + port
	v, _, err := look(web, base+"/tagged", nil)
	if err != nil || v.Fresh != 7*time.Second {
		t.Fatalf("%+v, %v", v, err)
	}
	again, data, err := look(web, base+"/tagged", &v)
	if err != nil || string(data) != "picture 1" || again.Digest != v.Digest || hits["304"] != 1 || hits["/tagged"] != 2 {
		t.Errorf("revalidated: %+v %q %v, %d times 304", again, data, err, hits["304"])
	}
	for path, want := range map[string]time.Duration{"/plain": 40 * time.Second, "/no-store": 0, "/shared": 90 * time.Second} {
		if v, _, err := look(web, base+path, nil); err != nil || v.Fresh != want {
			t.Errorf("%s is fresh for %v, %v; want %v", path, v.Fresh, err, want)
		}
	}
	version = "2"
	next, data, err := look(web, base+"/tagged", &v)
	if err != nil || string(data) != "picture 2" || next.Digest == v.Digest {
		t.Errorf("changed: %+v %q %v", next, data, err)
	}
	// What is kept is read without asking; and where the origin fails, it goes on being served.
	before := hits["/tagged"]
	content, err := web.Open(context.Background(), base+"/tagged", next)
	if err != nil || hits["/tagged"] != before {
		t.Fatalf("open: %v, asked %d times", err, hits["/tagged"]-before)
	}
	if _, _, inFile := content.File(); !inFile {
		t.Error("what is kept on disk is held in memory")
	}
	content.Close()
	failing = true
	if stale, _, err := look(web, base+"/tagged", &next); err != nil || stale.Digest != next.Digest || stale.Fresh != source.StaleServed {
		t.Errorf("with the origin down: %+v, %v", stale, err)
	}
	if v, _, err := look(web, base+"/tagged", nil); err != nil || v.Digest != next.Digest {
		t.Errorf("after a restart, with the origin down: %+v, %v", v, err)
	}
	if _, _, err := look(web, base+"/other", nil); reasonOf(err) != "origin-failed" {
		t.Errorf("nothing is known of it, and the origin is down: %v", err)
	}
	disk.Close()
}

// A lane's secret header goes to its own origin, and not there again once a foreign hop had a hand in where to go.
func TestASecretHeaderGoesNoRoundabout(t *testing.T) {
	var mu sync.Mutex
	got := map[string]string{}
	var foreign string
	handler := func(w http.ResponseWriter, r *http.Request) {
		mu.Lock()
		got[r.Host+r.URL.Path] = r.Header.Get("Authorization")
		mu.Unlock()
		switch r.URL.Path {
		case "/round.jpg":
			http.Redirect(w, r, foreign+"/back.jpg?to=http://"+r.Host+"/inner.jpg", 302)
		case "/back.jpg":
			http.Redirect(w, r, r.URL.Query().Get("to"), 302)
		case "/straight.jpg":
			http.Redirect(w, r, "/inner2.jpg", 302)
		default:
			w.Write([]byte("picture"))
		}
	}
	own, other := httptest.NewServer(http.HandlerFunc(handler)), httptest.NewServer(http.HandlerFunc(handler))
	defer own.Close()
	defer other.Close()
	foreign = other.URL
	d := policy.NewDocument("kestrel")
	d.Lanes = []policy.Lane{{Name: "press", Kind: "web", Base: own.URL + "/", Allow: []string{"http://*:*/*"}, Private: []string{"127.0.0.1"}}}
	d.Complete(kinds.Describe())
	s, _, err := policy.Compile(d, kinds.Describe())
	if err != nil {
		t.Fatal(err)
	}
	ls := &source.Lanes{Kinds: kinds, Keep: source.NewKeep(nil, 0), CDN: func() string { return "" }}
	defer ls.Close()
	l, err := ls.Of(&policy.SiteSettings{Site: s, Document: d, Secrets: map[string]string{policy.HeaderSecret("press", "Authorization"): "secret"}}, s.Lanes[0])
	if err != nil {
		t.Fatal(err)
	}
	for _, path := range []string{"round.jpg", "straight.jpg", "plain.jpg"} {
		if _, data, err := look(l, path, nil); err != nil || string(data) != "picture" {
			t.Fatalf("%s: %q %v", path, data, err)
		}
	}
	host := strings.TrimPrefix(own.URL, "http://")
	for path, want := range map[string]string{"/round.jpg": "secret", "/inner.jpg": "", "/straight.jpg": "secret", "/inner2.jpg": "secret", "/plain.jpg": "secret"} {
		if got[host+path] != want {
			t.Errorf("%s was sent %q, want %q", path, got[host+path], want)
		}
	}
	if got[strings.TrimPrefix(other.URL, "http://")+"/back.jpg"] != "" {
		t.Error("another host was sent the secret")
	}
}
