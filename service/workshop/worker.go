package workshop

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"math"
	"os"
	"runtime"
	"runtime/debug"
	"strconv"
	"syscall"
	"time"
	"unsafe"

	"golang.org/x/net/bpf"
	"golang.org/x/sys/unix"

	"echolane/core/metadata"
	"echolane/core/policy"
	"echolane/core/render"
	"echolane/service/backseat"
)

// Work is the worker's side: it gives up what it doesn't need, then does jobs from file 3 until that closes.
func Work() error {
	socket := os.NewFile(workerFD, "workshop")
	if err := confine(); err != nil {
		return fmt.Errorf("confine the render worker: %w", err)
	}
	if _, err := socket.Write([]byte{'.'}); err != nil {
		return err
	}
	files := &fdReader{fd: workerFD}
	in, out := bufio.NewReaderSize(files, 64<<10), bufio.NewWriterSize(socket, 64<<10)
	start := time.Now()
	clock := func() time.Duration { return time.Since(start) }
	layers := render.NewLayerCache(layerRoom)
	for {
		var o message
		data, err := receive(in, &o, math.MaxInt64)
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return err
		}
		fds := files.take()
		sources, changed, err := o.sources(data, fds)
		for _, fd := range fds {
			unix.Close(fd)
		}
		if err != nil {
			return err
		}
		a := answer{Changed: changed}
		if !changed {
			digests := o.digests(sources)
			o.Job.Clock, o.Job.Layers = clock, layers
			a.do(&o, sources)
			a.Digests = <-digests
		}
		if err := reply(out, a); err != nil {
			return err
		}
		if err := out.Flush(); err != nil {
			return err
		}
	}
}

// do does what the order says.
func (a *answer) do(o *message, sources [][]byte) {
	var err error
	switch o.Kind {
	case toHeader:
		a.Header, err = render.Header(sources[0])
	case toStrip:
		ok := false
		if a.Splices, ok = metadata.StripSplices(sources[0]); !ok || len(a.Splices) > mostSplices {
			a.Splices = nil
			err = policy.No(policy.Refusal{Reason: policy.ReasonSourceBroken, Detail: "what the source says of its making can't be taken out of it", Remedy: "put a whole copy of the picture in its place, or set the lane's metadata to keep"})
		}
	default:
		o.Job.Pictures = map[string][]byte{}
		for i, in := range o.Inputs[1:] {
			o.Job.Pictures[in.Name] = sources[i+1]
		}
		a.Result, err = render.Variant(sources[0], o.Job)
	}
	var no *policy.Refusal
	if err != nil && !errors.As(err, &no) {
		no = policy.No(policy.Refusal{Reason: policy.ReasonInternal, Detail: err.Error(), Remedy: "tell whoever runs the service"})
	}
	a.Refusal = no
}

// mostSplices is how many runs a stripped source may be put together of.
const mostSplices = 20_000

const (
	nobody = 65534

	// layerRoom is how many bytes of decoded layers a worker keeps.
	layerRoom = 16 << 20
)

// confine takes away memory beyond the ceiling, files, privileges and, by a filter on system calls, all ways
// to open, connect, run or change anything.
func confine() error {
	memory, err := strconv.ParseInt(os.Getenv(memoryEnv), 10, 64)
	if err != nil {
		return fmt.Errorf("read %s: %w", memoryEnv, err)
	}
	debug.SetMemoryLimit(memory * 3 / 4)
	used, err := addressSpace()
	if err != nil {
		return err
	}
	for _, l := range []struct {
		what  int
		limit uint64
	}{
		{unix.RLIMIT_AS, used + uint64(memory)}, {unix.RLIMIT_CORE, 0}, {unix.RLIMIT_FSIZE, 0}, {unix.RLIMIT_NOFILE, 16 + 2*maxInputs},
	} {
		var have unix.Rlimit
		if err := unix.Getrlimit(l.what, &have); err != nil {
			return fmt.Errorf("read limit %d: %w", l.what, err)
		}
		n := min(l.limit, have.Max) // who started the service may have set a lower one
		if err := unix.Setrlimit(l.what, &unix.Rlimit{Cur: n, Max: n}); err != nil {
			return fmt.Errorf("set limit %d: %w", l.what, err)
		}
	}
	// What is kept is answered before something new is made.
	if err := backseat.Take(); err != nil {
		return err
	}
	if os.Geteuid() == 0 {
		if err := syscall.Setgroups(nil); err != nil {
			return fmt.Errorf("leave all groups: %w", err)
		}
		if err := syscall.Setgid(nobody); err != nil {
			return fmt.Errorf("become nobody: %w", err)
		}
		if err := syscall.Setuid(nobody); err != nil {
			return fmt.Errorf("become nobody: %w", err)
		}
	}
	return filter()
}

