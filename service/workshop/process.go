package workshop

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"runtime"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"echolane/service/backseat"
	"echolane/service/source/held"
	"echolane/service/workshop/confine"
)

// worker is one process.
type worker struct {
	process *os.Process
	state   *os.ProcessState // once it has ended
	conn    *net.UnixConn
	read    *bufio.Reader
	stderr  *words
	heard   chan struct{}   // closed when there is no more of it
	done    int             // jobs
	stale   <-chan struct{} // closed once it is known where things lie in its memory
}

// worn reports whether the worker is to be replaced after its job.
func (o *worker) worn() bool {
	select {
	case <-o.stale:
		return true
	default:
		return o.done >= jobsPerWorker
	}
}

// A starter starts workers, all from one thread: a worker ends with the thread that started it, and stands back from its
// start on behind what answers requests, as that thread does.
type starter struct {
	program *os.File
	memory  int64
	plan    confine.Plan
	count   atomic.Uint64 // workers that were started
	todo    chan func()
	started func(time.Duration) // nil: nobody is told

	mu       sync.Mutex
	forks    *confine.ForkServer // nil: there is none now
	stale    <-chan struct{}     // the fork server's
	cantFork bool                // the machine doesn't let a fork server start workers

	renewing sync.Mutex
	renewed  chan struct{} // closed by the next renew
}

// newStarter finds the best way to start a program as a worker that the machine lets it take. Its first worker tells what is in
// force. The file is closed with the starter.
func newStarter(file *os.File, memory int64, started func(time.Duration)) (*starter, *worker, []confine.Measure, error) {
	s := &starter{program: file, memory: memory, todo: make(chan func()), started: started, renewed: make(chan struct{})}
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
		s.cantFork = false // another plan may be within its power
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
	s.mu.Lock()
	s.drop()
	s.mu.Unlock()
	close(s.todo)
	s.program.Close()
}

// on has the starter's thread do something.
func (s *starter) on(do func() error) error {
	done := make(chan error)
	s.todo <- func() { done <- do() }
	return <-done
}

// renew has workers that start from now on come from another fork server, and so have other addresses. Those that there are
// become stale. It waits for nothing.
func (s *starter) renew() {
	s.renewing.Lock()
	defer s.renewing.Unlock()
	close(s.renewed)
	s.renewed = make(chan struct{})
}

// fresh is closed once what is started now has become stale.
func (s *starter) fresh() <-chan struct{} {
	s.renewing.Lock()
	defer s.renewing.Unlock()
	return s.renewed
}

// drop ends the fork server. s.mu is held.
func (s *starter) drop() {
	if s.forks != nil {
		s.forks.End()
		s.forks = nil
	}
}

// process starts the n-th worker: by the fork server, which takes a quarter of the time, or else by loading the program anew.
func (s *starter) process(socket, words *os.File) (*os.Process, error) {
	n := s.count.Add(1)
	if one := s.fork(n, socket, words); one != nil {
		return one, nil
	}
	cmd := s.plan.Command(n, s.memory, socket, s.program)
	cmd.Stderr = words
	if err := s.on(cmd.Start); err != nil {
		return nil, err
	}
	return cmd.Process, nil
}

// fork starts a worker by the fork server, if it can.
func (s *starter) fork(n uint64, socket, words *os.File) *os.Process {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.cantFork {
		return nil
	}
	if now := s.fresh(); s.stale != now {
		s.drop()
		s.stale = now
	}
	if s.forks == nil {
		err := s.on(func() (err error) {
			s.forks, err = confine.StartForkServer(s.program)
			return err
		})
		if err != nil {
			return nil
		}
	}
	one, err := s.forks.Fork(s.plan, n, s.memory, socket, words)
	if err == nil {
		return one
	}
	// For want of processes or memory it is tried again with the next.
	s.cantFork = errors.Is(err, confine.ErrCantFork) && !errors.Is(err, syscall.EAGAIN) && !errors.Is(err, syscall.ENOMEM)
	s.drop()
	return nil
}

// startTime is the longest that a worker may take to be ready.
const startTime = 10 * time.Second

// start starts a worker, and gives what it says confines it.
func (s *starter) start() (*worker, []confine.Measure, error) {
	began := time.Now()
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
	hear, say, err := os.Pipe()
	if err != nil {
		conn.Close()
		return nil, nil, fmt.Errorf("start a render worker: %w", err)
	}
	one := &worker{conn: conn, read: bufio.NewReaderSize(conn, 64<<10), stderr: &words{}, heard: make(chan struct{}), stale: s.fresh()}
	one.process, err = s.process(theirs, say)
	theirs.Close() // so that its end is heard
	say.Close()
	if err != nil {
		conn.Close()
		hear.Close()
		return nil, nil, fmt.Errorf("start a render worker: %w", err)
	}
	go func() {
		defer close(one.heard)
		defer hear.Close()
		io.Copy(one.stderr, hear)
	}()
	conn.SetDeadline(time.Now().Add(startTime))
	var h hello
	if _, err := receive(one.read, &h, 0); err != nil {
		one.end()
		return nil, nil, fmt.Errorf("a render worker ended at its start: %w: %s", err, one.stderr)
	}
	if s.started != nil {
		s.started(time.Since(began))
	}
	return one, h.Measures, nil
}

// end ends the worker. It can't have started anything that outlives it.
func (o *worker) end() {
	o.conn.Close()
	o.kill()
	if state, err := o.process.Wait(); err == nil {
		o.state = state
	}
	<-o.heard
}

func (o *worker) kill() { o.process.Kill() }

// killed reports whether somebody else ended the worker.
func (o *worker) killed() bool {
	if o.state == nil {
		return false
	}
	status, ok := o.state.Sys().(syscall.WaitStatus)
	return ok && status.Signaled() && status.Signal() == syscall.SIGKILL
}

// ending says how the worker ended, once it has.
func (o *worker) ending() string {
	if o.state == nil {
		return "it runs"
	}
	return o.state.String()
}

// do gives the worker an order and waits for its answer, at most for limit.
func (o *worker) do(what message, contents []*held.Content, limit time.Duration) (a answer, err error) {
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
func (o *worker) doMany(what message, contents []*held.Content, limit time.Duration, take func(answer)) error {
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
