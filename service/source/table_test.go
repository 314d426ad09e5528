package source

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"runtime"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"echolane/core/codec"
	"echolane/core/metadata"
	"echolane/core/policy"
	"echolane/service/cache/disk"
	"echolane/service/source/held"
)

// fakeLane gives what the test decides.
type fakeLane struct {
	stats, opens atomic.Int64
	stat         func(context.Context, string) (Version, error)
	data         []byte
}

func (f *fakeLane) Stat(ctx context.Context, path string, _ *Version) (Version, *held.Content, error) {
	f.stats.Add(1)
	v, err := f.stat(ctx, path)
	return v, nil, err
}
func (f *fakeLane) Open(context.Context, string, Version) (*held.Content, error) {
	f.opens.Add(1)
	return held.InMemory(f.data, nil), nil
}
func (f *fakeLane) Check(path string, _ *[]policy.Step) (string, *policy.Refusal) { return path, nil }
func (f *fakeLane) Near() bool                                                    { return false }
func (f *fakeLane) Forget(string, uint64)                                         {}
func (f *fakeLane) List(context.Context, string, int) ([]Entry, bool, error)      { return nil, false, nil }
func (f *fakeLane) Close()                                                        {}

type only struct{ Lane }

func (o only) Of(*policy.SiteSettings, *policy.CompiledLane) (Lane, error) { return o.Lane, nil }

// headers is a Reader that counts.
type headers struct {
	read atomic.Int64
	err  error
}

func (h *headers) Header(_ context.Context, c *held.Content) (codec.Header, error) {
	h.read.Add(1)
	return codec.Header{Type: "image/png", W: 3, H: 2, Orientation: 1, Frames: 1}, h.err
}
func (h *headers) Strip(context.Context, *held.Content) ([]metadata.Splice, error) { return nil, nil }

func inTable(t *testing.T, l Lane, fresh time.Duration) (*Table, *headers, *policy.SiteSettings, *policy.CompiledLane) {
	t.Helper()
	h := &headers{}
	s := &policy.SiteSettings{Site: &policy.Site{Name: "kestrel"}}
	return NewTable(only{l}, h, nil), h, s, &policy.CompiledLane{Lane: policy.Lane{Name: "l"}, Fresh: fresh, Missing: 5 * time.Second, Failing: 5 * time.Second}
}

func TestWaitersShareOneLookAndItsFailure(t *testing.T) {
	hold := make(chan struct{})
	l := &fakeLane{stat: func(ctx context.Context, _ string) (Version, error) {
		select {
		case <-hold:
			return Version{}, policy.No(policy.Refusal{Reason: policy.ReasonOriginSlow, RetryIn: 10})
		case <-ctx.Done():
			return Version{}, ctx.Err()
		}
	}}
	table, _, site, in := inTable(t, l, 5*time.Minute)
	var all sync.WaitGroup
	for range 20 {
		all.Go(func() {
			if _, err := table.Locate(context.Background(), site, in, "a.jpg", nil); reasonOf(err) != "origin-slow" {
				t.Errorf("%v", err)
			}
		})
	}
	for l.stats.Load() == 0 {
		runtime.Gosched()
	}
	close(hold)
	all.Wait()
	for range 100 {
		table.Locate(context.Background(), site, in, "a.jpg", nil)
	}
	if n := l.stats.Load(); n > 20 { // those that came after the flight find the failure
		t.Errorf("the origin was asked %d times", n)
	}
	if n := l.stats.Load(); n != 1 {
		t.Logf("asked %d times", n)
	}
	// A change of the lane's settings is another try.
	changed := *in
	before := l.stats.Load()
	table.Locate(context.Background(), site, &changed, "a.jpg", nil)
	if l.stats.Load() != before+1 {
		t.Error("after a change of settings the failure is still remembered")
	}
}

func TestAFailureIsRememberedForAWhileOnly(t *testing.T) {
	for reason, want := range map[policy.Reason]time.Duration{
		policy.ReasonNoSuchSource: time.Second, policy.ReasonOriginFailed: 7 * time.Second, policy.ReasonBusy: 0, policy.ReasonInternal: 0, policy.ReasonWorkerDied: 30 * time.Second,
	} {
		if got := rememberedFor(policy.No(policy.Refusal{Reason: reason}), &policy.CompiledLane{Missing: time.Second, Failing: 7 * time.Second}); got != want {
			t.Errorf("%s is remembered for %v, want %v", reason, got, want)
		}
	}
	if got := rememberedFor(policy.No(policy.Refusal{Reason: policy.ReasonOriginFailed, RetryIn: 40}), &policy.CompiledLane{}); got != 40*time.Second {
		t.Errorf("an origin that asks for 40 s is asked again after %v", got)
	}
}

