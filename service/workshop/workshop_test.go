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
	"sync"
	"syscall"
	"testing"
	"time"

	"echolane/core/declare"
	"echolane/core/policy"
	"echolane/core/render"
	"echolane/demo/pictures"
	"echolane/internal/testbed"
	"echolane/service/source"
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
	r, _, err := w.Render(ctx, bring(data), job)
	return r, err
}

func bring(data []byte) Open {
	return func(context.Context) ([]*source.Content, error) {
		return []*source.Content{source.InMemory(data, nil)}, nil
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
	w := workshop(t, Options{Workers: 1, MemoryBytes: 300 << 20})
	greedy := job(t, "format=png")
	greedy.Limits.Pixels = 100_000_000
	_, err := render1(w, context.Background(), blank(t, 7900, 7900), greedy) // 250 MB as pixels, and again as output
	var no *policy.Refusal
	if !errors.As(err, &no) || no.Reason != "render-too-much" {
		t.Fatalf("%v", err)
	}
	if _, err := render1(w, context.Background(), picture(t, 30, 20), job(t, "width=9")); err != nil {
		t.Errorf("the next render: %v", err)
	}
}

func TestAKilledWorkerCostsOneRender(t *testing.T) {
	w := workshop(t, Options{Workers: 1})
	one := <-w.renders.idle
	pid := one.cmd.Process.Pid
	w.renders.idle <- one
	syscall.Kill(pid, syscall.SIGKILL)
	render1(w, context.Background(), picture(t, 30, 20), job(t, "width=9"))
	if _, err := render1(w, context.Background(), picture(t, 30, 20), job(t, "width=9")); err != nil {
		t.Errorf("the next render: %v", err)
	}
}

func TestAFullQueueIsSaid(t *testing.T) {
	w := workshop(t, Options{Workers: 1, Queue: 1})
	one := <-w.renders.idle // the only worker is busy
	waiting, cancel := context.WithCancel(context.Background())
	done := make(chan error)
	go func() {
		_, err := render1(w, waiting, picture(t, 30, 20), job(t, "width=9"))
		done <- err
	}()
	for w.Waiting() == 0 {
		time.Sleep(time.Millisecond)
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
	w.renders.idle <- one
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
	for _, data := range sources {
		for _, query := range []string{
			"width=64&format=jpeg", "width=64&format=webp", "width=64&format=avif", "width=64&format=png", "width=64&format=gif", "width=64&quality=lossless&format=webp",
			"width=48&aspect-ratio=1&object-position=subject", "width=64&filter=blur(2px)%20saturate(1.4)&border-radius=8px&rotate=7deg", "width=64&budget=2kB&format=webp",
		} {
			j := job(t, query)
			for _, predict := range []bool{false, true} {
				j.Predict = predict
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
			w.Header(context.Background(), source.InMemory(bad, nil))
			w.Strip(context.Background(), source.InMemory(bad, nil))
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
