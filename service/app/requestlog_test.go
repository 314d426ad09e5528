package app

import (
	"bufio"
	"bytes"
	"encoding/json"
	"fmt"
	"image"
	"image/png"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"runtime"
	"strings"
	"testing"

	"echolane/core/policy"
)

// Each request has its line, with the trace that it came with, which the origin is told of; nothing that opens something is in it,
// and nothing that steers a terminal.
func TestEachRequestHasItsLine(t *testing.T) {
	var said bytes.Buffer
	told := make(chan string, 10)
	data := picture(t, 60, 40)
	o := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		told <- r.Header.Get("Traceparent")
		w.Write(data)
	}))
	t.Cleanup(o.Close)
	r := start(t, func(p *Options) {
		p.LogRequests, p.Log = true, slog.New(slog.NewJSONHandler(&locked{w: &said}, nil))
	}, func(d *policy.Document) {
		d.Lanes = append(d.Lanes, policy.Lane{Name: "w", Kind: "web", Base: o.URL + "/", Allow: []string{o.URL + "/*"}, Private: []string{"127.0.0.1"}})
	})
	const trace, span = "4bf92f3577b34da6a3ce929d0e0e4736", "00f067aa0ba902b7"
	a := r.get("/kestrel/w/kite.png?width=30", "Traceparent", "00-"+trace+"-"+span+"-01")
	if got := <-told; !strings.HasPrefix(got, "00-"+trace+"-") || strings.Contains(got, span) || !strings.HasSuffix(got, "-01") {
		t.Errorf("the origin is told %q", got)
	}
	r.get("/kestrel/w/kite.png?width=30&signature=secretsecret&keyid=k")
	r.get("/-/console/enter?link=one-time")
	r.raw("GET /kestrel/w/kite.png?width=31 HTTP/1.1\r\nHost: x\r\nUser-Agent: kite\x1b[31m\x07\r\nConnection: close\r\n\r\n")
	r.Stop()
	var lines []map[string]any
	for scan := bufio.NewScanner(&said); scan.Scan(); {
		var l map[string]any
		if err := json.Unmarshal(scan.Bytes(), &l); err != nil {
			t.Fatalf("%s: %v", scan.Text(), err)
		}
		if bytes.ContainsAny(scan.Bytes(), "\x1b\x07") || strings.Contains(scan.Text(), "secretsecret") || strings.Contains(scan.Text(), "one-time") {
			t.Errorf("%s", scan.Text())
		}
		if l["msg"] == "request" {
			lines = append(lines, l)
		}
	}
	if len(lines) < 2 {
		t.Fatalf("%d lines", len(lines))
	}
	if address := lines[1]["address"]; address != "/kestrel/w/kite.png?width=30&signature=…&keyid=k" {
		t.Errorf("%v", address)
	}
	l := lines[0]
	if l["trace"] != trace || l["span"] == span || l["status"] != float64(a.StatusCode) || l["method"] != "GET" || l["address"] != "/kestrel/w/kite.png?width=30" || l["client"] != "127.0.0.1" || l["bytes"] != float64(len(a.body)) || l["cache"] != a.Header.Get("Cache-Status") {
		t.Errorf("%v", l)
	}
}

// A source that goes out itself isn't read into memory for its line.
func TestALineHoldsNoOriginalInMemory(t *testing.T) {
	var large bytes.Buffer
	if err := (&png.Encoder{CompressionLevel: png.NoCompression}).Encode(&large, image.NewGray(image.Rect(0, 0, 5000, 4000))); err != nil {
		t.Fatal(err)
	}
	size := int64(large.Len())
	r := start(t, func(p *Options) { p.LogRequests = true }, nil)
	r.put("large.png", large.Bytes())
	large = bytes.Buffer{}
	path := "/kestrel/f/large.png?download="
	if a := r.do("HEAD", path, nil); a.StatusCode != 200 { // it is looked at
		t.Fatalf("%d %s", a.StatusCode, a.body)
	}
	held := func() int64 {
		runtime.GC()
		var m runtime.MemStats
		runtime.ReadMemStats(&m)
		return int64(m.HeapAlloc)
	}
	before := held()
	c, err := net.Dial("tcp", r.Addr())
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	fmt.Fprintf(c, "GET %s HTTP/1.1\r\nHost: x\r\n\r\n", path)
	head := make([]byte, 1000)
	if _, err := io.ReadFull(c, head); err != nil || !strings.HasPrefix(string(head), "HTTP/1.1 200") {
		t.Fatalf("%v %s", err, head)
	}
	if more := held() - before; more > size/2 {
		t.Errorf("%d bytes more are held while it goes out", more)
	}
}
