package workshop

import (
	"bufio"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"runtime"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"echolane/service/backseat"
	"echolane/service/source"
	"echolane/service/workshop/confine"
)

// worker is one process.
type worker struct {
	cmd    *exec.Cmd
	conn   *net.UnixConn
	read   *bufio.Reader
	stderr *words
	done   int // jobs
}

// A starter starts workers, all from one thread: a worker ends with the thread that started it, and stands back from its
// start on behind what answers requests, as that thread does.
type starter struct {
	program *os.File
	memory  int64
	plan    confine.Plan
	started uint64
	todo    chan func()
}

// newStarter opens the program that is the worker: "" is this one. It finds the best way to start it that the machine lets it
// take. Its first worker tells what is in force.
func newStarter(program string, memory int64) (*starter, *worker, []confine.Measure, error) {
	if program == "" {
		program = "/proc/self/exe"
	}
	file, err := os.Open(program)
	if err != nil {
		return nil, nil, nil, fmt.Errorf("start a render worker: %w", err)
	}
	s := &starter{program: file, memory: memory, todo: make(chan func())}
	backed := make(chan error)
	go func() {
		runtime.LockOSThread() // and never unlocked: the thread ends with the goroutine
		backed <- backseat.Give(unix.Gettid())
		for do := range s.todo {
			do()
		}
	}()
	if err := <-backed; err != nil {
		s.close()
		return nil, nil, nil, err
	}
	var because error
	for _, s.plan = range confine.Plans() {
		if because != nil {
			s.plan = s.plan.Because(because)
		}
		one, said, err := s.start()
		if err == nil {
			return s, one, s.plan.Measures(said), nil
		}
		because = err
	}
	s.close()
	return nil, nil, nil, because
}

func (s *starter) close() {
	close(s.todo)
	s.program.Close()
}

// startTime is the longest that a worker may take to be ready.
const startTime = 10 * time.Second

// start starts a worker, and gives what it says confines it.
func (s *starter) start() (*worker, []confine.Measure, error) {
	pair, err := unix.Socketpair(unix.AF_UNIX, unix.SOCK_STREAM|unix.SOCK_CLOEXEC, 0)
	if err != nil {
		return nil, nil, fmt.Errorf("start a render worker: %w", err)
	}
	ours, theirs := os.NewFile(uintptr(pair[0]), "worker"), os.NewFile(uintptr(pair[1]), "worker")
	defer ours.Close()
	defer theirs.Close()
	any, err := net.FileConn(ours)
	if err != nil {
		return nil, nil, fmt.Errorf("start a render worker: %w", err)
	}
	conn, ok := any.(*net.UnixConn)
	if !ok {
		any.Close()
		return nil, nil, errors.New("start a render worker: the socket pair isn't one")
	}
	one := &worker{conn: conn, read: bufio.NewReaderSize(conn, 64<<10), stderr: &words{}}
	one.cmd = s.plan.Command(atomic.AddUint64(&s.started, 1), s.memory, theirs, s.program)
	one.cmd.Stderr = one.stderr
	began := make(chan error)
	s.todo <- func() { began <- one.cmd.Start() }
	err = <-began
	theirs.Close() // so that its end is heard
	if err != nil {
		conn.Close()
		return nil, nil, fmt.Errorf("start a render worker: %w", err)
	}
	conn.SetDeadline(time.Now().Add(startTime))
	var h hello
	if _, err := receive(one.read, &h, 0); err != nil {
		one.end()
		return nil, nil, fmt.Errorf("a render worker ended at its start: %w: %s", err, one.stderr)
	}
	return one, h.Measures, nil
}

// end ends the worker. It can't have started anything that outlives it.
func (o *worker) end() {
	o.conn.Close()
	o.kill()
	o.cmd.Wait()
}

func (o *worker) kill() {
	o.cmd.Process.Kill()
}

// killed reports whether somebody else ended the worker.
func (o *worker) killed() bool {
	status, ok := o.cmd.ProcessState.Sys().(syscall.WaitStatus)
	return ok && status.Signaled() && status.Signal() == syscall.SIGKILL
}

// ending says how the worker ended, once it has.
func (o *worker) ending() string {
	if o.cmd.ProcessState == nil {
		return "it runs"
	}
	return o.cmd.ProcessState.String()
}

// do gives the worker an order and waits for its answer, at most for limit.
func (o *worker) do(what message, contents []*source.Content, limit time.Duration) (a answer, err error) {
	o.conn.SetDeadline(time.Now().Add(limit))
	if err := tell(o.conn, what, contents); err != nil {
		return a, err
	}
	if a.Result.Data, err = receive(o.read, &a, what.most()); err != nil {
		return a, err
	}
	return a, a.check(&what)
}

// doMany gives the worker an order with more than one job, and takes each answer as it comes, at most limit after the one before.
func (o *worker) doMany(what message, contents []*source.Content, limit time.Duration, take func(answer)) error {
	o.conn.SetDeadline(time.Now().Add(limit))
	if err := tell(o.conn, what, contents); err != nil {
		return err
	}
	had := make([]bool, 1+len(what.More))
	for range had {
		o.conn.SetDeadline(time.Now().Add(limit))
		var a answer
		var err error
		if a.Result.Data, err = receive(o.read, &a, what.most()); err != nil {
			return err
		}
		if a.Changed {
			take(a)
			return nil
		}
		if a.Index < 0 || a.Index >= len(had) || had[a.Index] {
			return fmt.Errorf("the worker answers job %d of %d", a.Index, len(had))
		}
		had[a.Index] = true
		if err := a.check(&what); err != nil {
			return err
		}
		take(a)
	}
	return nil
}

// words keeps the first and the last of what a worker said on its standard error.
type words struct {
	mu          sync.Mutex
	first, last []byte
}

// mostWords is how many bytes are kept at either end.
const mostWords = 1024

func (t *words) Write(p []byte) (int, error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	n := min(len(p), mostWords-len(t.first))
	t.first = append(t.first, p[:n]...)
	t.last = append(t.last, p[n:]...)
	if len(t.last) > mostWords {
		t.last = append(t.last[:0], t.last[len(t.last)-mostWords:]...)
	}
	return len(p), nil
}

func (t *words) String() string {
	t.mu.Lock()
	defer t.mu.Unlock()
	return string(t.first) + string(t.last)
}
