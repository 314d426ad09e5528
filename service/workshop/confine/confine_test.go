package confine

import (
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"unsafe"

	"golang.org/x/sys/unix"
)

// The test binary, started as a worker, tries one way out.
func TestMain(m *testing.M) {
	if len(os.Args) > 1 && os.Args[1] == Worker {
		try()
	}
	os.Exit(m.Run())
}

const gotThrough = "GOT THROUGH"

const drawn = 255 // is sent to have the worker draw a number

const (
	memory     = 1 << 30
	unfiltered = memory + 1 // a bound by which the test says that there's to be no filter of system calls
)

// try confines itself like a worker, says by which measures, and tries the way out whose number comes over its socket.
func try() {
	set := filter
	if n, _ := strconv.Atoi(os.Args[4]); n == unfiltered {
		set = func() error { return nil }
	}
	measures, err := finish(set)
	if err != nil {
		fmt.Fprintln(os.Stderr, "confine:", err)
		os.Exit(1)
	}
	text, _ := json.Marshal(measures)
	fmt.Fprintln(os.Stderr, string(text))
	var b [1]byte
	if _, err := unix.Read(SocketFD, b[:]); err != nil {
		fmt.Fprintln(os.Stderr, "read:", err)
		os.Exit(1)
	}
	if b[0] == drawn {
		fmt.Fprintln(os.Stderr, rand.Uint64())
		os.Exit(0)
	}
	way := ways[b[0]]
	if err := way.try(); err != nil {
		fmt.Fprintln(os.Stderr, "refused:", err)
	} else {
		fmt.Fprintln(os.Stderr, gotThrough)
	}
	os.Exit(0)
}

// A way is something that a worker must not be able to do: try errs, or ends the process.
type way struct {
	name string
	try  func() error
}

// does makes a system call.
func does(number uintptr, arguments ...uintptr) func() error {
	return func() error {
		var a [6]uintptr
		copy(a[:], arguments)
		if _, _, e := unix.Syscall6(number, a[0], a[1], a[2], a[3], a[4], a[5]); e != 0 {
			return e
		}
		return nil
	}
}

func text(s string) uintptr {
	b := append([]byte(s), 0)
	kept = append(kept, b)
	return uintptr(unsafe.Pointer(&b[0]))
}

var (
	kept    [][]byte
	room    = make([]byte, 4096)
	zeros   = uintptr(unsafe.Pointer(&room[0]))
	here    = ^uintptr(99) // AT_FDCWD
	self    = uintptr(os.Getpid())
	parent  = uintptr(os.Getppid())
	refused = fmt.Errorf("nothing of it")
)

