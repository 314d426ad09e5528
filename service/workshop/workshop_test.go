package workshop

import (
	"bytes"
	"compress/zlib"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"image"
	"image/color/palette"
	"image/gif"
	"image/png"
	"log/slog"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"echolane/core/declare"
	"echolane/core/policy"
	"echolane/core/render"
	"echolane/demo/pictures"
	"echolane/internal/testbed"
	"echolane/service/source/held"
)

func TestMain(m *testing.M) {
	command, remove, err := testbed.RenderWorker()
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	renderWorker = command
	code := m.Run()
	remove()
	os.Exit(code)
}

var renderWorker string

func workshop(t *testing.T, o Options) *Workshop {
	t.Helper()
	o.Program = renderWorker
	o.Log = slog.New(slog.NewTextHandler(os.Stderr, nil))
	w, err := New(o)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(w.Close)
	return w
}

func picture(t *testing.T, w, h int) []byte {
	t.Helper()
	var b bytes.Buffer
	m := image.NewGray(image.Rect(0, 0, w, h))
	for i := range m.Pix {
		m.Pix[i] = uint8(i * 7)
	}
	if err := (&png.Encoder{CompressionLevel: png.BestSpeed}).Encode(&b, m); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

// blank is a large black PNG of one bit a sample: quickly written, and as much to decode as any.
func blank(t *testing.T, w, h int) []byte {
	t.Helper()
	b := []byte("\x89PNG\r\n\x1a\n")
	chunk := func(kind string, data []byte) {
		b = binary.BigEndian.AppendUint32(b, uint32(len(data)))
		start := len(b)
		b = append(append(b, kind...), data...)
		b = binary.BigEndian.AppendUint32(b, crc32.ChecksumIEEE(b[start:]))
	}
	chunk("IHDR", append(binary.BigEndian.AppendUint32(binary.BigEndian.AppendUint32(nil, uint32(w)), uint32(h)), 1, 0, 0, 0, 0))
	var rows bytes.Buffer
	z := zlib.NewWriter(&rows)
	if _, err := z.Write(make([]byte, h*(1+(w+7)/8))); err != nil {
		t.Fatal(err)
	}
	if err := z.Close(); err != nil {
		t.Fatal(err)
	}
	chunk("IDAT", rows.Bytes())
	chunk("IEND", nil)
	return b
}

// render1 has one source rendered.
func render1(w *Workshop, ctx context.Context, data []byte, job render.Job) (render.Result, error) {
	r, _, err := w.Render(ctx, From(ctx).Takes(job.Estimate(nil, int64(len(data)))), bring(data), job)
	return r, err
}

func bring(data []byte) Open {
	return func(context.Context) ([]*held.Content, error) {
		return []*held.Content{held.InMemory(data, nil)}, nil
	}
}

func job(t *testing.T, query string) render.Job {
	t.Helper()
	d, err := declare.Parse(query)
	if err != nil {
		t.Fatal(err)
	}
	return render.Job{Request: d.Resolve(declare.Declarations{}, policy.NewSite("new").Formats), Limits: policy.DefaultLimits}
}

func TestWorkersGiveWhatTheCoreGives(t *testing.T) {
	w := workshop(t, Options{Workers: 2})
	data := picture(t, 300, 200)
	want, err := render.Variant(data, job(t, "width=90&format=png"))
	if err != nil {
		t.Fatal(err)
	}
	var all sync.WaitGroup
	for range 40 {
		all.Go(func() {
			got, err := render1(w, context.Background(), data, job(t, "width=90&format=png"))
			if err != nil || !bytes.Equal(got.Data, want.Data) || got.Canvas != want.Canvas || got.Natural != want.Natural || len(got.Stages) == 0 {
				t.Errorf("%+v, %v", got, err)
			}
		})
	}
	all.Wait()
	_, err = render1(w, context.Background(), []byte("no image"), job(t, ""))
	var no *policy.Refusal
	if !errors.As(err, &no) || no.Reason != "not-an-image" {
		t.Errorf("a text gives %v", err)
	}
	if w.Lost() != 0 {
		t.Errorf("%d workers were lost", w.Lost())
	}
}

func TestASlowRenderIsEndedAndTheNextOneWorks(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes long")
	}
	w := workshop(t, Options{Workers: 1})
	slow := job(t, "format=png")
	slow.Limits.RenderTime = 30 * time.Millisecond
	_, err := render1(w, context.Background(), blank(t, 6000, 6000), slow)
	var no *policy.Refusal
	if !errors.As(err, &no) || no.Reason != "render-too-slow" {
		t.Fatalf("%v", err)
	}
	if _, err := render1(w, context.Background(), picture(t, 30, 20), job(t, "width=9")); err != nil {
		t.Errorf("the next render: %v", err)
	}
	if w.Lost() != 1 {
		t.Errorf("%d workers were lost, want 1", w.Lost())
	}
}

