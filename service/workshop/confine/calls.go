package confine

import (
	"fmt"
	"runtime"
	"unsafe"

	"golang.org/x/net/bpf"
	"golang.org/x/sys/unix"
)

// A call is a system call that a worker may make. scripts/worker-calls finds which there are.
type call struct {
	number uint32
	when   []argument // any of these must hold of its arguments; none: always
	refuse unix.Errno // it is answered with this error instead
}

// argument is a bound on one of a call's arguments.
type argument struct {
	n      int
	mask   uint64 // the bits that are looked at
	values []uint64
}

const whole = ^uint64(0)

// threads are the flags of clone by which the C library, and Go without it, start a thread.
var threads = argument{0, whole, []uint64{
	unix.CLONE_VM | unix.CLONE_FS | unix.CLONE_FILES | unix.CLONE_SIGHAND | unix.CLONE_THREAD | unix.CLONE_SYSVSEM | unix.CLONE_SETTLS | unix.CLONE_PARENT_SETTID | unix.CLONE_CHILD_CLEARTID,
	unix.CLONE_VM | unix.CLONE_FS | unix.CLONE_FILES | unix.CLONE_SIGHAND | unix.CLONE_THREAD | unix.CLONE_SYSVSEM,
}}

// neverCode is memory that can't be run.
var neverCode = []argument{{2, unix.PROT_EXEC, []uint64{0}}}

// common are the calls of every processor.
func common() []call {
	self := []argument{{0, whole, []uint64{uint64(unix.Getpid())}}}
	var signals []uint64 // whose handling may change: all but that of a forbidden call
	for s := uint64(1); s <= 64; s++ {
		if s != uint64(unix.SIGSYS) {
			signals = append(signals, s)
		}
	}
	return []call{
		{number: unix.SYS_FUTEX}, {number: unix.SYS_MADVISE}, {number: unix.SYS_NANOSLEEP}, {number: unix.SYS_CLOCK_NANOSLEEP}, {number: unix.SYS_CLOCK_GETTIME},
		{number: unix.SYS_RECVMSG}, {number: unix.SYS_READ}, {number: unix.SYS_WRITE}, {number: unix.SYS_PREAD64}, {number: unix.SYS_CLOSE},
		{number: unix.SYS_MMAP, when: neverCode}, {number: unix.SYS_MPROTECT, when: neverCode}, {number: unix.SYS_MUNMAP}, {number: unix.SYS_MREMAP}, {number: unix.SYS_BRK},
		{number: unix.SYS_RT_SIGRETURN}, {number: unix.SYS_RT_SIGPROCMASK}, {number: unix.SYS_SIGALTSTACK},
		{number: unix.SYS_RT_SIGACTION, when: []argument{{0, whole, signals}}},
		{number: unix.SYS_TGKILL, when: self}, {number: unix.SYS_GETPID}, {number: unix.SYS_GETTID},
		{number: unix.SYS_CLONE, when: []argument{threads}}, {number: unix.SYS_CLONE3, refuse: unix.ENOSYS}, // whose flags no filter sees: the C library then takes clone
		{number: unix.SYS_SET_ROBUST_LIST}, {number: unix.SYS_RSEQ}, {number: unix.SYS_SCHED_YIELD}, {number: unix.SYS_SCHED_GETAFFINITY}, {number: unix.SYS_RESTART_SYSCALL},
		{number: unix.SYS_EPOLL_PWAIT}, {number: unix.SYS_EXIT}, {number: unix.SYS_EXIT_GROUP}, {number: unix.SYS_GETRANDOM}, {number: unix.SYS_SYSINFO},
		{number: unix.SYS_PRCTL, when: []argument{{0, whole, []uint64{unix.PR_SET_VMA}}}}, // names for memory
		{number: unix.SYS_OPENAT, refuse: unix.EACCES},                                    // libraries ask how many processors there are
		{number: unix.SYS_FCNTL, when: []argument{{1, whole, []uint64{unix.F_GETFL, unix.F_GETFD}}}},
	}
}

// filter makes the kernel end the process at any other call, on all threads, for good.
func filter() error {
	program, err := compile(append(common(), onlyHere...))
	if err != nil {
		return err
	}
	code := make([]unix.SockFilter, len(program))
	for i, r := range program {
		code[i] = unix.SockFilter{Code: r.Op, Jt: r.Jt, Jf: r.Jf, K: r.K}
	}
	p := unix.SockFprog{Len: uint16(len(code)), Filter: &code[0]}
	runtime.LockOSThread()
	defer runtime.UnlockOSThread()
	if err := unix.Prctl(unix.PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0); err != nil {
		return fmt.Errorf("refuse new privileges: %w", err)
	}
	if _, _, e := unix.Syscall(unix.SYS_SECCOMP, unix.SECCOMP_SET_MODE_FILTER, unix.SECCOMP_FILTER_FLAG_TSYNC, uintptr(unsafe.Pointer(&p))); e != 0 {
		return fmt.Errorf("set the filter on system calls: %w", e)
	}
	return nil
}

// compile writes the filter's program.
func compile(calls []call) ([]bpf.RawInstruction, error) {
	const (
		offsetNumber    = 0
		offsetArch      = 4
		offsetArguments = 16
	)
	forbidden := bpf.RetConstant{Val: unix.SECCOMP_RET_TRAP} // the process tells which, and ends
	program := []bpf.Instruction{
		bpf.LoadAbsolute{Off: offsetArch, Size: 4},
		bpf.JumpIf{Cond: bpf.JumpEqual, Val: auditArch, SkipTrue: 1},
		bpf.RetConstant{Val: unix.SECCOMP_RET_KILL_PROCESS},
		bpf.LoadAbsolute{Off: offsetNumber, Size: 4},
	}
	for _, c := range calls {
		var body []bpf.Instruction
		if c.refuse != 0 {
			body = append(body, bpf.RetConstant{Val: unix.SECCOMP_RET_ERRNO | uint32(c.refuse)})
		}
		for _, a := range c.when {
			at := uint32(offsetArguments + 8*a.n)
			for _, v := range a.values {
				body = append(body,
					bpf.LoadAbsolute{Off: at + 4, Size: 4}, bpf.ALUOpConstant{Op: bpf.ALUOpAnd, Val: uint32(a.mask >> 32)},
					bpf.JumpIf{Cond: bpf.JumpNotEqual, Val: uint32(v >> 32), SkipTrue: 4},
					bpf.LoadAbsolute{Off: at, Size: 4}, bpf.ALUOpConstant{Op: bpf.ALUOpAnd, Val: uint32(a.mask)},
					bpf.JumpIf{Cond: bpf.JumpNotEqual, Val: uint32(v), SkipTrue: 1},
					bpf.RetConstant{Val: unix.SECCOMP_RET_ALLOW})
			}
		}
		switch {
		case c.when != nil:
			body = append(body, forbidden)
		case c.refuse == 0:
			body = append(body, bpf.RetConstant{Val: unix.SECCOMP_RET_ALLOW})
		}
		if len(body) < 256 {
			program = append(program, bpf.JumpIf{Cond: bpf.JumpNotEqual, Val: c.number, SkipTrue: uint8(len(body))})
		} else { // further than a condition can jump
			program = append(program, bpf.JumpIf{Cond: bpf.JumpEqual, Val: c.number, SkipTrue: 1}, bpf.Jump{Skip: uint32(len(body))})
		}
		program = append(program, body...)
	}
	return bpf.Assemble(append(program, forbidden))
}