// ways are what is tried.
var ways = []way{
	{"read a file", func() error { _, err := os.ReadFile("/etc/passwd"); return err }},
	{"read the program", func() error { _, err := os.ReadFile("/proc/self/exe"); return err }},
	{"write a file", func() error { return os.WriteFile("/tmp/escaped", nil, 0o600) }},
	{"list the root", func() error { _, err := os.ReadDir("/"); return err }},
	{"open by openat2", does(unix.SYS_OPENAT2, here, text("/"), zeros, 24)},
	{"open by handle", does(unix.SYS_OPEN_BY_HANDLE_AT, here, zeros, 0)},
	{"open a tree", does(unix.SYS_OPEN_TREE, here, text("/"), 0)},
	{"see whether a file exists", func() error { _, err := os.Stat("/etc/passwd"); return err }},
	{"see whether a file may be read", does(unix.SYS_FACCESSAT, here, text("/"), 0)},
	{"look at the root", does(unix.SYS_STATX, here, text("/"), 0, 0, zeros)},
	{"read a link", func() error { _, err := os.Readlink("/proc/self/exe"); return err }},
	{"know where it is", does(unix.SYS_GETCWD, zeros, 4096)},
	{"go elsewhere", func() error { return os.Chdir("/") }},
	{"change the root", func() error { return syscall.Chroot("/") }},
	{"make a folder", func() error { return os.Mkdir("/tmp/escaped", 0o700) }},
	{"remove a file", does(unix.SYS_UNLINKAT, here, text("/tmp/x"), 0)},
	{"rename a file", does(unix.SYS_RENAMEAT2, here, text("/tmp/x"), here, text("/tmp/y"), 0)},
	{"link a file", does(unix.SYS_LINKAT, here, text("/tmp/x"), here, text("/tmp/y"), 0)},
	{"make a symbolic link", does(unix.SYS_SYMLINKAT, text("/"), here, text("/tmp/y"))},
	{"make a device", does(unix.SYS_MKNODAT, here, text("/tmp/y"), unix.S_IFCHR|0o600, 0x103)},
	{"change a file's mode", does(unix.SYS_FCHMODAT, here, text("/"), 0o777, 0)},
	{"change the mode of what it has", does(unix.SYS_FCHMOD, 2, 0o777)},
	{"give a file away", does(unix.SYS_FCHOWNAT, here, text("/"), 0, 0, 0)},
	{"mount", does(unix.SYS_MOUNT, text("none"), text("/"), text("tmpfs"), 0, 0)},
	{"unmount", does(unix.SYS_UMOUNT2, text("/"), unix.MNT_DETACH)},
	{"watch files", does(unix.SYS_INOTIFY_INIT1, 0)},
	{"make a file in memory", does(unix.SYS_MEMFD_CREATE, text("x"), 0)},
	{"an internet socket", does(unix.SYS_SOCKET, unix.AF_INET, unix.SOCK_STREAM, 0)},
	{"a local socket", does(unix.SYS_SOCKET, unix.AF_UNIX, unix.SOCK_STREAM, 0)},
	{"a kernel socket", does(unix.SYS_SOCKET, unix.AF_NETLINK, unix.SOCK_RAW, 0)},
	{"a pair of sockets", does(unix.SYS_SOCKETPAIR, unix.AF_UNIX, unix.SOCK_STREAM, 0, zeros)},
	{"connect its own socket elsewhere", does(unix.SYS_CONNECT, SocketFD, zeros, 16)},
	{"connect to this machine", func() error {
		fd, err := unix.Socket(unix.AF_INET, unix.SOCK_STREAM, 0)
		if err != nil {
			return err
		}
		if err = unix.Connect(fd, &unix.SockaddrInet4{Port: 1, Addr: [4]byte{127, 0, 0, 1}}); err == unix.ECONNREFUSED {
			return nil // it was reached
		}
		return err
	}},
	{"listen on its own socket", does(unix.SYS_LISTEN, SocketFD, 1)},
	{"send a descriptor", does(unix.SYS_SENDMSG, SocketFD, zeros, 0)},
	{"send to an address", does(unix.SYS_SENDTO, SocketFD, zeros, 1, 0, 0, 0)},
	{"a pipe", does(unix.SYS_PIPE2, zeros, 0)},
	{"signal its parent", func() error { return syscall.Kill(int(parent), 0) }},
	{"signal everyone", func() error { return syscall.Kill(-1, 0) }},
	{"signal a thread of another", does(unix.SYS_TGKILL, self+1, self+1, 0)},
	{"signal any thread", does(unix.SYS_TKILL, self, 0)},
	{"queue a signal", does(unix.SYS_RT_SIGQUEUEINFO, self, 10, zeros)},
	{"a handle of a process", does(unix.SYS_PIDFD_OPEN, self, 0)},
	{"start a process", does(unix.SYS_CLONE, uintptr(unix.SIGCHLD))},
	{"start a process in new namespaces", does(unix.SYS_CLONE, uintptr(unix.SIGCHLD)|unix.CLONE_NEWUSER)},
	{"start a process by clone3", does(unix.SYS_CLONE3, zeros, 88)},
	{"run a program", func() error { return exec.Command("/bin/true").Run() }},
	{"run what it has", does(unix.SYS_EXECVEAT, 2, text(""), 0, 0, unix.AT_EMPTY_PATH)},
	{"new namespaces", does(unix.SYS_UNSHARE, unix.CLONE_NEWUSER)},
	{"another's namespaces", does(unix.SYS_SETNS, SocketFD, 0)},
	{"trace", does(unix.SYS_PTRACE, unix.PTRACE_ATTACH, parent, 0, 0)},
	{"be traced", does(unix.SYS_PTRACE, unix.PTRACE_TRACEME, 0, 0, 0)},
	{"read another's memory", does(unix.SYS_PROCESS_VM_READV, parent, zeros, 1, zeros, 1, 0)},
	{"write another's memory", does(unix.SYS_PROCESS_VM_WRITEV, parent, zeros, 1, zeros, 1, 0)},
	{"shared memory", does(unix.SYS_SHMGET, 0, 4096, 0o1600)},
	{"a queue of messages", does(unix.SYS_MSGGET, 0, 0o1600)},
	{"a semaphore", does(unix.SYS_SEMGET, 0, 1, 0o1600)},
	{"a named queue", does(unix.SYS_MQ_OPEN, text("x"), unix.O_CREAT, 0o600, 0)},
	{"faults in user space", does(unix.SYS_USERFAULTFD, 0)},
	{"io_uring", does(unix.SYS_IO_URING_SETUP, 1, zeros)},
	{"programs in the kernel", does(unix.SYS_BPF, 0, zeros, 72)},
	{"counters of the processor", does(unix.SYS_PERF_EVENT_OPEN, zeros, 0, ^uintptr(0), ^uintptr(0), 0)},
	{"keys", does(unix.SYS_KEYCTL, 0, 0, 0)},
	{"another personality", does(unix.SYS_PERSONALITY, 0x0400000)},
	{"another user", does(unix.SYS_SETUID, 0)},
	{"capabilities", does(unix.SYS_CAPSET, zeros, zeros)},
	{"be traceable", does(unix.SYS_PRCTL, unix.PR_SET_DUMPABLE, 1, 0, 0, 0)},
	{"outlive its parent", does(unix.SYS_PRCTL, unix.PR_SET_PDEATHSIG, 0, 0, 0, 0)},
	{"raise a limit", does(unix.SYS_PRLIMIT64, 0, unix.RLIMIT_NOFILE, 0, zeros)},
	{"the terminal", does(unix.SYS_IOCTL, 2, unix.TIOCSTI, zeros)},
	{"the kernel's messages", does(unix.SYS_SYSLOG, 3, zeros, 100)},
	{"the machine's name", does(unix.SYS_SETHOSTNAME, zeros, 1)},
	{"a landlock of its own", does(unix.SYS_LANDLOCK_CREATE_RULESET, 0, 0, 1)},
	{"another filter", does(unix.SYS_SECCOMP, 0, 0, 0)},
	{"memory to write and run", func() error {
		_, err := unix.Mmap(-1, 0, 4096, unix.PROT_READ|unix.PROT_WRITE|unix.PROT_EXEC, unix.MAP_ANON|unix.MAP_PRIVATE)
		return err
	}},
	{"run memory that was written", func() error {
		m, err := unix.Mmap(-1, 0, 4096, unix.PROT_READ|unix.PROT_WRITE, unix.MAP_ANON|unix.MAP_PRIVATE)
		if err != nil {
			return err
		}
		return unix.Mprotect(m, unix.PROT_READ|unix.PROT_EXEC)
	}},
	{"go on after a forbidden call by handling it", func() error {
		if _, _, e := unix.Syscall6(unix.SYS_RT_SIGACTION, uintptr(unix.SIGSYS), zeros, 0, 8, 0, 0); e != 0 {
			return e
		}
		return nil
	}},
	{"go on after a forbidden call by blocking its signal", func() error {
		all := ^uint64(0)
		runtime.LockOSThread()
		unix.Syscall6(unix.SYS_RT_SIGPROCMASK, 0, uintptr(unsafe.Pointer(&all)), 0, 8, 0, 0)
		unix.Syscall(unix.SYS_GETPPID, 0, 0, 0)
		return nil
	}},
	{"descriptors that it inherited", func() error {
		for fd := uintptr(6); fd < 2000; fd++ { // 4 and 5 are the poller's
			if _, _, e := unix.Syscall(unix.SYS_FCNTL, fd, unix.F_GETFD, 0); e == 0 {
				return nil
			}
		}
		return refused
	}},
	{"the environment of the service", func() error {
		if len(os.Environ()) > 0 {
			return nil
		}
		return refused
	}},
	{"more memory than its bound", func() error {
		if _, _, e := unix.Syscall6(unix.SYS_MMAP, 0, 2<<30, unix.PROT_NONE, unix.MAP_ANON|unix.MAP_PRIVATE, ^uintptr(0), 0); e != 0 {
			return e
		}
		return nil
	}},
	{"more threads than its bound", func() error {
		var held sync.WaitGroup
		held.Add(1)
		for range 300 { // Go ends the process when one doesn't start
			go func() {
				runtime.LockOSThread()
				held.Wait()
			}()
		}
		for range 1000 {
			runtime.Gosched()
			unix.Nanosleep(&unix.Timespec{Nsec: 100_000}, nil)
		}
		return nil
	}},
}

