package app

import (
	"bufio"
	"bytes"
	"compress/zlib"
	"context"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"go/ast"
	"go/parser"
	gotoken "go/token"
	"hash/crc32"
	"io"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/valyala/fasthttp"

	"echolane/core/policy"
	"echolane/internal/testbed"
	"echolane/service/api"
	"echolane/service/panics"
	"echolane/service/records"
)

func TestAPanicInAHandlerIsOneAnswer(t *testing.T) {
	a := &App{o: Options{Log: slog.New(slog.DiscardHandler)}, panics: &panics.Catcher{}}
	a.metrics = newMetrics(a)
	a.handler = func(*fasthttp.RequestCtx) { panic("oh") }
	var c fasthttp.RequestCtx
	var q fasthttp.Request
	q.SetRequestURI("/-/live")
	q.Header.SetHost("x.test")
	q.Header.SetProtocol("HTTP/1.0")
	c.Init(&q, nil, nil)
	a.door(&c)
	if c.Response.StatusCode() != 500 || !strings.Contains(string(c.Response.Body()), `"internal"`) || a.panics.Count() != 1 || a.under.Load() != 0 {
		t.Errorf("%d %s, %d caught", c.Response.StatusCode(), c.Response.Body(), a.panics.Count())
	}
}

// Foreign bytes are looked into by render workers alone.
func TestTheServingProcessParsesNoForeignBytes(t *testing.T) {
	forbidden := map[string]bool{"render.Probe": true, "render.Header": true, "render.Variant": true, "metadata.Strip": true, "metadata.StripSplices": true, "formats.Sniff": true, "formats.Of": true, "formats.All": true, "formats.Writer": true, "codec.SniffOther": true, "metadata.FactsOf": true, "metadata.Reduce": true, "image.Decode": true, "image.DecodeConfig": true}
	err := filepath.WalkDir("..", func(path string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") || strings.Contains(path, "workshop/worker.go") {
			return err
		}
		file, err := parser.ParseFile(gotoken.NewFileSet(), path, nil, 0)
		if err != nil {
			return err
		}
		for _, i := range file.Imports {
			if strings.HasPrefix(i.Path.Value, `"echolane/core/codec/`) && i.Path.Value != `"echolane/core/codec/formats"` { // which also knows names
				t.Errorf("%s imports %s", path, i.Path.Value)
			}
		}
		ast.Inspect(file, func(n ast.Node) bool {
			if s, ok := n.(*ast.SelectorExpr); ok {
				if x, ok := s.X.(*ast.Ident); ok && forbidden[x.Name+"."+s.Sel.Name] {
					t.Errorf("%s calls %s.%s", path, x.Name, s.Sel.Name)
				}
			}
			return true
		})
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
}

// manyExtents is an AVIF whose item locations name so many items of so many empty extents each.
func manyExtents(items, extents int) []byte {
	box := func(kind string, body []byte) []byte {
		return append(append(binary.BigEndian.AppendUint32(nil, uint32(len(body)+8)), kind...), body...)
	}
	full := func(kind string, version byte, body []byte) []byte {
		return box(kind, append([]byte{version, 0, 0, 0}, body...))
	}
	iloc := []byte{0, 0}
	iloc = binary.BigEndian.AppendUint16(iloc, uint16(items))
	for i := range items {
		iloc = binary.BigEndian.AppendUint16(iloc, uint16(i+1))
		iloc = append(iloc, 0, 0)
		iloc = binary.BigEndian.AppendUint16(iloc, uint16(extents))
	}
	meta := full("meta", 0, bytes.Join([][]byte{
		full("hdlr", 0, append(make([]byte, 4), "pict\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00"...)),
		full("pitm", 0, []byte{0, 1}), full("iloc", 0, iloc), full("iinf", 0, append([]byte{0, 1}, full("infe", 2, []byte("\x00\x01\x00\x00av01\x00"))...)),
		box("iprp", box("ipco", full("ispe", 0, []byte{0, 0, 0, 8, 0, 0, 0, 8}))),
	}, nil))
	return append(box("ftyp", []byte("avif\x00\x00\x00\x00avifmif1miaf")), meta...)
}

// manyProfiles is a PNG with so many colour profiles, each of four megabytes when it is unpacked.
func manyProfiles(t *testing.T, n int) []byte {
	t.Helper()
	plain := picture(t, 8, 8)
	var z bytes.Buffer
	w, _ := zlib.NewWriterLevel(&z, 9)
	w.Write(make([]byte, 4<<20-1))
	w.Close()
	chunk := append([]byte("iCCPp\x00\x00"), z.Bytes()...)
	whole := binary.BigEndian.AppendUint32(nil, uint32(len(chunk)-4))
	whole = append(whole, chunk...)
	whole = binary.BigEndian.AppendUint32(whole, crc32.ChecksumIEEE(chunk))
	out := append([]byte{}, plain[:33]...)
	for range n {
		out = append(out, whole...)
	}
	return append(out, plain[33:]...)
}

// peak is the most memory that the process has had, in bytes, since the last call of reset.
func peak(t *testing.T) int64 {
	t.Helper()
	text, err := os.ReadFile("/proc/self/status")
	if err != nil {
		t.Skip("no /proc")
	}
	var kb int64
	for line := range strings.Lines(string(text)) {
		if rest, ok := strings.CutPrefix(line, "VmHWM:"); ok {
			fmt.Sscan(rest, &kb)
		}
	}
	return kb << 10
}

func reset(t *testing.T) int64 {
	t.Helper()
	runtime.GC()
	if err := os.WriteFile("/proc/self/clear_refs", []byte("5"), 0); err != nil {
		t.Skip("the peak of memory can't be set back here")
	}
	return peak(t)
}

func TestHostileHeadersCostTheServingProcessNothing(t *testing.T) {
	r := start(t, nil, nil)
	r.put("small.avif", manyExtents(4000, 65535))
	r.put("large.avif", manyExtents(12000, 65535))
	r.put("profiles.png", manyProfiles(t, 400))
	before := reset(t)
	var all sync.WaitGroup
	for _, path := range []string{"/kestrel/f/small.avif?as=facts", "/kestrel/f/small.avif?download", "/kestrel/f/small.avif?width=50", "/kestrel/f/large.avif?as=facts", "/kestrel/f/large.avif?download", "/kestrel/f/profiles.png?as=facts", "/kestrel/f/profiles.png?download"} {
		for range 3 {
			all.Go(func() {
				begin := time.Now()
				a := r.get(path)
				if a.StatusCode >= 500 && a.StatusCode != 503 {
					t.Errorf("%s: %s", path, a.reason())
				}
				if strings.Contains(path, "avif") && a.reason() != "422 source-broken" {
					t.Errorf("%s: %s", path, a.reason())
				}
				if took := time.Since(begin); took > 10*time.Second {
					t.Errorf("%s took %v", path, took)
				}
			})
		}
	}
	for _, call := range []string{"facts", "original", "test"} {
		a := r.get("/-/api/v1/sites/kestrel/lanes/f/"+call+"?path=small.avif&source=small.avif", "Authorization", "Bearer "+token)
		if a.StatusCode != 422 && call != "test" || a.StatusCode != 200 && call == "test" {
			t.Errorf("%s: %s", call, a.reason())
		}
	}
	a := r.do("POST", "/-/api/v1/sites/kestrel/lanes/incoming/sources?path=a.avif", bytes.NewReader(manyExtents(4000, 65535)), "Authorization", "Bearer "+token)
	if a.reason() != "422 source-broken" {
		t.Errorf("upload: %s", a.reason())
	}
	all.Wait()
	if grew := peak(t) - before; grew > 100<<20 {
		t.Errorf("the serving process grew by %d MiB", grew>>20)
	}
}

func TestManyWidthsOfALargeSourceHoldItOnce(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes long")
	}
	r := start(t, func(o *Options) { o.Workers = 1 }, nil)
	r.put("large.png", picture(t, 3000, 2500)) // 30 MB
	before := reset(t)
	var all sync.WaitGroup
	var made atomic.Int64
	for i := range 12 {
		all.Go(func() {
			switch a := r.get(fmt.Sprintf("/kestrel/f/large.png?width=%d&format=jpeg", 100+i)); {
			case a.StatusCode == 200:
				made.Add(1)
			case a.StatusCode != 503:
				t.Error(a.reason())
			}
		})
	}
	all.Wait()
	if made.Load() == 0 {
		t.Error("none was made")
	}
	if grew := peak(t) - before; grew > 80<<20 {
		t.Errorf("12 widths of 30 MB took %d MiB", grew>>20)
	}
}