func TestAGreedyRenderCostsItselfOnly(t *testing.T) {
	w := workshop(t, Options{Workers: 1, MemoryBytes: 150 << 20})
	greedy := job(t, "format=png")
	greedy.Limits.Pixels = 100_000_000
	_, err := render1(w, context.Background(), blank(t, 7900, 7900), greedy) // 250 MB as pixels
	var no *policy.Refusal
	if !errors.As(err, &no) || no.Reason != "render-too-much" {
		t.Fatalf("%v", err)
	}
	if _, err := render1(w, context.Background(), picture(t, 30, 20), job(t, "width=9")); err != nil {
		t.Errorf("the next render: %v", err)
	}
}

// idle waits until the crew has workers that do nothing, and gives one's process.
func idle(t *testing.T, c *crew, n int) (pids []int) {
	t.Helper()
	testbed.Eventually(t, "the workers are ready", func() error {
		c.mu.Lock()
		defer c.mu.Unlock()
		pids = nil
		for _, one := range c.idle {
			pids = append(pids, one.process.Pid)
		}
		if len(pids) != n {
			return fmt.Errorf("%d are", len(pids))
		}
		return nil
	})
	return pids
}

func TestAKilledWorkerCostsNobodyAnything(t *testing.T) {
	w := workshop(t, Options{Workers: 1})
	for range 5 {
		syscall.Kill(idle(t, w.renders, 1)[0], syscall.SIGKILL)
		if _, err := render1(w, context.Background(), picture(t, 30, 20), job(t, "width=9")); err != nil {
			t.Fatal(err)
		}
	}
	if w.Lost() != 5 {
		t.Errorf("%d were lost", w.Lost())
	}
}

// What a large picture took is given back, even if its source was small.
func TestAWorkerRestsOnLittle(t *testing.T) {
	w := workshop(t, Options{Workers: 1})
	pid := idle(t, w.renders, 1)[0]
	const most = 25 << 20
	for _, query := range []string{"width=900&format=webp", "width=2500&format=webp"} {
		if _, err := render1(w, context.Background(), blank(t, 3000, 2500), job(t, query)); err != nil {
			t.Fatal(err)
		}
	}
	idle(t, w.renders, 1)
	switch took := testbed.PrivateMemory(pid); {
	case took == 0:
		t.Skip("only root may look at a worker's memory")
	case took < most:
		t.Fatalf("the renders took %d bytes: too few to show anything", took)
	}
	testbed.Eventually(t, "it rests", func() error {
		if n := testbed.PrivateMemory(pid); n == 0 || n > most {
			return fmt.Errorf("it has %d bytes", n)
		}
		return nil
	})
}

// forkServer is the process of the one that a workshop has now, 0: none.
func forkServer(w *Workshop) int {
	w.starter.mu.Lock()
	defer w.starter.mu.Unlock()
	if w.starter.forks == nil {
		return 0
	}
	return w.starter.forks.Pid()
}

func TestAKilledForkServerCostsNobodyAnything(t *testing.T) {
	w := workshop(t, Options{Workers: 1})
	for range 3 {
		idle(t, w.renders, 1)
		before := forkServer(w)
		if before == 0 {
			t.Fatal("there is no fork server")
		}
		syscall.Kill(before, syscall.SIGKILL)
		for range 3 { // one comes from the old server, one without any, the next from a new one
			syscall.Kill(idle(t, w.renders, 1)[0], syscall.SIGKILL)
			if _, err := render1(w, context.Background(), picture(t, 30, 20), job(t, "width=9")); err != nil {
				t.Fatal(err)
			}
		}
		idle(t, w.renders, 1)
		if after := forkServer(w); after == 0 || after == before {
			t.Errorf("the fork server was %d and is %d", before, after)
		}
	}
}

