// Package confine takes from a render worker all that it doesn't need: files, network, other processes, privileges, and every
// system call that decoding and encoding do without.
//
// It works in three places. The service starts the worker in namespaces of its own (Plan), by a process that has loaded the
// program already and forks (ForkServer), or where that doesn't work by loading it anew. Before Go's runtime starts in the
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

// parting is how a worker is parted from the rest of the machine.
type parting struct {
	clone       uintptr // CLONE_NEW…
	flags       int
	become      int  // the user id that it takes itself; 0: none
	user, group int  // who user 0 and group 0 of its user namespace are outside
	groups      bool // it drops the groups that it came with, and is user 0 there
}

// parting is that of the n-th worker.
func (p Plan) parting(n uint64) parting {
	var parts uintptr = syscall.CLONE_NEWNS | syscall.CLONE_NEWNET | syscall.CLONE_NEWPID
	if p.spare {
		parts |= syscall.CLONE_NEWIPC | syscall.CLONE_NEWUTS
	}
	uid := firstUser + int(n%userIDs)
	switch {
	case p.users:
		a := parting{clone: parts | syscall.CLONE_NEWUSER, flags: flagNamespaces, user: os.Geteuid(), group: os.Getegid()}
		if p.root {
			a.user, a.group, a.groups = uid, uid, true
		}
		return a
	case p.mounts:
		return parting{clone: parts, flags: flagNamespaces, become: uid}
	case p.root:
		return parting{become: uid}
	}
	return parting{}
}

// Command starts a worker. n tells it from others that run at the same time; memory is how many bytes of address space it may
// take beyond its start; socket is its end of the socket, program its executable file, opened. It must be started by a thread
// that outlives the worker: the worker ends with that thread.
func (p Plan) Command(n uint64, memory int64, socket, program *os.File) *exec.Cmd {
	part := p.parting(n)
	cmd := command(socket, program, strconv.Itoa(part.flags), strconv.Itoa(part.become), strconv.FormatInt(memory, 10))
	if a := cmd.SysProcAttr; p.users {
		a.UidMappings = []syscall.SysProcIDMap{{HostID: part.user, Size: 1}}
		a.GidMappings = []syscall.SysProcIDMap{{HostID: part.group, Size: 1}}
		if part.groups {
			a.GidMappingsEnableSetgroups, a.Credential = true, &syscall.Credential{}
		}
	}
	cmd.SysProcAttr.Cloneflags = part.clone
	return cmd
}

// command runs the program with these arguments, with the socket and without anything else of the service's.
func command(socket, program *os.File, args ...string) *exec.Cmd {
	return &exec.Cmd{
		// By descriptor: a user of its own may not be let into the folder where the program lies, and this is the program that
		// runs, whatever lies there by now.
		Path:       "/proc/self/fd/" + strconv.Itoa(SocketFD+1),
		Args:       append([]string{"echolane", Worker}, args...),
		Env:        []string{}, // none
		Dir:        "/",
		ExtraFiles: []*os.File{socket, program},

		SysProcAttr: &syscall.SysProcAttr{Setpgid: true, Pdeathsig: syscall.SIGKILL},
	}
}