func TestAClientThatLeavesFreesItsPlaceInTheQueue(t *testing.T) {
	r := start(t, func(o *Options) { o.Workers = 1 }, nil)
	r.put("large.png", picture(t, 900, 700))
	var open []net.Conn
	for i := range 20 {
		c, err := net.Dial("tcp", r.Addr())
		if err != nil {
			t.Fatal(err)
		}
		fmt.Fprintf(c, "GET /kestrel/f/large.png?width=%d&format=png HTTP/1.1\r\nHost: x\r\n\r\n", 600+i)
		open = append(open, c)
	}
	testbed.Eventually(t, "they wait", func() error {
		if n := r.workshop.Waiting(); n < 10 {
			return fmt.Errorf("%d wait", n)
		}
		return nil
	})
	for _, c := range open {
		c.Close()
	}
	left := time.Now()
	testbed.Eventually(t, "nobody waits any more", func() error {
		if n := r.workshop.Waiting(); n > 0 {
			return fmt.Errorf("%d wait", n)
		}
		return nil
	})
	if took := time.Since(left); took > 5*time.Second { // all of them would take a good deal longer
		t.Errorf("it took %v", took)
	}
	// A connection that stays is read from as before.
	c, err := net.Dial("tcp", r.Addr())
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	in := bufio.NewReader(c)
	for i := range 3 {
		fmt.Fprintf(c, "GET /kestrel/f/large.png?width=%d HTTP/1.1\r\nHost: x\r\n\r\n", 30+i)
		a, err := http.ReadResponse(in, nil)
		if err != nil {
			t.Fatalf("request %d on one connection: %v", i, err)
		}
		if body, _ := io.ReadAll(a.Body); a.StatusCode != 200 {
			t.Fatalf("request %d on one connection: %d %s", i, a.StatusCode, body)
		}
	}
	// Two at once on one connection: the second is there while the first is worked on.
	fmt.Fprint(c, "GET /kestrel/f/large.png?width=41 HTTP/1.1\r\nHost: x\r\n\r\nGET /kestrel/f/large.png?width=42 HTTP/1.1\r\nHost: x\r\n\r\n")
	for range 2 {
		a, err := http.ReadResponse(in, nil)
		if err != nil || a.StatusCode != 200 {
			t.Fatalf("pipelined: %v", err)
		}
		io.Copy(io.Discard, a.Body)
	}
}