func addressSpace() (uint64, error) {
	text, err := os.ReadFile("/proc/self/statm")
	if err != nil {
		return 0, err
	}
	var pages uint64
	if _, err := fmt.Sscan(string(text), &pages); err != nil {
		return 0, err
	}
	return pages * uint64(os.Getpagesize()), nil
}

// filter makes the kernel refuse the calls in forbidden, on all threads, for good.
func filter() error {
	const (
		offsetNumber = 0
		offsetArch   = 4
		allow        = 0x7fff0000
		refuse       = 0x00050000 | uint32(unix.EPERM)
		kill         = 0x80000000
	)
	program := []bpf.Instruction{
		bpf.LoadAbsolute{Off: offsetArch, Size: 4},
		bpf.JumpIf{Cond: bpf.JumpEqual, Val: auditArch, SkipTrue: 1},
		bpf.RetConstant{Val: kill},
		bpf.LoadAbsolute{Off: offsetNumber, Size: 4},
	}
	if x32 != 0 {
		program = append(program, bpf.JumpIf{Cond: bpf.JumpLessThan, Val: x32, SkipTrue: 1}, bpf.RetConstant{Val: kill})
	}
	for _, n := range append(forbiddenHere, forbidden...) {
		program = append(program, bpf.JumpIf{Cond: bpf.JumpNotEqual, Val: uint32(n), SkipTrue: 1}, bpf.RetConstant{Val: refuse})
	}
	program = append(program, bpf.RetConstant{Val: allow})
	raw, err := bpf.Assemble(program)
	if err != nil {
		return fmt.Errorf("assemble the filter: %w", err)
	}
	code := make([]unix.SockFilter, len(raw))
	for i, r := range raw {
		code[i] = unix.SockFilter{Code: r.Op, Jt: r.Jt, Jf: r.Jf, K: r.K}
	}
	p := unix.SockFprog{Len: uint16(len(code)), Filter: &code[0]}

	runtime.LockOSThread()
	defer runtime.UnlockOSThread()
	if err := unix.Prctl(unix.PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0); err != nil {
		return fmt.Errorf("refuse new privileges: %w", err)
	}
	const setModeFilter, allThreads = 1, 1
	if _, _, e := unix.Syscall(unix.SYS_SECCOMP, setModeFilter, allThreads, uintptr(unsafe.Pointer(&p))); e != 0 {
		return fmt.Errorf("set the filter: %w", e)
	}
	return nil
}

// forbidden are calls that every architecture has.
var forbidden = []int{
	unix.SYS_OPENAT, unix.SYS_OPENAT2, unix.SYS_OPEN_BY_HANDLE_AT, unix.SYS_MEMFD_CREATE,
	unix.SYS_SOCKET, unix.SYS_SOCKETPAIR, unix.SYS_CONNECT, unix.SYS_BIND, unix.SYS_LISTEN, unix.SYS_ACCEPT, unix.SYS_ACCEPT4, unix.SYS_SENDMSG, unix.SYS_SENDTO,
	unix.SYS_EXECVE, unix.SYS_EXECVEAT, unix.SYS_KILL, unix.SYS_PTRACE, unix.SYS_PROCESS_VM_READV, unix.SYS_PROCESS_VM_WRITEV,
	unix.SYS_PIDFD_OPEN, unix.SYS_PIDFD_GETFD, unix.SYS_PIDFD_SEND_SIGNAL,
	unix.SYS_UNLINKAT, unix.SYS_RENAMEAT, unix.SYS_RENAMEAT2, unix.SYS_MKDIRAT, unix.SYS_SYMLINKAT, unix.SYS_LINKAT, unix.SYS_FCHMODAT, unix.SYS_FCHOWNAT,
	unix.SYS_TRUNCATE, unix.SYS_MKNODAT, unix.SYS_MOUNT, unix.SYS_UMOUNT2, unix.SYS_CHROOT, unix.SYS_PIVOT_ROOT, unix.SYS_SETNS, unix.SYS_UNSHARE,
	unix.SYS_BPF, unix.SYS_PERF_EVENT_OPEN, unix.SYS_KEYCTL, unix.SYS_ADD_KEY, unix.SYS_REQUEST_KEY, unix.SYS_USERFAULTFD,
	unix.SYS_IO_URING_SETUP, unix.SYS_INIT_MODULE, unix.SYS_FINIT_MODULE, unix.SYS_KEXEC_LOAD, unix.SYS_REBOOT,
	unix.SYS_SETUID, unix.SYS_SETGID, unix.SYS_SETREUID, unix.SYS_SETRESUID,
}
