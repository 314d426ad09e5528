package confine

// #include "before.h"
import "C"

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"sync"
	"syscall"
	"unsafe"

	"golang.org/x/sys/unix"
)

// A ForkServer starts workers without loading the program for each: it is a process that has loaded it, and forks. What it forks
// parts itself from the machine as a worker that is started by a Command does. Safe for concurrent use.
//
// Workers of one fork server have the same addresses in memory. Where one crashed, somebody may have tried to guess them: end
// the server then, and start another.
type ForkServer struct {
	mu    sync.Mutex
	cmd   *exec.Cmd
	fd    int // its socket, one message an order and an answer; -1 once it was ended
	ready bool
}

// ForkServerArgument is the last argument of a fork server, which has those of a worker before it.
const ForkServerArgument = C.FORK_SERVER

// forkTime is the longest that a fork server may take to load, or to fork, in seconds.
const forkTime = 3

// StartForkServer starts one, of an executable file that is opened. It must be called by a thread that outlives the workers:
// they are its children, and end with it. It doesn't wait until the server is ready: the first Fork does.
func StartForkServer(program *os.File) (*ForkServer, error) {
	pair, err := unix.Socketpair(unix.AF_UNIX, unix.SOCK_SEQPACKET|unix.SOCK_CLOEXEC, 0)
	if err != nil {
		return nil, fmt.Errorf("start the fork server: %w", err)
	}
	theirs := os.NewFile(uintptr(pair[1]), "fork server")
	defer theirs.Close()
	f := &ForkServer{fd: pair[0]}
	for _, option := range []int{unix.SO_RCVTIMEO, unix.SO_SNDTIMEO} {
		if err := unix.SetsockoptTimeval(f.fd, unix.SOL_SOCKET, option, &unix.Timeval{Sec: forkTime}); err != nil {
			unix.Close(f.fd)
			return nil, fmt.Errorf("start the fork server: %w", err)
		}
	}
	// The arguments have room for those of each worker, which are written over them.
	f.cmd = command(theirs, program, "0000000000", "0000000000", "00000000000000000000", ForkServerArgument)
	if err := f.cmd.Start(); err != nil {
		unix.Close(f.fd)
		return nil, fmt.Errorf("start the fork server: %w", err)
	}
	return f, nil
}

// ErrCantFork says that the machine doesn't let the fork server start workers by a plan: a Command may.
var ErrCantFork = errors.New("the fork server can't start a worker")

// Fork starts a worker by a plan, as Command does: words is its standard error, which the worker alone is to have open.
// An error other than ErrCantFork means that the server is of no use any more: it is to be ended.
func (f *ForkServer) Fork(p Plan, n uint64, memory int64, socket, words *os.File) (*os.Process, error) {
	part := p.parting(n)
	order := C.struct_fork_order{
		memory: C.uint64_t(memory), clone_flags: C.uint32_t(part.clone), flags: C.uint32_t(part.flags), become: C.uint32_t(part.become),
		map_user: C.uint32_t(part.user), map_group: C.uint32_t(part.group),
	}
	if part.groups {
		order.groups = 1
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.fd < 0 {
		return nil, errors.New("fork a worker: the fork server has ended")
	}
	if !f.ready {
		if _, err := f.answer(); err != nil {
			return nil, err
		}
		f.ready = true
	}
	data := unsafe.Slice((*byte)(unsafe.Pointer(&order)), unsafe.Sizeof(order))
	if err := unix.Sendmsg(f.fd, data, unix.UnixRights(int(socket.Fd()), int(words.Fd())), nil, unix.MSG_NOSIGNAL); err != nil {
		return nil, fmt.Errorf("fork a worker: %w", err)
	}
	pid, err := f.answer()
	if pid == 0 {
		return nil, err
	}
	process, found := os.FindProcess(pid)
	if err != nil && found == nil {
		process.Wait()
	}
	return process, errors.Join(err, found)
}

// answer is the next one: a process id, 0 where there is none.
func (f *ForkServer) answer() (int, error) {
	var a C.struct_fork_answer
	data := unsafe.Slice((*byte)(unsafe.Pointer(&a)), unsafe.Sizeof(a))
	n, err := unix.Read(f.fd, data)
	for errors.Is(err, unix.EINTR) {
		n, err = unix.Read(f.fd, data)
	}
	switch {
	case err != nil:
		return 0, fmt.Errorf("hear the fork server: %w", err)
	case n != len(data):
		return 0, errors.New("hear the fork server: it has ended")
	case a.err != 0:
		return int(a.pid), fmt.Errorf("%w: %w", ErrCantFork, syscall.Errno(a.err))
	}
	return int(a.pid), nil
}

// Pid is the server's process id.
func (f *ForkServer) Pid() int { return f.cmd.Process.Pid }

// End ends the server. The workers that it forked go on.
func (f *ForkServer) End() {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.fd < 0 {
		return
	}
	unix.Close(f.fd)
	f.fd = -1
	f.cmd.Process.Kill()
	f.cmd.Wait()
}