func TestRequestsThatArentQuiteHTTP(t *testing.T) {
	r := start(t, nil, nil)
	r.put("kite.png", picture(t, 40, 30))
	ok := "GET /kestrel/f/kite.png?width=20 HTTP/1.1\r\n"
	for name, c := range map[string]struct{ text, want string }{
		"one host":         {ok + "Host: x\r\n\r\n", "200"},
		"no host":          {ok + "\r\n", "400"},
		"two hosts":        {ok + "Host: x\r\nHost: y\r\n\r\n", "400"},
		"two hosts, cased": {ok + "Host: x\r\nhOST: x\r\n\r\n", "400"},
		"HTTP/1.0":         {strings.Replace(ok, "1.1", "1.0", 1) + "\r\n", "200"},
		"a long address":   {"GET /kestrel/f/kite.png?width=20&after-content=%22" + strings.Repeat("a", 13<<10) + "%22 HTTP/1.1\r\nHost: x\r\n\r\n", "414"},
		"a longer address": {"GET /kestrel/f/" + strings.Repeat("a", 20<<10) + " HTTP/1.1\r\nHost: x\r\n\r\n", "414"},
		"long fields":      {ok + "Host: x\r\nCookie: " + strings.Repeat("a", 20<<10) + "\r\n\r\n", "431"},
		"many fields":      {ok + "Host: x\r\n" + strings.Repeat("X-A: bbbbbbbbbbbbbbbbbbb\r\n", 1000) + "\r\n", "431"},
		"OPTIONS *":        {"OPTIONS * HTTP/1.1\r\nHost: x\r\n\r\n", "204"},
		"no HTTP at all":   {"\x16\x03\x01\x02\x00\x01\x00\r\n\r\n", "400"},
		"another method":   {"PUT /kestrel/f/kite.png HTTP/1.1\r\nHost: x\r\nContent-Length: 0\r\n\r\n", "405"},
		"a made-up method": {"FLY /kestrel/f/kite.png HTTP/1.1\r\nHost: x\r\n\r\n", "405"},
	} {
		if got := r.raw(c.text); !strings.HasPrefix(got, "HTTP/1.1 "+c.want) {
			t.Errorf("%s: %q, want %s", name, got, c.want)
		}
	}
	a := r.do("OPTIONS", "/kestrel/f/kite.png?width=20", nil, "Origin", "https://shop.test", "Access-Control-Request-Method", "GET", "Access-Control-Request-Headers", "if-none-match")
	if a.StatusCode != 204 || a.Header.Get("Access-Control-Allow-Origin") != "*" || !strings.Contains(a.Header.Get("Access-Control-Allow-Headers"), "If-None-Match") || a.Header.Get("Access-Control-Allow-Methods") != "GET, HEAD" {
		t.Errorf("preflight: %d %v", a.StatusCode, a.Header)
	}
	if a := r.do("OPTIONS", "/nobody/f/kite.png", nil, "Origin", "https://shop.test"); a.Header.Get("Access-Control-Allow-Origin") != "" {
		t.Errorf("a site that isn't there: %v", a.Header)
	}
	if a := r.get("/kestrel/f/kite.png?width=20"); !strings.Contains(a.Header.Get("Access-Control-Expose-Headers"), "Cache-Status") {
		t.Errorf("%v", a.Header)
	}
	if a := r.get("/kestrel/f/none.png", "Authorization", ""); a.Header.Get("Cache-Status") != "Echo-Lane; detail=no-such-source" {
		t.Errorf("%v", a.Header)
	}
}

