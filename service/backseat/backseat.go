// Package backseat has a process stand back behind others where processors are short: it gets less of them, and gives them
// up at once to who is woken to answer what lies ready.
package backseat

import (
	"fmt"
	"os"
	"strconv"
	"time"

	"golang.org/x/sys/unix"
)

const (
	// niceness still leaves it a tenth where others take all that they can get.
	niceness = 10
	// slice is how long it asks to run at a time. Who asks for less, as all others do, takes its place as soon as it is woken;
	// so does Linux from 6.12 on. Before, some milliseconds may pass.
	slice = 20 * time.Millisecond
)

// Take has every thread of this process, and so those that they start, stand back. On Linux a priority belongs to a thread,
// and Go has started some before any of its code runs.
func Take() error {
	tasks, err := os.ReadDir("/proc/self/task")
	if err != nil {
		return fmt.Errorf("stand back behind the service: %w", err)
	}
	for _, t := range tasks {
		if id, err := strconv.Atoi(t.Name()); err == nil {
			if err := Give(id); err != nil {
				return err
			}
		}
	}
	return nil
}

// Give has one thread stand back, such as the only one of a process that was just started: those that it starts do too.
func Give(thread int) error {
	err := unix.SchedSetAttr(thread, &unix.SchedAttr{Size: unix.SizeofSchedAttr, Nice: niceness, Runtime: uint64(slice)}, 0)
	if err != nil && err != unix.ESRCH { // an old kernel, or a filter that lets priorities alone be set
		err = unix.Setpriority(unix.PRIO_PROCESS, thread, niceness)
	}
	if err != nil && err != unix.ESRCH {
		return fmt.Errorf("have thread %d stand back behind the service: %w", thread, err)
	}
	return nil
}