func TestAWaiterThatLeavesIsFree(t *testing.T) {
	l := &fakeLane{stat: func(ctx context.Context, _ string) (Version, error) { <-ctx.Done(); return Version{}, ctx.Err() }}
	table, _, site, in := inTable(t, l, 5*time.Minute)
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Millisecond)
	defer cancel()
	if _, err := table.Locate(ctx, site, in, "a.jpg", nil); !errors.Is(err, context.DeadlineExceeded) {
		t.Errorf("%v", err)
	}
	for end := time.Now().Add(5 * time.Second); table.looks.Len() > 0; time.Sleep(time.Millisecond) {
		if time.Now().After(end) {
			t.Fatal("the look goes on for nobody")
		}
	}
}

func TestAHeaderIsReadOnceForAVersion(t *testing.T) {
	digest := held.DigestOf([]byte("one"))
	l := &fakeLane{data: []byte("one"), stat: func(context.Context, string) (Version, error) {
		return Version{Digest: digest, Bytes: 3, Validator: "1"}, nil
	}}
	table, h, site, in := inTable(t, l, 5*time.Minute)
	first, err := table.Locate(context.Background(), site, in, "a.jpg", nil)
	if err != nil {
		t.Fatal(err)
	}
	for range 10 { // it is never fresh, so it is looked at each time
		next, err := table.Locate(context.Background(), site, in, "a.jpg", nil)
		if err != nil || next.Known != first.Known {
			t.Fatalf("what didn't change isn't the same: %v", err)
		}
	}
	if h.read.Load() != 1 || l.stats.Load() != 11 {
		t.Errorf("%d headers, %d looks", h.read.Load(), l.stats.Load())
	}
	digest = held.DigestOf([]byte("two"))
	if next, err := table.Locate(context.Background(), site, in, "a.jpg", nil); err != nil || next.Known == first.Known || h.read.Load() != 2 {
		t.Errorf("a change isn't seen: %v", err)
	}
	h.err = policy.NotRead("text/plain")
	digest = held.DigestOf([]byte("three"))
	for range 5 {
		if _, err := table.Locate(context.Background(), site, in, "a.jpg", nil); reasonOf(err) != "not-an-image" {
			t.Errorf("%v", err)
		}
	}
	if h.read.Load() != 3 {
		t.Errorf("what isn't an image was read %d times", h.read.Load()-2)
	}
}

func TestTheTableForgetsTheOldest(t *testing.T) {
	l := &fakeLane{stat: func(context.Context, string) (Version, error) { return Version{Digest: "d", Fresh: time.Hour}, nil }}
	table, _, site, in := inTable(t, l, time.Second)
	table.known.SetMaximum(500)
	if _, err := table.Locate(context.Background(), site, in, "hot.jpg", nil); err != nil {
		t.Fatal(err)
	}
	for i := range 3000 {
		table.Locate(context.Background(), site, in, fmt.Sprintf("%d.jpg", i), nil)
		table.Locate(context.Background(), site, in, "hot.jpg", nil)
	}
	table.known.CleanUp()
	if n := table.Len(); n > 550 {
		t.Errorf("%d sources are known", n)
	}
	before := l.stats.Load()
	table.Locate(context.Background(), site, in, "hot.jpg", nil)
	if l.stats.Load() != before {
		t.Error("what is asked for all the time was forgotten")
	}
}

func keepWith(t *testing.T, memory int64, onDisk bool) *Keep {
	t.Helper()
	if !onDisk {
		return NewKeep(nil, memory)
	}
	d := disk.Open(disk.Options{Dir: t.TempDir(), Bytes: 1 << 30, Log: slog.New(slog.NewTextHandler(io.Discard, nil))})
	t.Cleanup(d.Close)
	return NewKeep(d, memory)
}