// start starts the test binary as a worker that tries the way i, and gives its last words. forks nil: by a Command.
func start(t *testing.T, p Plan, forks *ForkServer, memory int64, i int) string {
	t.Helper()
	pair, err := unix.Socketpair(unix.AF_UNIX, unix.SOCK_STREAM|unix.SOCK_CLOEXEC, 0)
	if err != nil {
		t.Fatal(err)
	}
	ours, theirs := os.NewFile(uintptr(pair[0]), "ours"), os.NewFile(uintptr(pair[1]), "theirs")
	defer ours.Close()
	hear, say, err := os.Pipe()
	if err != nil {
		t.Fatal(err)
	}
	defer hear.Close()
	runtime.LockOSThread() // it ends with the thread that starts it
	defer runtime.UnlockOSThread()
	var process *os.Process
	if forks != nil {
		process, err = forks.Fork(p, uint64(i), memory, theirs, say)
	} else {
		cmd := p.Command(uint64(i), memory, theirs, itself(t))
		cmd.Stderr = say
		err = cmd.Start()
		process = cmd.Process
	}
	theirs.Close()
	say.Close()
	if err != nil {
		t.Skipf("this machine doesn't let a worker be started so: %v", err)
	}
	ours.Write([]byte{byte(i)})
	said, err := io.ReadAll(hear)
	if err != nil {
		t.Error(err)
	}
	if _, err := process.Wait(); err != nil {
		t.Error(err)
	}
	return string(said)
}