// A fork server that hangs holds up neither renders nor starts for long.
func TestAForkServerThatHangsIsReplaced(t *testing.T) {
	w := workshop(t, Options{Workers: 1})
	idle(t, w.renders, 1)
	before := forkServer(w)
	syscall.Kill(before, syscall.SIGSTOP)
	for range 3 {
		syscall.Kill(idle(t, w.renders, 1)[0], syscall.SIGKILL)
		if _, err := render1(w, context.Background(), picture(t, 30, 20), job(t, "width=9")); err != nil {
			t.Fatal(err)
		}
	}
	idle(t, w.renders, 1)
	if after := forkServer(w); after == 0 || after == before {
		t.Errorf("the fork server was %d and is %d", before, after)
	}
}

// Whoever crashes workers to find out where things lie in memory finds them elsewhere, in the worker that tries again too.
func TestACrashEndsTheForkServer(t *testing.T) {
	w := workshop(t, Options{Workers: 1})
	for range 3 {
		idle(t, w.renders, 1)
		before := forkServer(w)
		stop := make(chan struct{})
		go func() {
			for crashed := false; !crashed; {
				w.mu.Lock()
				for one := range w.running {
					one.process.Signal(syscall.SIGABRT)
					crashed = true
				}
				w.mu.Unlock()
			}
			close(stop)
		}()
		if _, err := render1(w, context.Background(), blank(t, 3000, 3000), job(t, "width=9")); err != nil {
			t.Fatal(err)
		}
		<-stop
		if after := forkServer(w); after == 0 || after == before {
			t.Errorf("the fork server was %d and is %d", before, after)
		}
	}
}

// A worker that has a crashed one's addresses is replaced after its next job.
func TestAStaleWorkerIsReplaced(t *testing.T) {
	w := workshop(t, Options{Workers: 1})
	before := idle(t, w.renders, 1)[0]
	w.starter.renew()
	if _, err := render1(w, context.Background(), picture(t, 30, 20), job(t, "width=9")); err != nil {
		t.Fatal(err)
	}
	if after := idle(t, w.renders, 1)[0]; after == before {
		t.Errorf("worker %d is still there", after)
	}
	if w.Lost() != 0 {
		t.Errorf("%d were lost", w.Lost())
	}
}

func TestASourceThatEndsTwoWorkersIsTold(t *testing.T) {
	w := workshop(t, Options{Workers: 1})
	stop := make(chan struct{})
	defer close(stop)
	go func() { // whatever works crashes
		for {
			select {
			case <-stop:
				return
			case <-time.After(5 * time.Millisecond):
				w.mu.Lock()
				for one := range w.running {
					one.process.Signal(syscall.SIGABRT)
				}
				w.mu.Unlock()
			}
		}
	}()
	_, err := render1(w, context.Background(), blank(t, 6000, 6000), job(t, "format=png"))
	var death *Death
	var no *policy.Refusal
	if !errors.As(err, &death) || death.Workers != 2 || death.Memory || !strings.Contains(death.Words, "SIGABRT") {
		t.Errorf("%#v", err)
	}
	if !errors.As(err, &no) || no.Reason != policy.ReasonWorkerDied || no.RetryIn == 0 {
		t.Errorf("%v", err)
	}
}

// hold takes the crew's only worker until the function that it gives is called.
func hold(t *testing.T, w *Workshop) (release func()) {
	t.Helper()
	p, one, err := w.renders.place(context.Background(), For{Site: "holder"}, nil)
	if err != nil {
		t.Fatal(err)
	}
	return func() { w.renders.done(p, one, time.Millisecond) }
}

func TestAFullQueueIsSaid(t *testing.T) {
	w := workshop(t, Options{Workers: 1, Queue: 1})
	release := hold(t, w)
	defer release()
	waiting, cancel := context.WithCancel(context.Background())
	done := make(chan error)
	go func() {
		_, err := render1(w, waiting, picture(t, 30, 20), job(t, "width=9"))
		done <- err
	}()
	for w.Waiting() == 0 {
		time.Sleep(time.Millisecond)
	}
	if !w.Full(For{}) || w.Full(For{Kind: Ahead}) {
		t.Error("a queue of one that has one isn't full, or holds up another kind")
	}
	_, err := render1(w, context.Background(), picture(t, 30, 20), job(t, "width=9"))
	var no *policy.Refusal
	if !errors.As(err, &no) || no.Reason != "busy" || no.RetryIn == 0 {
		t.Errorf("%v", err)
	}
	cancel()
	if err := <-done; !errors.Is(err, context.Canceled) || w.Waiting() != 0 {
		t.Errorf("the one that waited: %v", err)
	}
}