func TestSourcesInMemoryStayWithinTheirBytes(t *testing.T) {
	k := keepWith(t, 10<<20, false)
	take := func(ctx context.Context, key string, n int) (*held.Content, error) {
		_, c, err := k.Receive(ctx, bytes.NewReader(make([]byte, n)), 64<<20, int64(n), "", func(d held.Digest, n int64) (Version, string) { return Version{Digest: d, Bytes: n}, key })
		return c, err
	}
	a, err := take(context.Background(), "a", 6<<20)
	if err != nil {
		t.Fatal(err)
	}
	ctx, cancel := context.WithTimeout(context.Background(), 30*time.Millisecond)
	defer cancel()
	if _, err := take(ctx, "b", 6<<20); !errors.Is(err, context.DeadlineExceeded) {
		t.Errorf("there is no room, and it is taken: %v", err)
	}
	shared, ok := k.Open("a", Version{Digest: held.DigestOf(make([]byte, 6<<20)), Bytes: 6 << 20})
	if !ok || k.MemoryBytes() > 7<<20 {
		t.Errorf("equal readers don't share: %v, %d bytes", ok, k.MemoryBytes())
	}
	a.Close()
	done := make(chan error, 1)
	go func() {
		b, err := take(context.Background(), "b", 6<<20)
		b.Close()
		done <- err
	}()
	shared.Close() // from here on nobody uses it, and it makes room
	if err := <-done; err != nil {
		t.Error(err)
	}
	if n := k.MemoryBytes(); n > 10<<20 {
		t.Errorf("%d bytes", n)
	}
	if _, err := take(context.Background(), "c", 20<<20); reasonOf(err) != "source-too-many-bytes" {
		t.Errorf("more than there is memory for: %v", err)
	}
	if _, _, err := k.Receive(context.Background(), bytes.NewReader(make([]byte, 2000)), 1000, -1, "", func(d held.Digest, n int64) (Version, string) { return Version{}, "d" }); !errors.Is(err, ErrTooLong) {
		t.Errorf("beyond the limit: %v", err)
	}
	// What promises much and sends little holds little.
	before := k.MemoryBytes()
	slow, more := io.Pipe()
	ended := make(chan struct{})
	lying, stop := context.WithCancel(context.Background())
	go func() {
		k.Receive(lying, slow, 9<<20, 9<<20, "", func(held.Digest, int64) (Version, string) { return Version{}, "e" })
		close(ended)
	}()
	more.Write([]byte("x"))
	if n := k.MemoryBytes() - before; n > 2<<20 {
		t.Errorf("one byte of nine megabytes holds %d", n)
	}
	stop()
	more.Close()
	<-ended
}

// No reader and no writer of the memory loses count, whatever comes in which order.
func TestTheMemoryOfSourcesNeverLosesCount(t *testing.T) {
	k := keepWith(t, 1<<20, false)
	var all sync.WaitGroup
	for w := range 8 {
		all.Go(func() {
			for i := range 200 {
				key := fmt.Sprint((w*7 + i) % 11)
				if i%5 == 0 {
					key = ""
				}
				data := bytes.Repeat([]byte{byte(len(key))}, 100_000)
				if c, ok := k.Open(key, Version{Digest: held.DigestOf(data), Bytes: int64(len(data))}); ok && key != "" {
					c.Share().Close()
					c.Close()
				}
				ctx, cancel := context.WithTimeout(context.Background(), time.Second)
				_, c, err := k.Receive(ctx, bytes.NewReader(data), 1<<20, int64(len(data)), "", func(d held.Digest, n int64) (Version, string) { return Version{Digest: d, Bytes: n}, key })
				cancel()
				if err == nil {
					if i%3 == 0 {
						k.Forget(key, 0)
					}
					c.Close()
				}
			}
		})
	}
	all.Wait()
	k.memory.mu.Lock()
	defer k.memory.mu.Unlock()
	held := int64(0)
	for _, h := range k.memory.entries {
		held += h.bytes
	}
	if k.memory.used != held || held > 1<<20 || len(k.memory.entries) != k.memory.idle.Len() {
		t.Errorf("%d bytes are counted, %d held in %d entries, %d idle", k.memory.used, held, len(k.memory.entries), k.memory.idle.Len())
	}
}

func TestADiskThatFailsCostsNoSource(t *testing.T) {
	k := keepWith(t, 10<<20, true)
	data := bytes.Repeat([]byte("0123456789"), 50_000)
	failing := io.MultiReader(bytes.NewReader(data[:200_000]), readerFunc(func(p []byte) (int, error) {
		return 0, io.EOF
	}))
	_, c, err := k.Receive(context.Background(), failing, 1<<20, -1, "", func(d held.Digest, n int64) (Version, string) { return Version{Digest: d, Bytes: n}, "abcd" })
	if err != nil || c.Size() != 200_000 {
		t.Fatalf("%v", err)
	}
	c.Close()
	os.RemoveAll(diskDir(k)) // from here on nothing can be written
	v, c, err := k.Receive(context.Background(), bytes.NewReader(data), 1<<20, -1, "", func(d held.Digest, n int64) (Version, string) { return Version{Digest: d, Bytes: n}, "abce" })
	if err != nil || v.Digest != held.DigestOf(data) {
		t.Fatalf("without a disk: %v", err)
	}
	got, err := io.ReadAll(c.Reader())
	if err != nil || !bytes.Equal(got, data) {
		t.Errorf("%v", err)
	}
	c.Close()
}