// itself is the test binary, opened.
func itself(t *testing.T) *os.File {
	t.Helper()
	program, err := os.Open("/proc/self/exe")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { program.Close() })
	return program
}

// forkServer is one of the test binary, which the test ends. Its workers end with the thread that starts it.
func forkServer(t *testing.T) *ForkServer {
	t.Helper()
	runtime.LockOSThread()
	t.Cleanup(runtime.UnlockOSThread)
	f, err := StartForkServer(itself(t))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(f.End)
	return f
}

func TestNoWayOut(t *testing.T) {
	if len(ways) < 40 || len(ways) > drawn {
		t.Fatalf("%d ways", len(ways))
	}
	for n, p := range Plans() {
		name := []string{"best", "second", "third", "fourth", "fifth"}[n]
		tryAll := func(t *testing.T, forks *ForkServer) {
			for i, w := range ways {
				words := start(t, p, forks, memory, i)
				line, outcome, ok := strings.Cut(words, "\n")
				var measures []Measure
				if err := json.Unmarshal([]byte(line), &measures); err != nil || !ok {
					t.Fatalf("%s: %v: %s", w.name, err, words)
				}
				if strings.Contains(outcome, gotThrough) && !(w.name == "more threads than its bound" && n == len(Plans())-1 && os.Geteuid() != 0) {
					t.Errorf("%s: %s", w.name, outcome)
				}
				if i == 0 {
					for _, m := range p.Measures(measures) {
						if !m.InForce {
							t.Logf("not in force: %+v", m)
						}
						if !m.InForce && n <= 1 && !(m.Name == OwnUser && os.Geteuid() != 0) {
							t.Errorf("where all is to be had: %+v", m)
						}
					}
				}
			}
		}
		t.Run(name, func(t *testing.T) { tryAll(t, nil) })
		t.Run(name+" by the fork server", func(t *testing.T) { tryAll(t, forkServer(t)) })
	}
	if os.Geteuid() != 0 {
		return
	}
	// And as somebody else, who can't give others users and may not mount.
	dir := t.TempDir()
	for at := dir; at != "/"; at = filepath.Dir(at) {
		if info, err := os.Stat(at); err == nil && info.Mode().Perm()&0o011 != 0o011 {
			os.Chmod(at, 0o755)
		}
	}
	data, err := os.ReadFile("/proc/self/exe")
	if err != nil {
		t.Fatal(err)
	}
	program := filepath.Join(dir, "confine.test")
	if err := os.WriteFile(program, data, 0o755); err != nil {
		t.Fatal(err)
	}
	cmd := exec.Command(program, "-test.run", "^TestNoWayOut$", "-test.v")
	cmd.Dir = dir
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: 12345, Gid: 12345}}
	out, err := cmd.CombinedOutput()
	if err != nil || !strings.Contains(string(out), "--- PASS: TestNoWayOut/best ") || !strings.Contains(string(out), "--- PASS: TestNoWayOut/best_by_the_fork_server ") {
		t.Errorf("as another user: %v\n%s", err, out)
	}
}

