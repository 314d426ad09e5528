// Package workshop makes variants in worker processes of this same binary: without files, network or
// privileges, under a ceiling of memory and a deadline. A hostile image can at worst cost one render.
//
// A worker does one job at a time, over a socket pair. If it dies or is too slow, its job fails and another
// worker takes its place.
package workshop

import (
	"bufio"
	"context"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"os"
	"os/exec"
	"runtime"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"echolane/core/policy"
	"echolane/core/render"
)

// Options say how many workers there are and what each may use.
type Options struct {
	Workers     int   // 0: one for each processor
	Queue       int   // jobs that may wait for a worker; 0: 32 for each worker
	MemoryBytes int64 // address space a worker may use beyond its start; 0: 2 GiB
	Command     []string
	Log         *slog.Logger
}

// Workshop hands jobs to workers. Safe for concurrent use.
type Workshop struct {
	o       Options
	idle    chan *worker // holds Workers of them; nil stands for one to be started
	waiting atomic.Int64
	lost    atomic.Int64
	closing sync.Once
}

// renders after which a worker is replaced, so that what a C library may leak stays small.
const rendersPerWorker = 2000

// New starts the first worker, to see that it can, and the others when they're needed.
func New(o Options) (*Workshop, error) {
	if o.Workers == 0 {
		o.Workers = runtime.NumCPU()
	}
	if o.Queue == 0 {
		o.Queue = 32 * o.Workers
	}
	if o.MemoryBytes == 0 {
		o.MemoryBytes = 2 << 30
	}
	w := &Workshop{o: o, idle: make(chan *worker, o.Workers)}
	first, err := w.start()
	if err != nil {
		return nil, err
	}
	w.idle <- first
	for range o.Workers - 1 {
		w.idle <- nil
	}
	return w, nil
}

// Lost counts workers that died or were ended.
func (w *Workshop) Lost() int64 { return w.lost.Load() }

// Waiting counts jobs that wait for a worker.
func (w *Workshop) Waiting() int64 { return w.waiting.Load() }

// Close ends all workers, waiting for jobs under way.
func (w *Workshop) Close() {
	w.closing.Do(func() {
		for range w.o.Workers {
			if one := <-w.idle; one != nil {
				one.end()
			}
		}
	})
}

// Render makes one variant. Its error is a *policy.Refusal.
func (w *Workshop) Render(ctx context.Context, source []byte, job render.Job) (render.Result, error) {
	if w.waiting.Add(1) > int64(w.o.Queue) {
		w.waiting.Add(-1)
		return render.Result{}, policy.No(policy.Refusal{
			Reason: policy.ReasonBusy, Detail: fmt.Sprintf("%d variants are waiting to be made", w.o.Queue), Remedy: "try again in a moment", RetryIn: 2,
		})
	}
	var one *worker
	select {
	case one = <-w.idle:
		w.waiting.Add(-1)
	case <-ctx.Done():
		w.waiting.Add(-1)
		return render.Result{}, policy.No(policy.Refusal{Reason: policy.ReasonBusy, Detail: "no worker came free in time", Remedy: "try again in a moment", RetryIn: 2})
	}
	if one == nil {
		var err error
		if one, err = w.start(); err != nil {
			w.idle <- nil
			w.o.Log.Error("a render worker doesn't start", "error", err)
			return render.Result{}, policy.No(policy.Refusal{Reason: policy.ReasonInternal, Detail: "a render worker doesn't start", Remedy: "tell whoever runs the service", RetryIn: 5})
		}
	}
	result, err := one.do(source, job)
	var no *policy.Refusal
	if err == nil || errors.As(err, &no) {
		one.done++
		if one.done >= rendersPerWorker {
			one.end()
			one = nil
		}
		w.idle <- one
		return result, err
	}

	slow := errors.Is(err, os.ErrDeadlineExceeded)
	one.end()
	w.idle <- nil
	w.lost.Add(1)
	w.o.Log.Warn("a render worker was lost", "slow", slow, "error", err, "its last words", one.lastWords())
	if slow {
		return render.Result{}, policy.No(policy.Refusal{
			Reason: policy.ReasonRenderTooSlow, Detail: fmt.Sprintf("the variant wasn't made within %v", job.Limits.RenderTime),
			Allowed: fmt.Sprintf("at most %v", job.Limits.RenderTime), Remedy: "use a smaller source, or raise the site's render_ms limit",
		})
	}
	return render.Result{}, policy.No(policy.Refusal{
		Reason: policy.ReasonRenderTooMuch, Detail: "the worker that made the variant ended before it was done", Remedy: "use a smaller source",
	})
}

// worker is one process.
type worker struct {
	cmd    *exec.Cmd
	conn   net.Conn
	read   *bufio.Reader
	stderr *tail
	done   int
}

