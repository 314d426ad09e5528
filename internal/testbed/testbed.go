// Package testbed is what tests and benchmarks stand on: the real binary, a real PostgreSQL, the demo's
// pictures, and a service started on loopback.
package testbed

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/hex"
	"encoding/json"
	"errors"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"echolane/demo/pictures"
	"echolane/internal/localpg"
	"echolane/service/problem"
)

// Bed is what all tests of a package share.
type Bed struct {
	Dir      string // removed at the end
	Binary   string
	Worker   string // the program of its render workers
	Pictures string // the demo's catalogue, for reading alone
	Postgres *localpg.Server
	Effort   string // of the sites that Kestrel makes; "": a new site's

	prepared    *Databases
	endPostgres func()
}

// New builds the binary, has the pictures drawn and starts PostgreSQL. Close ends and removes all of it.
func New() (*Bed, error) {
	dir, err := os.MkdirTemp("", "echolane-test-")
	if err != nil {
		return nil, err
	}
	b := &Bed{Dir: dir, Binary: filepath.Join(dir, "echolane"), Worker: filepath.Join(dir, workerName)}
	if err := os.Chmod(dir, 0o755); err != nil {
		b.Close()
		return nil, err
	}
	if err := build(b.Binary, b.Worker); err != nil {
		b.Close()
		return nil, err
	}
	if b.Pictures, err = pictures.Shared(); err != nil {
		b.Close()
		return nil, err
	}
	if b.Postgres, b.endPostgres, err = localpg.Passing(context.Background()); err != nil {
		b.Close()
		return nil, err
	}
	b.prepared = &Databases{Server: b.Postgres, Serve: func(t testing.TB, url string) func() { return b.ServeOn(t, url).Stop }}
	return b, nil
}

// Close ends PostgreSQL and removes everything.
func (b *Bed) Close() {
	if b.endPostgres != nil {
		b.endPostgres()
	}
	os.RemoveAll(b.Dir)
}

// Database makes an empty database and gives its URL.
func (b *Bed) Database(t testing.TB) string {
	t.Helper()
	random := make([]byte, 6)
	rand.Read(random)
	url, err := b.Postgres.NewDatabase(context.Background(), "t"+hex.EncodeToString(random))
	if err != nil {
		t.Fatal(err)
	}
	return url
}

// Token opens the whole API of every service that is started here; SecretKey is what its secrets are kept under.
const (
	Token     = "the-token-of-the-test-bed"
	SecretKey = "AAECAwQFBgcICQoLDA0ODxAREhMUFRYXGBkaGxwdHh8="
)

// Process is an echolane that runs in the background.
type Process struct {
	Base     string // http://127.0.0.1:port
	Database string // URL of a service's; "": it isn't one, or has brought its own
	Cmd      *exec.Cmd
	mu       sync.Mutex
	said     bytes.Buffer
	done     chan struct{}
}

// Write keeps what the process says.
func (p *Process) Write(b []byte) (int, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.said.Write(b)
}

// Said is everything that the process has said so far.
func (p *Process) Said() string {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.said.String()
}

// Ended is closed when the process has ended.
func (p *Process) Ended() <-chan struct{} { return p.done }

// Stop asks the process to end and waits for it.
func (p *Process) Stop() {
	p.Cmd.Process.Signal(syscall.SIGTERM)
	<-p.done
}

// Start runs a command of ours in the background; it is ended with the test.
func Start(t testing.TB, name string, args, env []string) *Process {
	t.Helper()
	p := &Process{Cmd: exec.Command(name, args...), done: make(chan struct{})}
	p.Cmd.Env = append(cleanEnv(), env...)
	p.Cmd.Stdout, p.Cmd.Stderr = p, p
	if err := p.Cmd.Start(); err != nil {
		t.Fatal(err)
	}
	go func() {
		p.Cmd.Wait()
		close(p.done)
	}()
	t.Cleanup(func() {
		select {
		case <-p.done:
		default:
			p.Stop()
		}
		if t.Failed() {
			t.Logf("the process said:\n%s", p.Said())
		}
	})
	return p
}

// cleanEnv is the environment without settings of a service that somebody may have set.
func cleanEnv() []string {
	var env []string
	for _, e := range os.Environ() {
		if !strings.HasPrefix(e, "ECHOLANE_") {
			env = append(env, e)
		}
	}
	return env
}

var listens = regexp.MustCompile(`msg=serving listen=(\S+)`)

// Serve starts a service with a database of its own, on any free port, and waits until it answers.
func (b *Bed) Serve(t testing.TB, args ...string) *Process {
	t.Helper()
	return b.ServeOn(t, b.prepared.New(t), args...)
}

// ServeOn starts a service on the given database.
func (b *Bed) ServeOn(t testing.TB, database string, args ...string) *Process {
	t.Helper()
	env := []string{"ECHOLANE_DATABASE_URL=" + database, "ECHOLANE_TOKEN=" + Token, "ECHOLANE_SECRET_KEY=" + SecretKey}
	env = append(env, "ECHOLANE_SEARCH_AT_ONCE=true", // so that two answers to one request are the same
		"ECHOLANE_WAIT_LIMIT=60s", // tests run beside others on a machine that may be slow
		"ECHOLANE_DRAIN_DELAY=0s")
	p := Start(t, b.Binary, append([]string{"serve", "--listen", "127.0.0.1:0"}, args...), env)
	p.Database = database
	Eventually(t, "the service says that it serves", func() error {
		select {
		case <-p.done:
			t.Fatalf("the service ended at its start:\n%s", p.Said())
		default:
		}
		m := listens.FindStringSubmatch(p.Said())
		if m == nil {
			return errors.New("not yet")
		}
		p.Base = "http://" + m[1]
		return nil
	})
	return p
}