// A request that doesn't come to its end is answered as RFC 9110, section 15.5.9, has it.
func TestRequestsThatDontEndInTime(t *testing.T) {
	t.Parallel()
	r := start(t, func(o *Options) { o.ReadTime = 300 * time.Millisecond }, nil)
	for name, text := range map[string]string{
		"in its line":        "GET /kestrel/f/ki",
		"in its fields":      "GET /kestrel/f/kite.png HTTP/1.1\r\nHost: x\r\nAccept: ima",
		"in settings":        "PUT /-/api/v1/sites/kestrel HTTP/1.1\r\nHost: x\r\nAuthorization: Bearer " + token + "\r\nIf-Match: *\r\nContent-Type: application/json\r\nContent-Length: 100\r\n\r\n{\"na",
		"in an upload":       "POST /-/api/v1/sites/kestrel/lanes/incoming/sources?path=kite.png HTTP/1.1\r\nHost: x\r\nAuthorization: Bearer " + token + "\r\nContent-Length: 100\r\n\r\n\x89PNG",
		"far into settings":  "PUT /-/api/v1/sites/kestrel HTTP/1.1\r\nHost: x\r\nAuthorization: Bearer " + token + "\r\nIf-Match: *\r\nContent-Type: application/json\r\nContent-Length: 20000\r\n\r\n" + strings.Repeat(" ", 9000),
		"far into an upload": "POST /-/api/v1/sites/kestrel/lanes/incoming/sources?path=kite.png HTTP/1.1\r\nHost: x\r\nAuthorization: Bearer " + token + "\r\nContent-Length: 20000\r\n\r\n" + strings.Repeat(" ", 9000),
		"far into a form":    "POST /-/api/v1/sites/kestrel/lanes/incoming/uploads HTTP/1.1\r\nHost: x\r\nAuthorization: Bearer " + token + "\r\nContent-Type: multipart/form-data; boundary=b\r\nContent-Length: 20000\r\n\r\n" + strings.Repeat("\r\n", 4500),
	} {
		if got := r.raw(text); got != "HTTP/1.1 408 Request Timeout" {
			t.Errorf("%s: %q", name, got)
		}
	}
	if got := r.raw(""); got != "" {
		t.Errorf("one that doesn't begin is answered %q", got)
	}
	// What goes on coming may take longer, and the next request on the connection has its own time.
	c, err := net.Dial("tcp", r.Addr())
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	c.SetDeadline(time.Now().Add(20 * time.Second))
	in, data := bufio.NewReader(c), picture(t, 120, 90)
	fmt.Fprintf(c, "POST /-/api/v1/sites/kestrel/lanes/incoming/sources?path=kite.png HTTP/1.1\r\nHost: x\r\nAuthorization: Bearer %s\r\nContent-Length: %d\r\n\r\n", token, len(data))
	for len(data) > 0 {
		n := min(len(data), len(data)/3+1000)
		c.Write(data[:n])
		data = data[n:]
		time.Sleep(100 * time.Millisecond)
	}
	if a, err := http.ReadResponse(in, nil); err != nil || a.StatusCode != 201 {
		t.Fatalf("a slow upload: %v, %v", a, err)
	} else {
		io.Copy(io.Discard, a.Body)
	}
	fmt.Fprint(c, "GET /kestrel/incoming/kite.png?wi")
	if a, err := http.ReadResponse(in, nil); err != nil || a.StatusCode != 408 {
		t.Errorf("the one after it: %v, %v", a, err)
	}
}

