package app

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"image"
	"image/png"
	"io"
	"log/slog"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"echolane/core/policy"
	"echolane/internal/localpg"
	"echolane/internal/testbed"
	"echolane/service/lane"
	"echolane/service/records"
)

const token = "the-token-of-these-tests"

var (
	worker string
)

func TestMain(m *testing.M) {
	if len(os.Args) > 1 && os.Args[1] == "password-hash" {
		if err := records.HashWork(os.Stdin, os.Stdout); err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
		os.Exit(0)
	}
	command, remove, err := testbed.RenderWorker()
	if err == nil {
		worker = command
	}
	var end func()
	if err == nil {
		databases.Server, end, err = localpg.Passing(context.Background())
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	code := m.Run()
	end()
	remove()
	os.Exit(code)
}

var databases = testbed.Databases{Serve: func(t testing.TB, url string) func() {
	a, err := Start(context.Background(), Options{
		Listen: "127.0.0.1:0", DatabaseURL: url, MemoryBytes: 1 << 20, Workers: 1, Token: token, SecretKey: make([]byte, 32),
		Worker: worker, Hasher: []string{os.Args[0], "password-hash"}, Log: slog.New(slog.DiscardHandler),
	})
	if err != nil {
		t.Fatal(err)
	}
	return a.Stop
}}

// running is a service with a site, kestrel, whose lane f is dir.
type running struct {
	*App
	t    *testing.T
	dir  string
	base string
	said *bytes.Buffer
}

func start(t *testing.T, change func(*Options), edit func(*policy.Document)) *running {
	t.Helper()
	said := &bytes.Buffer{}
	o := Options{
		Listen: "127.0.0.1:0", DatabaseURL: databases.New(t), MemoryBytes: 64 << 20, DiskBytes: 1 << 30, Workers: 2, Token: token, SecretKey: make([]byte, 32),
		Worker: worker, Hasher: []string{os.Args[0], "password-hash"}, DrainLimit: 20 * time.Second, SearchAtOnce: true, Log: slog.New(slog.NewTextHandler(&locked{w: said}, nil)),
	}
	if change != nil {
		change(&o)
	}
	a, err := Start(context.Background(), o)
	if err != nil {
		t.Fatal(err)
	}
	r := &running{App: a, t: t, dir: t.TempDir(), base: "http://" + a.Addr(), said: said}
	t.Cleanup(a.Stop)
	d := policy.NewDocument("kestrel")
	d.Lanes = []policy.Lane{{Name: "f", Kind: "folder", Folder: r.dir, Original: "download"}, {Name: "incoming", Kind: "upload", Folder: filepath.Join(r.dir, "uploads")}}
	d.Complete(lane.Described)
	if edit != nil {
		edit(&d)
	}
	if err := a.Store().AddSite(context.Background(), d, "test"); err != nil {
		t.Fatal(err)
	}
	if err := a.Refresh(context.Background()); err != nil {
		t.Fatal(err)
	}
	return r
}

type locked struct {
	mu sync.Mutex
	w  io.Writer
}

func (l *locked) Write(p []byte) (int, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.w.Write(p)
}

func (r *running) put(name string, data []byte) {
	r.t.Helper()
	if err := os.WriteFile(filepath.Join(r.dir, name), data, 0o644); err != nil {
		r.t.Fatal(err)
	}
}

type answer struct {
	*http.Response
	body []byte
}

func (r *running) do(method, path string, body io.Reader, fields ...string) answer {
	r.t.Helper()
	q, err := http.NewRequest(method, r.base+path, body)
	if err != nil {
		r.t.Fatal(err)
	}
	for i := 0; i+1 < len(fields); i += 2 {
		q.Header.Add(fields[i], fields[i+1])
	}
	a, err := http.DefaultTransport.RoundTrip(q)
	if err != nil {
		r.t.Fatal(err)
	}
	defer a.Body.Close()
	data, err := io.ReadAll(a.Body)
	if err != nil {
		r.t.Fatal(err)
	}
	return answer{a, data}
}

func (r *running) get(path string, fields ...string) answer {
	return r.do("GET", path, nil, fields...)
}

func (a answer) reason() string {
	var no policy.Refusal
	json.Unmarshal(a.body, &no)
	return fmt.Sprintf("%d %s", a.StatusCode, no.Reason)
}

// raw sends bytes and gives the first line of the answer, or "" where none comes.
func (r *running) raw(text string) string {
	r.t.Helper()
	c, err := net.Dial("tcp", r.Addr())
	if err != nil {
		r.t.Fatal(err)
	}
	defer c.Close()
	c.SetDeadline(time.Now().Add(5 * time.Second))
	io.WriteString(c, text)
	line, _ := bufio.NewReader(c).ReadString('\n')
	return strings.TrimSpace(line)
}

func picture(t *testing.T, w, h int) []byte {
	t.Helper()
	m := image.NewNRGBA(image.Rect(0, 0, w, h))
	seed := uint32(1)
	for i := range m.Pix {
		seed = seed*1664525 + 1013904223
		m.Pix[i] = byte(seed >> 24)
		if i%4 == 3 {
			m.Pix[i] = 255
		}
	}
	var b bytes.Buffer
	if err := (&png.Encoder{CompressionLevel: png.NoCompression}).Encode(&b, m); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}