// Kestrel starts a service with the site kestrel, whose lane catalogue has the pictures. It delivers no AVIF, which takes the
// longest to make by far: a test that is about formats or a quality that is searched takes KestrelWhole.
func (b *Bed) Kestrel(t testing.TB, args ...string) *Process {
	t.Helper()
	flags := []string{"--formats", "webp,jpeg,png"}
	if b.Effort != "" {
		flags = append(flags, "--effort", b.Effort)
	}
	return b.kestrel(t, args, flags...)
}

// KestrelWhole is Kestrel with the formats and the effort of a new site.
func (b *Bed) KestrelWhole(t testing.TB, args ...string) *Process {
	t.Helper()
	return b.kestrel(t, args)
}

func (b *Bed) kestrel(t testing.TB, args []string, flags ...string) *Process {
	t.Helper()
	p := b.Serve(t, args...)
	// Renders have time: tests run beside others on a machine that may be slow.
	b.Must(t, p, append([]string{"site", "add", "kestrel", "--limit", "render_ms=60000"}, flags...)...)
	b.Must(t, p, "lane", "add", "kestrel/catalogue", "--folder", b.Pictures)
	return p
}

// Eventually waits until try gives no error, for at most half a minute.
func Eventually(t testing.TB, what string, try func() error) {
	t.Helper()
	deadline := time.Now().Add(90 * time.Second)
	for {
		err := try()
		if err == nil {
			return
		}
		if time.Now().After(deadline) {
			t.Fatalf("%s: %v", what, err)
		}
		time.Sleep(10 * time.Millisecond)
	}
}

// Ran is what a command did.
type Ran struct {
	Out, Err string
	Code     int
}

// Run runs echolane to its end. p, unless nil, is the service that it talks to.
func (b *Bed) Run(t testing.TB, p *Process, args ...string) Ran {
	t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), 3*time.Minute) // nothing that is run to its end takes so long
	defer cancel()
	cmd := exec.CommandContext(ctx, b.Binary, args...)
	cmd.Dir = t.TempDir()
	cmd.Env = cleanEnv()
	if p != nil {
		cmd.Env = append(cmd.Env, "ECHOLANE_SERVER="+p.Base, "ECHOLANE_TOKEN="+Token)
	}
	var out, err bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &err
	if e := cmd.Run(); e != nil {
		var exit *exec.ExitError
		if !errors.As(e, &exit) {
			t.Fatal(e)
		}
	}
	return Ran{out.String(), err.String(), cmd.ProcessState.ExitCode()}
}

// Must runs echolane, which must succeed, and gives what it printed.
func (b *Bed) Must(t testing.TB, p *Process, args ...string) string {
	t.Helper()
	r := b.Run(t, p, args...)
	if r.Code != 0 {
		t.Fatalf("echolane %s: exit code %d\n%s%s", strings.Join(args, " "), r.Code, r.Out, r.Err)
	}
	return r.Out
}

// Answer is an HTTP answer, read to its end.
type Answer struct {
	*http.Response
	Data []byte
}

// Problem is the answer as problem details.
func (a Answer) Problem(t testing.TB) problem.Details {
	t.Helper()
	var no problem.Details
	if got := a.Header.Get("Content-Type"); got != "application/problem+json" {
		t.Fatalf("%s: content type %q, want problem details; %s", a.Request.URL, got, a.Data)
	}
	if err := json.Unmarshal(a.Data, &no); err != nil {
		t.Fatal(err)
	}
	return no
}

// Get asks the service for a path; headers come in pairs. The path goes out as it is written.
func (p *Process) Get(t testing.TB, path string, headers ...string) Answer {
	t.Helper()
	return p.Ask(t, "GET", path, nil, headers...)
}

// Ask sends a request. It carries the token, unless the headers say something of Authorization: "" for a stranger's.
func (p *Process) Ask(t testing.TB, method, path string, body io.Reader, headers ...string) Answer {
	t.Helper()
	r, err := http.NewRequest(method, p.Base+"/", body)
	if err != nil {
		t.Fatal(err)
	}
	r.URL.Opaque = path
	r.Header.Set("Authorization", "Bearer "+Token)
	for i := 0; i+1 < len(headers); i += 2 {
		switch {
		case headers[i] == "Host":
			r.Host = headers[i+1]
		case headers[i+1] == "":
			r.Header.Del(headers[i])
		default:
			r.Header.Set(headers[i], headers[i+1])
		}
	}
	answer, err := http.DefaultTransport.RoundTrip(r)
	if err != nil {
		t.Fatal(err)
	}
	defer answer.Body.Close()
	data, err := io.ReadAll(answer.Body)
	if err != nil {
		t.Fatal(err)
	}
	return Answer{answer, data}
}