func TestAFullQueueMakesRoomForOtherSites(t *testing.T) {
	w := workshop(t, Options{Workers: 1, Queue: 4})
	release := hold(t, w)
	flood := make(chan error, 4)
	for i := range 4 {
		go func() {
			_, err := render1(w, With(context.Background(), Visitor, "flooded", "x"), picture(t, 30, 20), job(t, fmt.Sprintf("width=%d", 9+i)))
			flood <- err
		}()
	}
	for w.Waiting() < 4 {
		time.Sleep(time.Millisecond)
	}
	other := make(chan error)
	go func() {
		_, err := render1(w, With(context.Background(), Visitor, "other", "y"), picture(t, 30, 20), job(t, "width=9"))
		other <- err
	}()
	var no *policy.Refusal
	if err := <-flood; !errors.As(err, &no) || no.Reason != policy.ReasonBusy || no.RetryIn < 1 {
		t.Errorf("one of the flood: %v", err)
	}
	release()
	if err := <-other; err != nil {
		t.Errorf("the other site: %v", err)
	}
	for range 3 {
		if err := <-flood; err != nil {
			t.Error(err)
		}
	}
}

func TestNobodyWaitsLongerThanTheLimit(t *testing.T) {
	w := workshop(t, Options{Workers: 1, Wait: 150 * time.Millisecond})
	defer hold(t, w)()
	begin := time.Now()
	_, err := render1(w, context.Background(), picture(t, 30, 20), job(t, "width=9"))
	var no *policy.Refusal
	if !errors.As(err, &no) || no.Reason != policy.ReasonBusy || time.Since(begin) > 10*time.Second {
		t.Errorf("%v after %v", err, time.Since(begin))
	}
}

func TestAClientThatLeavesEndsItsRender(t *testing.T) {
	w := workshop(t, Options{Workers: 1})
	data := blank(t, 6000, 6000)
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan error)
	go func() {
		_, err := render1(w, ctx, data, job(t, "format=png"))
		done <- err
	}()
	testbed.Eventually(t, "it is under way", func() error {
		w.mu.Lock()
		defer w.mu.Unlock()
		if len(w.running) == 0 {
			return errors.New("not yet")
		}
		return nil
	})
	cancel()
	begin := time.Now()
	if err := <-done; !errors.Is(err, context.Canceled) {
		t.Error(err)
	}
	if _, err := render1(w, context.Background(), picture(t, 30, 20), job(t, "width=9")); err != nil || w.Lost() != 0 {
		t.Errorf("the next: %v after %v, %d lost", err, time.Since(begin), w.Lost())
	}
}

func TestMemoryIsWaitedFor(t *testing.T) {
	c := newCrew(3, 10, time.Minute, 100, 1)
	for range 3 {
		c.add(&worker{})
	}
	take := func(memory int64) (chan *place, context.CancelFunc) {
		ctx, cancel := context.WithCancel(context.Background())
		got := make(chan *place, 1)
		go func() {
			if p, _, err := c.place(ctx, For{Memory: memory}, nil); err == nil {
				got <- p
			}
		}()
		return got, cancel
	}
	first, _ := take(1000) // more than there is, but alone
	p := <-first
	second, _ := take(60)
	for c.waiting() != 1 {
		time.Sleep(time.Millisecond)
	}
	select {
	case <-second:
		t.Error("it didn't wait for memory")
	default:
	}
	c.done(p, &worker{}, time.Millisecond)
	p = <-second
	third, leave := take(60)
	for c.waiting() != 1 {
		time.Sleep(time.Millisecond)
	}
	fourth, _ := take(30) // would fit, and doesn't pass by
	for c.waiting() != 2 {
		time.Sleep(time.Millisecond)
	}
	leave()
	q := <-fourth // the one at the head has gone
	c.done(p, &worker{}, time.Millisecond)
	c.done(q, &worker{}, time.Millisecond)
	select {
	case <-third:
		t.Error("one that had left got a worker")
	default:
	}
	if c.taken != 0 || c.running != 0 || len(c.idle) != 3 {
		t.Errorf("%d bytes, %d jobs are left", c.taken, c.running)
	}
}