func TestOriginalsAreConditionalInRangesAndStreamed(t *testing.T) {
	r := start(t, nil, func(d *policy.Document) {
		keep := d.Lanes[0]
		keep.Name, keep.Metadata = "kept", "keep"
		d.Lanes = append(d.Lanes, keep)
	})
	plain := picture(t, 600, 500)
	text := append([]byte("tEXtAuthor\x00wren"), 0, 0, 0, 0)
	chunk := append(binary.BigEndian.AppendUint32(nil, uint32(len(text)-8)), text...)
	tagged := append(append(append([]byte{}, plain[:33]...), chunk...), plain[33:]...)
	r.put("kite.png", tagged)
	for lane, want := range map[string][]byte{"f": plain, "kept": tagged} {
		path := "/kestrel/" + lane + "/kite.png?download"
		a := r.get(path)
		tag, modified := a.Header.Get("ETag"), a.Header.Get("Last-Modified")
		if a.StatusCode != 200 || !bytes.Equal(a.body, want) || tag == "" || modified == "" || a.Header.Get("Accept-Ranges") != "bytes" || a.Header.Get("Content-Type") != "image/png" || !strings.HasPrefix(a.Header.Get("Content-Disposition"), "attachment") {
			t.Fatalf("%s: %d, %d bytes of %d, %v", lane, a.StatusCode, len(a.body), len(want), a.Header)
		}
		n := len(want)
		for _, c := range []struct {
			fields  []string
			status  int
			from, n int
		}{
			{[]string{"Range", "bytes=0-9"}, 206, 0, 10},
			{[]string{"Range", "bytes=20-60"}, 206, 20, 41}, // across what was left out
			{[]string{"Range", "bytes=100-"}, 206, 100, n - 100},
			{[]string{"Range", "bytes=-7"}, 206, n - 7, 7},
			{[]string{"Range", fmt.Sprintf("bytes=10-%d", 10*n)}, 206, 10, n - 10},
			{[]string{"Range", fmt.Sprintf("bytes=-%d", 10*n)}, 206, 0, n},
			{[]string{"Range", fmt.Sprintf("bytes=%d-", n)}, 416, 0, 0},
			{[]string{"Range", "bytes=-0"}, 416, 0, 0},
			{[]string{"Range", "bytes=9-3"}, 200, 0, n},
			{[]string{"Range", "bytes=a-b"}, 200, 0, n},
			{[]string{"Range", "lines=0-9"}, 200, 0, n},
			{[]string{"Range", "bytes=0-9", "If-Range", tag}, 206, 0, 10},
			{[]string{"Range", "bytes=0-9", "If-Range", `"other"`}, 200, 0, n},
			{[]string{"Range", "bytes=0-9", "If-Range", modified}, 206, 0, 10},
			{[]string{"Range", "bytes=0-9", "If-Range", "Mon, 01 Jan 2001 00:00:00 GMT"}, 200, 0, n},
			{[]string{"If-None-Match", tag}, 304, 0, 0},
			{[]string{"If-None-Match", `"other"`}, 200, 0, n},
			{[]string{"If-Modified-Since", modified}, 304, 0, 0},
			{[]string{"If-Modified-Since", "Mon, 01 Jan 2001 00:00:00 GMT"}, 200, 0, n},
			{[]string{"If-None-Match", tag, "Range", "bytes=0-9"}, 304, 0, 0},
		} {
			a := r.get(path, c.fields...)
			if a.StatusCode != c.status || !bytes.Equal(a.body, want[c.from:c.from+c.n]) {
				t.Errorf("%s %v: %d with %d bytes, want %d with %d", lane, c.fields, a.StatusCode, len(a.body), c.status, c.n)
			}
			if got := a.Header.Get("Content-Range"); c.status == 206 && got != fmt.Sprintf("bytes %d-%d/%d", c.from, c.from+c.n-1, n) || c.status == 416 && got != fmt.Sprintf("bytes */%d", n) {
				t.Errorf("%s %v: Content-Range %q", lane, c.fields, got)
			}
		}
		if a := r.do("HEAD", path, nil); a.StatusCode != 200 || a.ContentLength != int64(n) || len(a.body) != 0 {
			t.Errorf("HEAD: %d, %d", a.StatusCode, a.ContentLength)
		}
	}
	large := picture(t, 2000, 1500) // 12 MB
	r.put("large.png", large)
	r.get("/kestrel/f/large.png?download", "Range", "bytes=0-0")
	before := reset(t)
	var open []net.Conn
	for range 60 { // that ask and don't read
		c, err := net.Dial("tcp", r.Addr())
		if err != nil {
			t.Fatal(err)
		}
		c.(*net.TCPConn).SetReadBuffer(4 << 10)
		fmt.Fprintf(c, "GET /kestrel/f/large.png?download HTTP/1.1\r\nHost: x\r\n\r\n")
		open = append(open, c)
	}
	for _, c := range open {
		if _, err := bufio.NewReaderSize(c, 16).ReadByte(); err != nil {
			t.Fatal(err)
		}
	}
	if grew := peak(t) - before; grew > 60<<20 {
		t.Errorf("60 readers that don't read hold %d MiB", grew>>20)
	}
	for _, c := range open {
		c.Close()
	}
}

