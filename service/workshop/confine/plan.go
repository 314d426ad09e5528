// Package confine takes from a render worker all that it doesn't need: files, network, other processes, privileges, and every
// system call that decoding and encoding do without.
//
// It works in three places. The service starts the worker in namespaces of its own (Plan). Before Go's runtime starts in the
// worker, while that has one thread, C code empties its root, closes what it inherited, sets Landlock and limits (before.c).
// Once the worker is ready it bounds its memory and sets the filter on system calls (Finish). What a machine doesn't offer is
// left out, and said.
package confine

// #include "before.h"
import "C"

import (
	"os"
	"os/exec"
	"strconv"
	"syscall"
)

// Worker is the first argument of a process that is a render worker. The others come from a Plan.
const Worker = C.WORKER_COMMAND

const (
	// SocketFD is the worker's end of the socket to the service.
	SocketFD = 3

	flagNamespaces = C.FLAG_NAMESPACES
)

// A Measure is one of the things that confine a worker.
type Measure struct {
	Name    string `json:"name"` // Namespaces, EmptyRoot and so on
	InForce bool   `json:"in_force"`
	Why     string `json:"why,omitempty"` // why it isn't
}

// The measures, in the order in which they are told.
const (
	Namespaces  = "namespaces"   // user, mount, network and process namespaces of its own, and those of IPC and the host's name where they may be had
	EmptyRoot   = "empty-root"   // no file has a name
	OwnUser     = "own-user"     // a user id that no other process has; only a service that is root can give one
	Privileges  = "privileges"   // no capabilities, and no way to any
	Landlock    = "landlock"     // no file, port, abstract socket or signal outside, by Landlock too
	Limits      = "limits"       // on memory, CPU seconds, threads, descriptors and file size
	SystemCalls = "system-calls" // those that rendering needs, and no others
)

// A Plan is how a worker is started: how much of the machine it is parted from.
type Plan struct {
	users  bool // it has a user namespace, and so all others
	mounts bool // it has the others without one, which only root may have
	root   bool // the service is root
	spare  bool // it also has namespaces of what the filter on system calls keeps from it anyway: System V IPC, the host's name
	why    string
}

// Plans are the ways to start a worker, the best first. What a machine lets one service do, it may refuse another.
func Plans() []Plan {
	root := os.Geteuid() == 0
	plans := []Plan{{users: true, root: root, spare: true}, {users: true, root: root}}
	if root {
		plans = append(plans, Plan{mounts: true, root: root, spare: true}, Plan{mounts: true, root: root})
	}
	return append(plans, Plan{root: root})
}

// Because is the plan with the reason why a better one failed.
func (p Plan) Because(err error) Plan {
	p.why = err.Error()
	return p
}

const (
	firstUser = 1_411_000_000 // user ids from here on belong to nobody
	userIDs   = 1 << 16
)

// Command starts a worker. n tells it from others that run at the same time; memory is how many bytes of address space it may
// take beyond its start; socket is its end of the socket, program its executable file, opened. It must be started by a thread
// that outlives the worker: the worker ends with that thread.
func (p Plan) Command(n uint64, memory int64, socket, program *os.File) *exec.Cmd {
	a := &syscall.SysProcAttr{Setpgid: true, Pdeathsig: syscall.SIGKILL}
	var parts uintptr = syscall.CLONE_NEWNS | syscall.CLONE_NEWNET | syscall.CLONE_NEWPID
	if p.spare {
		parts |= syscall.CLONE_NEWIPC | syscall.CLONE_NEWUTS
	}
	uid, become, flags := firstUser+int(n%userIDs), 0, 0
	switch {
	case p.users:
		a.Cloneflags, flags = parts|syscall.CLONE_NEWUSER, flagNamespaces
		a.UidMappings = []syscall.SysProcIDMap{{HostID: os.Geteuid(), Size: 1}}
		a.GidMappings = []syscall.SysProcIDMap{{HostID: os.Getegid(), Size: 1}}
		if p.root {
			a.UidMappings[0].HostID, a.GidMappings[0].HostID = uid, uid
			a.GidMappingsEnableSetgroups, a.Credential = true, &syscall.Credential{}
		}
	case p.mounts:
		a.Cloneflags, flags, become = parts, flagNamespaces, uid
	case p.root:
		become = uid
	}
	return &exec.Cmd{
		// By descriptor: a user of its own may not be let into the folder where the program lies, and this is the program that
		// runs, whatever lies there by now.
		Path:       "/proc/self/fd/" + strconv.Itoa(SocketFD+1),
		Args:       []string{"echolane", Worker, strconv.Itoa(flags), strconv.Itoa(become), strconv.FormatInt(memory, 10)},
		Env:        []string{}, // none
		Dir:        "/",
		ExtraFiles: []*os.File{socket, program},

		SysProcAttr: a,
	}
}
