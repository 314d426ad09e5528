package confine

// #include "before.h"
import "C"

import (
	"errors"
	"fmt"
	"os"
	"runtime"
	"runtime/debug"
	"strconv"
	"strings"
	"syscall"
	"time"

	"golang.org/x/sys/unix"
)

// Finish is called by a worker that has opened and started all that it needs: it bounds its memory, sets the filter on system
// calls for all threads and for good, and says what is in force. An error means that the worker isn't to be used.
func Finish() ([]Measure, error) { return finish(filter) }

func finish(filter func() error) ([]Measure, error) {
	if C.confinement.here == 0 || len(os.Args) < 5 {
		return nil, errors.New("this process wasn't started as a render worker")
	}
	runtime.GOMAXPROCS(1)
	memory, err := strconv.ParseInt(os.Args[4], 10, 64)
	if err != nil {
		return nil, fmt.Errorf("read the bound on memory: %w", err)
	}
	debug.SetMemoryLimit(memory * 3 / 4)
	limits := boundMemory(memory)
	if c := C.confinement.limits; c != 0 && limits == nil {
		limits = syscall.Errno(c)
	}
	time.Sleep(time.Nanosecond) // Go opens what it waits for timers with at the first one
	if e := C.report_forbidden(); e != 0 {
		return nil, fmt.Errorf("watch for system calls: %w", syscall.Errno(e))
	}
	calls := filter()
	if calls != nil && !errors.Is(calls, unix.ENOSYS) && !errors.Is(calls, unix.EINVAL) {
		return nil, calls
	}
	flags, _ := strconv.Atoi(os.Args[2])
	become, _ := strconv.Atoi(os.Args[3])
	namespaces := error(syscall.EPERM)
	if flags&flagNamespaces != 0 {
		namespaces = nil
	}
	user := errno(C.confinement.user)
	if user == nil && (become == 0 || flags&flagNamespaces != 0) {
		user = namespaces // the service knows whose it is
	}
	landlock := C.confinement.landlock
	return []Measure{
		measure(Namespaces, namespaces), measure(EmptyRoot, errno(C.confinement.root)), measure(OwnUser, user),
		measure(Privileges, errno(C.confinement.privileges)), measure(Landlock, errno(-min(landlock, 0))), measure(Limits, limits), measure(SystemCalls, calls),
	}, nil
}

func errno(n C.int) error {
	if n == 0 {
		return nil
	}
	return syscall.Errno(n)
}

func measure(name string, err error) Measure {
	m := Measure{Name: name, InForce: err == nil}
	if err != nil {
		m.Why = err.Error()
	}
	return m
}

// boundMemory bounds the address space to so many bytes beyond what Go and the libraries have taken by now.
func boundMemory(memory int64) error {
	file := os.NewFile(C.STATM_FD, "statm")
	defer file.Close()
	text := make([]byte, 100)
	n, err := file.Read(text)
	if err != nil {
		return fmt.Errorf("read the size of the address space: %w", err)
	}
	var pages uint64
	if _, err := fmt.Sscan(string(text[:n]), &pages); err != nil {
		return fmt.Errorf("read the size of the address space: %w", err)
	}
	var have unix.Rlimit
	if err := unix.Getrlimit(unix.RLIMIT_AS, &have); err != nil {
		return err
	}
	bound := min(have.Max, pages*uint64(os.Getpagesize())+uint64(memory))
	return unix.Setrlimit(unix.RLIMIT_AS, &unix.Rlimit{Cur: bound, Max: bound})
}

// Measures is what confines workers that were started by p, of what one of them says. What only the service knows is put right.
func (p Plan) Measures(said []Measure) []Measure {
	all := make([]Measure, len(said))
	for i, m := range said {
		switch {
		case m.Name == Namespaces && !m.InForce:
			m.Why = p.why
		case m.Name == EmptyRoot && !p.users && !p.mounts:
			m.Why = "it takes a mount namespace"
		case m.Name == OwnUser && !p.root:
			m.InForce, m.Why = false, "the service isn't root, and so can't give another user id than its own"
		}
		all[i] = m
	}
	return all
}

// ForbiddenCall finds in a worker's last words the number of the system call that ended it.
func ForbiddenCall(words string) (number int, ok bool) {
	_, after, found := strings.Cut(words, C.FORBIDDEN_CALL)
	if !found {
		return 0, false
	}
	line, _, _ := strings.Cut(after, "\n")
	number, err := strconv.Atoi(strings.TrimSpace(line))
	return number, err == nil && number >= 0 && number < 1024
}