func TestTheServiceDrainsInOneOrder(t *testing.T) {
	r := start(t, func(o *Options) { o.DrainDelay, o.Workers, o.WaitLimit = 700*time.Millisecond, 1, 30*time.Second }, nil)
	r.put("kite.png", picture(t, 320, 240))
	kept, err := net.Dial("tcp", r.Addr())
	if err != nil {
		t.Fatal(err)
	}
	defer kept.Close()
	in := bufio.NewReader(kept)
	ask := func() (status int, closes bool) {
		fmt.Fprint(kept, "GET /kestrel/f/kite.png?width=20 HTTP/1.1\r\nHost: x\r\n\r\n")
		a, err := http.ReadResponse(in, nil)
		if err != nil {
			return 0, true
		}
		io.Copy(io.Discard, a.Body)
		return a.StatusCode, a.Close // the field itself is taken out
	}
	if status, _ := ask(); status != 200 {
		t.Fatal(status)
	}
	var all sync.WaitGroup
	got := make([]string, 12)
	for i := range got { // under way when it begins to end
		all.Go(func() { got[i] = r.get(fmt.Sprintf("/kestrel/f/kite.png?width=%d&format=jpeg", 200+i)).reason() })
	}
	testbed.Eventually(t, "renders are under way", func() error {
		if r.workshop.Waiting() < 5 {
			return errors.New("not yet")
		}
		return nil
	})
	stopped := make(chan struct{})
	go func() { r.Stop(); close(stopped) }()
	testbed.Eventually(t, "ready says that it drains, while it serves", func() error {
		if a := r.get("/-/ready"); a.StatusCode != 503 || !strings.Contains(string(a.body), "draining") {
			return fmt.Errorf("%d %s", a.StatusCode, a.body)
		}
		return nil
	})
	if a := r.get("/kestrel/f/kite.png?width=20"); a.StatusCode != 200 {
		t.Errorf("while it drains: %d", a.StatusCode)
	}
	for !r.refusing.Load() {
		time.Sleep(5 * time.Millisecond)
	}
	// From here on nothing is begun: a connection that is open is told so, or finds itself closed; a new one isn't taken.
	if status, closes := ask(); status != 0 && (status != 503 || !closes) {
		t.Errorf("a request that comes now: %d, and that the connection closes: %v", status, closes)
	}
	all.Wait()
	<-stopped
	for i, status := range got {
		if status != "200 " {
			t.Errorf("request %d that was under way: %s", i, status)
		}
	}
	if c, err := net.DialTimeout("tcp", r.Addr(), time.Second); err == nil {
		c.Close()
		t.Error("a stopped service takes connections")
	}
	if strings.Contains(r.said.String(), "records are lost") || r.panics.Count() != 0 {
		t.Errorf("it said: %s", r.said.String())
	}
}

func TestAClientThatGoesIsNoRefusal(t *testing.T) {
	r := start(t, func(o *Options) { o.Workers = 1 }, nil)
	r.put("large.png", picture(t, 900, 700))
	var gone []net.Conn
	for i := range 6 {
		c, err := net.Dial("tcp", r.Addr())
		if err != nil {
			t.Fatal(err)
		}
		fmt.Fprintf(c, "GET /kestrel/f/large.png?width=%d&format=png HTTP/1.1\r\nHost: x\r\n\r\n", 500+i)
		gone = append(gone, c)
	}
	testbed.Eventually(t, "renders wait", func() error {
		if r.workshop.Waiting() < 3 {
			return errors.New("not yet")
		}
		return nil
	})
	for _, c := range gone {
		c.Close()
	}
	testbed.Eventually(t, "they free their places", func() error {
		if r.workshop.Waiting() > 0 || r.under.Load() > 0 {
			return errors.New("not yet")
		}
		return nil
	})
	if got := string(r.get("/-/metrics", "Authorization", "Bearer "+token).body); !strings.Contains(got, "echolane_panics_total") || strings.Contains(got, `reason="busy"`) {
		t.Errorf("clients that went are counted as refused: %s", got)
	}
}

// Who is told that a request is too long hears it, though more of it is on the way.
func TestARequestThatIsTooLongIsAnsweredWhileItIsSent(t *testing.T) {
	r := start(t, nil, nil)
	for range 5 {
		c, err := net.Dial("tcp", r.Addr())
		if err != nil {
			t.Fatal(err)
		}
		c.SetDeadline(time.Now().Add(5 * time.Second))
		io.WriteString(c, "GET /kestrel/f/kite.png HTTP/1.1\r\nHost: x\r\nCookie: "+strings.Repeat("a", 17<<10))
		time.Sleep(20 * time.Millisecond) // until the server has made up its mind
		for range 4 {
			if _, err := io.WriteString(c, strings.Repeat("a", 1<<10)); err != nil {
				t.Errorf("the rest isn't taken: %v", err)
			}
			time.Sleep(2 * time.Millisecond)
		}
		if line, err := bufio.NewReader(c).ReadString('\n'); !strings.HasPrefix(line, "HTTP/1.1 431") {
			t.Errorf("%q (%v)", line, err)
		}
		c.Close()
	}
}