func diskDir(k *Keep) string { return k.disk.Dir() }

type readerFunc func([]byte) (int, error)

func (f readerFunc) Read(p []byte) (int, error) { return f(p) }

func reasonOf(err error) string {
	var no *policy.Refusal
	if errors.As(err, &no) {
		return string(no.Reason)
	}
	return fmt.Sprint(err)
}

// A digest of the other kind than the one by which a source is known costs one reading of it, however many ask.
func TestADigestOfTheOtherKindIsWorkedOutOnce(t *testing.T) {
	data := []byte("a kite")
	today, earlier, err := held.InMemory(data, nil).Digests(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	for _, own := range []held.Digest{today, earlier} {
		l := &fakeLane{data: data, stat: func(context.Context, string) (Version, error) {
			return Version{Digest: own, Bytes: int64(len(data)), Fresh: time.Hour}, nil
		}}
		table, _, site, in := inTable(t, l, time.Hour)
		at, err := table.Locate(t.Context(), site, in, "a.jpg", nil)
		if err != nil {
			t.Fatal(err)
		}
		defer at.Close()
		before := l.opens.Load()
		var all sync.WaitGroup
		for range 1000 {
			all.Go(func() {
				for d, want := range map[held.Digest]bool{today: true, earlier: true, held.DigestOf([]byte("another")): false, held.Digest(strings.Repeat("x", 22)): false, "": false} {
					if is, err := table.Is(t.Context(), at, d); err != nil || is != want {
						t.Errorf("%q is that of a source known by %s: %t, %v", d, own, is, err)
					}
				}
			})
		}
		all.Wait()
		if n := l.opens.Load() - before; n < 1 || n > 20 { // those who come between the end of the reading and its being known
			t.Errorf("it was opened %d times", n)
		}
		before = l.opens.Load()
		table.Is(t.Context(), at, earlier)
		table.Is(t.Context(), at, today)
		if l.opens.Load() != before {
			t.Error("what is known is read again")
		}
	}
	// Bytes that aren't those any more are told apart from another digest.
	l := &fakeLane{data: []byte("another kite"), stat: func(context.Context, string) (Version, error) {
		return Version{Digest: today, Bytes: int64(len(data)), Fresh: time.Hour}, nil
	}}
	table, _, site, in := inTable(t, l, time.Hour)
	at, err := table.Locate(t.Context(), site, in, "a.jpg", nil)
	if err != nil {
		t.Fatal(err)
	}
	defer at.Close()
	if is, err := table.Is(t.Context(), at, earlier); is || !errors.Is(err, held.ErrChanged) {
		t.Errorf("after a change: %t, %v", is, err)
	}
	// Who leaves doesn't wait.
	ended, end := context.WithCancel(t.Context())
	end()
	if is, err := table.Is(ended, at, earlier); is || err == nil {
		t.Errorf("for nobody: %t, %v", is, err)
	}
}

// hangingLane never opens one of its sources, from when it is told.
type hangingLane struct {
	*fakeLane
	hangs atomic.Bool
}

func (l *hangingLane) Open(ctx context.Context, path string, v Version) (*held.Content, error) {
	if path == "hanging.jpg" && l.hangs.Load() {
		<-ctx.Done()
		return nil, ctx.Err()
	}
	return l.fakeLane.Open(ctx, path, v)
}

// The same bytes at another origin, which hangs, cost nobody else time.
func TestTheSameBytesElsewhereHoldNobodyUp(t *testing.T) {
	data := []byte("a kite")
	today, earlier, err := held.InMemory(data, nil).Digests(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	l := &hangingLane{fakeLane: &fakeLane{data: data, stat: func(context.Context, string) (Version, error) {
		return Version{Digest: today, Bytes: int64(len(data)), Fresh: time.Hour}, nil
	}}}
	table, _, site, in := inTable(t, l, time.Hour)
	locate := func(path string) *Located {
		at, err := table.Locate(t.Context(), site, in, path, nil)
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(at.Close)
		return at
	}
	here, there := locate("a.jpg"), locate("hanging.jpg")
	l.hangs.Store(true)
	ctx, cancel := context.WithCancel(t.Context())
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		table.Is(ctx, there, earlier)
	}()
	for table.alsos.Len() == 0 {
		runtime.Gosched()
	}
	short, stop := context.WithTimeout(t.Context(), 5*time.Second)
	defer stop()
	if is, err := table.Is(short, here, earlier); !is || err != nil {
		t.Errorf("%t, %v", is, err)
	}
	cancel()
	<-ended
}