func (w *Workshop) start() (*worker, error) {
	pair, err := unix.Socketpair(unix.AF_UNIX, unix.SOCK_STREAM|unix.SOCK_CLOEXEC, 0)
	if err != nil {
		return nil, fmt.Errorf("start a render worker: %w", err)
	}
	ours, theirs := os.NewFile(uintptr(pair[0]), "worker"), os.NewFile(uintptr(pair[1]), "worker")
	defer ours.Close()
	defer theirs.Close()
	conn, err := net.FileConn(ours)
	if err != nil {
		return nil, fmt.Errorf("start a render worker: %w", err)
	}
	one := &worker{conn: conn, read: bufio.NewReaderSize(conn, 64<<10), stderr: &tail{}}
	one.cmd = exec.Command(w.o.Command[0], w.o.Command[1:]...)
	one.cmd.Env = []string{"GOMAXPROCS=1", "GOTRACEBACK=none", fmt.Sprintf("%s=%d", memoryEnv, w.o.MemoryBytes)}
	one.cmd.Dir = "/"
	one.cmd.ExtraFiles = []*os.File{theirs}
	one.cmd.Stderr = one.stderr
	one.cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	if err := one.cmd.Start(); err != nil {
		conn.Close()
		return nil, fmt.Errorf("start a render worker: %w", err)
	}
	conn.SetDeadline(time.Now().Add(10 * time.Second))
	var hello [1]byte
	if _, err := io.ReadFull(one.read, hello[:]); err != nil {
		one.end()
		return nil, fmt.Errorf("a render worker ended at its start: %s", one.lastWords())
	}
	return one, nil
}

// end closes the worker's socket, at which it ends by itself when idle, and makes sure.
func (o *worker) end() {
	o.conn.Close()
	o.cmd.Process.Kill()
	o.cmd.Wait()
}

func (o *worker) lastWords() string { return o.stderr.String() }

func (o *worker) do(source []byte, job render.Job) (render.Result, error) {
	o.conn.SetDeadline(time.Now().Add(job.Limits.RenderTime))
	what, data := pack(source, job)
	if err := send(o.conn, what, data); err != nil {
		return render.Result{}, err
	}
	var a answer
	made, err := receive(o.read, &a)
	if err != nil {
		return render.Result{}, err
	}
	if a.Refusal != nil {
		return render.Result{}, a.Refusal
	}
	a.Result.Data = made
	return a.Result, nil
}

// order is what a worker is told: the job, and how long each of the sources is that follow it one after
// another, the picture's own first.
type order struct {
	Job   render.Job
	Names []string // of the pictures behind the first source
	Sizes []int    // of them
}

// pack gives an order and the bytes behind it.
func pack(source []byte, job render.Job) (order, [][]byte) {
	o, data := order{Job: job}, [][]byte{source}
	for _, name := range job.Request.Pictures() {
		o.Names, o.Sizes = append(o.Names, name), append(o.Sizes, len(job.Pictures[name]))
		data = append(data, job.Pictures[name])
	}
	return o, data
}

// unpack takes the bytes apart again.
func (o *order) unpack(data []byte) (source []byte, err error) {
	if len(o.Names) != len(o.Sizes) {
		return nil, errors.New("an order names other pictures than it brings")
	}
	for i := len(o.Names) - 1; i >= 0; i-- {
		at := len(data) - o.Sizes[i]
		if at < 0 || o.Sizes[i] < 0 {
			return nil, errors.New("an order is shorter than it says")
		}
		if o.Job.Pictures == nil {
			o.Job.Pictures = map[string][]byte{}
		}
		o.Job.Pictures[o.Names[i]], data = data[at:], data[:at:at]
	}
	return data, nil
}

// answer is what a worker says when it is done; a variant's bytes follow it.
type answer struct {
	Result  render.Result
	Refusal *policy.Refusal
}

const (
	workerFD  = 3
	memoryEnv = "ECHOLANE_WORKER_MEMORY"
)

// send writes a value as JSON and bytes, each behind its length.
func send(w io.Writer, value any, data [][]byte) error {
	head, err := json.Marshal(value)
	if err != nil {
		return err
	}
	length := 0
	for _, d := range data {
		length += len(d)
	}
	var lengths [12]byte
	binary.LittleEndian.PutUint32(lengths[:], uint32(len(head)))
	binary.LittleEndian.PutUint64(lengths[4:], uint64(length))
	if _, err := w.Write(append(lengths[:], head...)); err != nil {
		return err
	}
	for _, d := range data {
		if _, err := w.Write(d); err != nil {
			return err
		}
	}
	return nil
}

const maxHead, maxData = 1 << 20, 1 << 31

func receive(r io.Reader, value any) ([]byte, error) {
	var lengths [12]byte
	if _, err := io.ReadFull(r, lengths[:]); err != nil {
		return nil, err
	}
	n, m := binary.LittleEndian.Uint32(lengths[:]), binary.LittleEndian.Uint64(lengths[4:])
	if n > maxHead || m > maxData {
		return nil, errors.New("a message between workshop and worker is out of bounds")
	}
	head := make([]byte, n)
	if _, err := io.ReadFull(r, head); err != nil {
		return nil, err
	}
	if err := json.Unmarshal(head, value); err != nil {
		return nil, err
	}
	data := make([]byte, m)
	_, err := io.ReadFull(r, data)
	return data, err
}

// tail keeps the last of what a worker said on its standard error.
type tail struct {
	mu   sync.Mutex
	data []byte
}

func (t *tail) Write(p []byte) (int, error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.data = append(t.data, p...)
	if len(t.data) > 2048 {
		t.data = t.data[len(t.data)-2048:]
	}
	return len(p), nil
}

func (t *tail) String() string {
	t.mu.Lock()
	defer t.mu.Unlock()
	return string(t.data)
}