// Sixty clients that connect and say nothing, or half a request, take all places; who asks is answered all the same, and a
// request under way isn't cut off.
func TestSilentClientsShutNobodyOut(t *testing.T) {
	hold := make(chan struct{})
	origin := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		<-hold
		w.Header().Set("Content-Type", "image/png")
		w.Write(picture(t, 40, 30))
	}))
	defer origin.Close()
	r := start(t, func(o *Options) { o.Connections = 30 }, func(d *policy.Document) {
		d.Lanes = append(d.Lanes, policy.Lane{Name: "slow", Kind: "web", Base: origin.URL + "/", Allow: []string{origin.URL + "/*"}, Private: []string{"127.0.0.0/8"}})
	})
	r.put("kite.png", picture(t, 60, 40))
	slow := make(chan answer)
	go func() { slow <- r.get("/kestrel/slow/a.png?width=20") }()
	testbed.Eventually(t, "the slow request is under way", func() error {
		if r.under.Load() == 0 {
			return errors.New("not yet")
		}
		return nil
	})
	for i := range 60 {
		c, err := net.Dial("tcp", r.Addr())
		if err != nil {
			t.Fatal(err)
		}
		defer c.Close()
		if i%2 == 0 {
			io.WriteString(c, "GET /kestrel/f/kite.png HTTP/1.1\r\nHost: ")
		}
	}
	testbed.Eventually(t, "who asks is answered", func() error {
		if line := r.raw("GET /kestrel/f/kite.png?width=20 HTTP/1.1\r\nHost: img.kestrel.test\r\nConnection: close\r\n\r\n"); line != "HTTP/1.1 200 OK" {
			return errors.New(line)
		}
		return nil
	})
	if held := r.clients.Held(); held > 30 || r.clients.Shed() == 0 || r.clients.Refused() == 0 {
		t.Errorf("%d held, %d shed, %d refused", held, r.clients.Shed(), r.clients.Refused())
	}
	close(hold)
	if a := <-slow; a.StatusCode != 200 {
		t.Errorf("the request that was under way: %d %s", a.StatusCode, a.body)
	}
}

func TestADrainHasOneLimit(t *testing.T) {
	r := start(t, func(o *Options) { o.DrainLimit, o.Workers = 300*time.Millisecond, 1 }, nil)
	r.put("large.png", picture(t, 2500, 2000))
	var all sync.WaitGroup
	var ended atomic.Int64
	for i := range 10 {
		all.Go(func() {
			q, _ := http.NewRequest("GET", fmt.Sprintf("%s/kestrel/f/large.png?width=%d&format=png", r.base, 1800+i), nil)
			if a, err := http.DefaultTransport.RoundTrip(q); err == nil {
				io.Copy(io.Discard, a.Body)
				a.Body.Close()
			}
			ended.Add(1)
		})
	}
	testbed.Eventually(t, "renders wait", func() error {
		if r.workshop.Waiting() < 5 {
			return errors.New("not yet")
		}
		return nil
	})
	begin := time.Now()
	r.Stop()
	if took := time.Since(begin); took > 6*time.Second {
		t.Errorf("it took %v", took)
	}
	all.Wait()
	if r.panics.Count() != 0 || r.under.Load() != 0 {
		t.Errorf("%d panics, %d under way", r.panics.Count(), r.under.Load())
	}
}

func TestMetricsAreForThoseWhoRunTheService(t *testing.T) {
	r := start(t, nil, nil)
	if a := r.get("/-/metrics"); a.reason() != "401 not-signed-in" {
		t.Errorf("a stranger: %s", a.reason())
	}
	if a := r.get("/-/metrics", "Authorization", "Bearer wrong"); a.StatusCode != 401 {
		t.Errorf("a wrong token: %d", a.StatusCode)
	}
	if a := r.get("/-/metrics", "Authorization", "Bearer "+token); a.StatusCode != 200 || !strings.Contains(string(a.body), "echolane_records_dropped_total") || !strings.Contains(string(a.body), "echolane_panics_total") {
		t.Errorf("with a token: %d", a.StatusCode)
	}
	own := start(t, func(o *Options) { o.MetricsListen = "127.0.0.1:0" }, nil)
	if a := own.get("/-/metrics", "Authorization", "Bearer "+token); a.StatusCode != 404 {
		t.Errorf("beside the rest: %d", a.StatusCode)
	}
	a, err := http.Get("http://" + own.MetricsAddr() + "/metrics")
	if err != nil || a.StatusCode != 200 {
		t.Errorf("at its own address: %v", err)
	}
	a.Body.Close()
}