// TestNoWayOutByFilesNamesAndSignals has no filter, so that what it rests on is seen to hold too.
func TestNoWayOutByFilesNamesAndSignals(t *testing.T) {
	only := map[string]bool{
		"read a file": true, "read the program": true, "write a file": true, "see whether a file exists": true, "read a link": true, "make a folder": true,
		"signal a thread of another": true, "run a program": true, "trace": true,
		"mount": true, "unmount": true, "make a device": true, "another's namespaces": true, "change the root": true, "descriptors that it inherited": true,
		"connect to this machine": true, "programs in the kernel": true, "the machine's name": true, "counters of the processor": true,
	}
	f := forkServer(t)
	for i, w := range ways {
		if !only[w.name] {
			continue
		}
		for _, forks := range []*ForkServer{nil, f} {
			if words := start(t, Plans()[0], forks, unfiltered, i); strings.Contains(words, gotThrough) {
				t.Errorf("%s: %s", w.name, words)
			}
		}
	}
}

func TestWorkersOfAForkServerDrawTheirOwnNumbers(t *testing.T) {
	forks, had := forkServer(t), map[string]bool{}
	for range 3 {
		words := start(t, Plans()[0], forks, memory, drawn)
		_, number, ok := strings.Cut(words, "\n")
		if !ok || had[number] {
			t.Errorf("%q after %v", words, had)
		}
		had[number] = true
	}
}

func TestAForbiddenCallIsTold(t *testing.T) {
	for i, w := range ways {
		if w.name != "another user" {
			continue
		}
		words := start(t, Plans()[0], nil, memory, i)
		if n, ok := ForbiddenCall(words); !ok || n != unix.SYS_SETUID {
			t.Errorf("%d %v: %s", n, ok, words)
		}
	}
	if n, ok := ForbiddenCall("forbidden system call 99999999\n"); ok {
		t.Error(n)
	}
}