func TestWhatNobodyWaitsForLeavesAWorkerFree(t *testing.T) {
	c := newCrew(2, 10, time.Minute, 1<<30, 1)
	c.add(&worker{})
	c.add(&worker{})
	p, one, err := c.place(context.Background(), For{Kind: Refinement}, nil)
	if err != nil {
		t.Fatal(err)
	}
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Millisecond)
	defer cancel()
	if _, _, err := c.place(ctx, For{Kind: Ahead}, nil); !errors.Is(err, context.DeadlineExceeded) {
		t.Errorf("a second: %v", err)
	}
	if _, _, err := c.place(context.Background(), For{Kind: Visitor}, nil); err != nil {
		t.Error(err)
	}
	c.done(p, one, time.Millisecond)
}

// TestEveryKindOfJobStaysWithinItsCalls has workers do all that they can be asked for. scripts/worker-calls watches it.
func TestEveryKindOfJobStaysWithinItsCalls(t *testing.T) {
	w := workshop(t, Options{Workers: 1})
	var sources [][]byte
	for _, name := range []string{"delta-red.jpg", "mark.png"} {
		data, err := os.ReadFile(filepath.Join(shared(t), name))
		if err != nil {
			t.Fatal(err)
		}
		sources = append(sources, data)
	}
	for _, format := range []string{"jpeg", "png", "webp", "avif"} {
		r, err := render1(w, context.Background(), sources[0], job(t, "width=200&format="+format))
		if err != nil {
			t.Fatal(err)
		}
		sources = append(sources, r.Data)
	}
	sources = append(sources, moving(t), picture(t, 70, 50))
	if heic, err := exec.Command("sh", "-c", `d=$(mktemp -d) && cp "$0" $d/a.png && heif-enc -o $d/a.heic $d/a.png >&2 && cat $d/a.heic; rm -r $d`, filepath.Join(shared(t), "mark.png")).Output(); err == nil {
		sources = append(sources, heic)
	} else {
		t.Log("no HEIC:", err)
	}
	for n, data := range sources {
		for i, query := range []string{
			"width=64&format=jpeg", "width=64&format=webp", "width=64&format=gif", "width=64&format=png", "width=64&format=avif", "width=64&quality=lossless&format=webp",
			"width=48&aspect-ratio=1&object-position=subject", "width=64&filter=blur(2px)%20saturate(1.4)&border-radius=8px&rotate=7deg", "width=64&budget=2kB&format=webp",
		} {
			j := job(t, query)
			for _, predict := range []bool{true, false} {
				if j.Predict = predict; n > 0 && (!predict || i > 3) { // what comes after decoding is the same whatever the source was
					continue
				}
				if _, err := render1(w, context.Background(), data, j); err != nil && !errors.As(err, new(*policy.Refusal)) {
					t.Errorf("%s: %v", query, err)
				}
			}
		}
		facts := job(t, "format=png")
		facts.Facts = true
		render1(w, context.Background(), data, facts)
		tiny := job(t, "width=32&format=webp")
		tiny.Placeholder = 400
		render1(w, context.Background(), data, tiny)
		for _, bad := range [][]byte{data[:len(data)/2], data[:20], append(bytes.Clone(data[:len(data)/3]), make([]byte, len(data))...)} {
			render1(w, context.Background(), bad, job(t, "width=64"))
			w.Header(context.Background(), held.InMemory(bad, nil))
			w.Strip(context.Background(), held.InMemory(bad, nil))
		}
	}
	if w.Lost() != 0 {
		t.Errorf("%d workers were lost", w.Lost())
	}
}

func shared(t *testing.T) string {
	t.Helper()
	dir, err := pictures.Shared()
	if err != nil {
		t.Fatal(err)
	}
	return dir
}

// moving is a GIF of three frames.
func moving(t *testing.T) []byte {
	t.Helper()
	var g gif.GIF
	for n := range 3 {
		m := image.NewPaletted(image.Rect(0, 0, 60, 40), palette.Plan9)
		for i := range m.Pix {
			m.Pix[i] = uint8(i * (n + 3))
		}
		g.Image, g.Delay = append(g.Image, m), append(g.Delay, 10)
	}
	var b bytes.Buffer
	if err := gif.EncodeAll(&b, &g); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}
