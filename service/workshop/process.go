package workshop

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"sync"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"echolane/service/backseat"
	"echolane/service/source"
)

// worker is one process.
type worker struct {
	cmd    *exec.Cmd
	conn   *net.UnixConn
	read   *bufio.Reader
	stderr *tail
	done   int // jobs
}

func (w *Workshop) start() (*worker, error) {
	pair, err := unix.Socketpair(unix.AF_UNIX, unix.SOCK_STREAM|unix.SOCK_CLOEXEC, 0)
	if err != nil {
		return nil, fmt.Errorf("start a render worker: %w", err)
	}
	ours, theirs := os.NewFile(uintptr(pair[0]), "worker"), os.NewFile(uintptr(pair[1]), "worker")
	defer ours.Close()
	defer theirs.Close()
	any, err := net.FileConn(ours)
	if err != nil {
		return nil, fmt.Errorf("start a render worker: %w", err)
	}
	conn, ok := any.(*net.UnixConn)
	if !ok {
		any.Close()
		return nil, errors.New("start a render worker: the socket pair isn't one")
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
	if err := backseat.Give(one.cmd.Process.Pid); err != nil {
		one.end()
		return nil, err
	}
	conn.SetDeadline(time.Now().Add(10 * time.Second))
	var hello [1]byte
	if _, err := io.ReadFull(one.read, hello[:]); err != nil {
		one.end()
		return nil, fmt.Errorf("a render worker ended at its start: %s", one.stderrTail())
	}
	return one, nil
}

// end closes the worker's socket, at which it ends by itself when idle, and makes sure of it and of what it may have
// started.
func (o *worker) end() {
	o.conn.Close()
	o.kill()
	o.cmd.Wait()
}

func (o *worker) kill() {
	syscall.Kill(-o.cmd.Process.Pid, syscall.SIGKILL)
	o.cmd.Process.Kill()
}

func (o *worker) stderrTail() string { return o.stderr.String() }

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
