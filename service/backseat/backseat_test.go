package backseat

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"testing"
	"time"
	"unsafe"

	"golang.org/x/net/bpf"
	"golang.org/x/sys/unix"
)

func TestMain(m *testing.M) {
	if len(os.Args) > 1 && os.Args[1] == "stand-back" {
		if len(os.Args) > 2 {
			if err := forbid(unix.SYS_SCHED_SETATTR); err != nil {
				fmt.Println(err)
				os.Exit(1)
			}
		}
		if err := Take(); err != nil {
			fmt.Println(err)
			os.Exit(1)
		}
		for range 4 { // more threads
			go func() {
				for end := time.Now().Add(50 * time.Millisecond); time.Now().Before(end); {
				}
			}()
		}
		time.Sleep(60 * time.Millisecond)
		tasks, _ := filepath.Glob("/proc/self/task/*/stat")
		for _, path := range tasks {
			text, err := os.ReadFile(path)
			if err != nil {
				continue
			}
			_, rest, _ := strings.Cut(string(text), ") ")
			fmt.Print(strings.Fields(rest)[16], " ") // proc(5): the 19th field
		}
		os.Exit(0)
	}
	os.Exit(m.Run())
}

// forbid has every thread of this process be answered EPERM to a system call, as a filter of systemd's does.
func forbid(call uint32) error {
	program, err := bpf.Assemble([]bpf.Instruction{
		bpf.LoadAbsolute{Size: 4}, bpf.JumpIf{Cond: bpf.JumpNotEqual, Val: call, SkipTrue: 1},
		bpf.RetConstant{Val: unix.SECCOMP_RET_ERRNO | uint32(unix.EPERM)}, bpf.RetConstant{Val: unix.SECCOMP_RET_ALLOW},
	})
	if err != nil {
		return err
	}
	var code []unix.SockFilter
	for _, r := range program {
		code = append(code, unix.SockFilter{Code: r.Op, Jt: r.Jt, Jf: r.Jf, K: r.K})
	}
	runtime.LockOSThread()
	defer runtime.UnlockOSThread()
	if err := unix.Prctl(unix.PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0); err != nil {
		return err
	}
	filter := unix.SockFprog{Len: uint16(len(code)), Filter: &code[0]}
	if _, _, e := unix.Syscall(unix.SYS_SECCOMP, unix.SECCOMP_SET_MODE_FILTER, unix.SECCOMP_FILTER_FLAG_TSYNC, uintptr(unsafe.Pointer(&filter))); e != 0 {
		return e
	}
	return nil
}

func TestEveryThreadStandsBack(t *testing.T) {
	for _, how := range [][]string{{"stand-back"}, {"stand-back", "where a slice can't be asked for"}} {
		out, err := exec.Command(os.Args[0], how...).CombinedOutput()
		if err != nil || len(out) == 0 {
			t.Errorf("%v: %v: %s", how, err, out)
			continue
		}
		for _, n := range strings.Fields(string(out)) {
			if n != fmt.Sprint(niceness) {
				t.Errorf("%v: threads have %s", how, out)
				break
			}
		}
	}
}