func TestWhoEditsASitePointsItAtNothingElse(t *testing.T) {
	root, link := t.TempDir(), filepath.Join(t.TempDir(), "link")
	inside := filepath.Join(root, "pictures")
	os.Mkdir(inside, 0o755)
	os.Symlink("/etc", filepath.Join(root, "out"))
	os.Symlink(root, link)
	r := start(t, func(o *Options) {
		o.Ground = api.Ground{Roots: []string{root}, Networks: []netip.Prefix{netip.MustParsePrefix("10.2.0.0/16")}}
	}, nil)
	_, editor, err := r.Store().AddToken(context.Background(), "editor", "edit", []string{"kestrel"}, "test")
	if err != nil {
		t.Fatal(err)
	}
	add := func(bearer string, l string) answer {
		return r.do("POST", "/-/api/v1/sites/kestrel/lanes?dry_run=true", strings.NewReader(l), "Authorization", "Bearer "+bearer, "Content-Type", "application/json")
	}
	for l, allowed := range map[string]bool{
		fmt.Sprintf(`{"name": "a", "kind": "folder", "folder": %q}`, inside):                                         true,
		fmt.Sprintf(`{"name": "a", "kind": "folder", "folder": %q}`, root):                                           true,
		fmt.Sprintf(`{"name": "a", "kind": "upload", "folder": %q}`, inside+"/new/deep"):                             true,
		`{"name": "a", "kind": "folder", "folder": "/"}`:                                                             false,
		`{"name": "a", "kind": "folder", "folder": "/etc"}`:                                                          false,
		fmt.Sprintf(`{"name": "a", "kind": "folder", "folder": %q}`, root+"/../"+filepath.Base(root)+"x"):            false,
		fmt.Sprintf(`{"name": "a", "kind": "folder", "folder": %q}`, filepath.Join(root, "out")):                     false,
		fmt.Sprintf(`{"name": "a", "kind": "upload", "folder": %q}`, filepath.Join(root, "out", "new")):              false,
		fmt.Sprintf(`{"name": "a", "kind": "upload", "folder": %q}`, t.TempDir()):                                    false,
		`{"name": "a", "kind": "web", "allow": ["https://a.test/*"], "private": ["10.2.3.4"]}`:                       true,
		`{"name": "a", "kind": "web", "allow": ["https://a.test/*"], "private": ["10.2.128.0/17"]}`:                  true,
		`{"name": "a", "kind": "web", "allow": ["https://a.test/*"], "private": ["10.0.0.0/8"]}`:                     false,
		`{"name": "a", "kind": "web", "allow": ["https://a.test/*"], "private": ["0.0.0.0/0"]}`:                      false,
		`{"name": "a", "kind": "web", "allow": ["https://a.test/*"], "private": ["127.0.0.1"]}`:                      false,
		`{"name": "a", "kind": "bucket", "bucket": "b", "endpoint": "http://127.0.0.1:1", "private": ["127.0.0.1"]}`: false,
	} {
		a := add(editor, l)
		if allowed != (a.StatusCode == 200) {
			t.Errorf("%s: %s", l, a.reason())
		}
		if !allowed && (a.reason() != "403 not-permitted" || !strings.Contains(string(a.body), "--source-root") && !strings.Contains(string(a.body), "--private-network")) {
			t.Errorf("%s: %s %s", l, a.reason(), a.body)
		}
		if a := add(token, l); a.StatusCode != 200 && !strings.Contains(l, "x\"") && !strings.Contains(string(a.body), "no such folder") {
			t.Errorf("an owner's %s: %s %s", l, a.reason(), a.body)
		}
	}
}

func TestManySignInsAtOnceTakeLittleMemory(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes long")
	}
	r := start(t, nil, nil)
	r.put("kite.png", picture(t, 40, 30))
	r.get("/kestrel/f/kite.png?width=20")
	before := reset(t)
	var all sync.WaitGroup
	count := map[int]int{}
	var mu sync.Mutex
	for i := range 30 {
		all.Go(func() {
			a := r.do("POST", "/-/api/v1/session", strings.NewReader(fmt.Sprintf(`{"name": "name%d", "password": "guess"}`, i)), "Content-Type", "application/json")
			mu.Lock()
			count[a.StatusCode]++
			mu.Unlock()
		})
	}
	all.Wait()
	if grew := peak(t) - before; grew > 60<<20 {
		t.Errorf("30 sign-ins took %d MiB", grew>>20)
	}
	if count[401]+count[429]+count[503] != 30 || count[401] > 20 {
		t.Errorf("%v", count)
	}
	if err := r.Store().SignIn(context.Background(), "wren", "x", "192.0.2.1"); !errors.Is(err, records.ErrWrong) {
		t.Errorf("%v", err)
	}
	if _, err := r.Store().AddPerson(context.Background(), "wren", "kites in the wind", records.MayOwn, nil, "test"); err != nil {
		t.Fatal(err)
	}
	if err := r.Store().SignIn(context.Background(), "wren", "kites in the wind", "192.0.2.2"); err != nil {
		t.Errorf("the right password: %v", err)
	}
	for _, name := range []string{"a\x00b", strings.Repeat("x", 100_000), "", " "} {
		text, _ := json.Marshal(map[string]string{"name": name, "password": "guess"})
		if a := r.do("POST", "/-/api/v1/session", bytes.NewReader(text), "Content-Type", "application/json"); a.StatusCode != 401 && a.StatusCode != 429 || strings.Contains(string(a.body), "SQLSTATE") {
			t.Errorf("the name %.10q: %d %s", name, a.StatusCode, a.body)
		}
	}
}
