package testbed

import (
	"crypto/sha256"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
)

// workerName is the file name of the workers' program.
const workerName = "echolane-worker"

// build builds the service's program, and its workers' that it knows by its sum, as the Makefile does.
func build(service, worker string) error {
	if err := buildWorker(worker); err != nil {
		return err
	}
	data, err := os.ReadFile(worker)
	if err != nil {
		return err
	}
	return goBuild(service, "echolane/cmd/echolane", "-buildvcs=auto", fmt.Sprintf("-s -w -X echolane/service/workshop.workerSum=%x", sha256.Sum256(data)))
}

func buildWorker(file string) error {
	return goBuild(file, "echolane/cmd/echolane-worker", "-buildvcs=false", "-s -w")
}

// goBuild builds a program. It begins with the one that make has built, where there is one: if that is of today's code, as it is in
// make test, nothing is left to be done.
func goBuild(file, of, vcs, ldflags string) error {
	if root, err := exec.Command("go", "list", "-m", "-f", "{{.Dir}}").Output(); err == nil {
		if data, err := os.ReadFile(filepath.Join(strings.TrimSpace(string(root)), "bin", filepath.Base(of))); err == nil {
			os.WriteFile(file, data, 0o755)
		}
	}
	if out, err := exec.Command("go", "build", vcs, "-ldflags", ldflags, "-o", file, of).CombinedOutput(); err != nil {
		return fmt.Errorf("build %s: %w\n%s", of, err, out)
	}
	return nil
}

// RenderWorker builds a render worker, in a folder that remove takes away. A test binary could be its own, but under the
// race detector it would decode and encode ten times as slowly.
func RenderWorker() (program string, remove func(), err error) {
	dir, err := os.MkdirTemp("", "echolane-worker-")
	if err != nil {
		return "", nil, err
	}
	file := filepath.Join(dir, workerName)
	err = buildWorker(file)
	if err == nil {
		err = os.Chmod(dir, 0o755)
	}
	if err != nil {
		os.RemoveAll(dir)
		return "", nil, err
	}
	return file, func() { os.RemoveAll(dir) }, nil
}

// WorkersOf are the processes of a service's render workers.
func WorkersOf(service int) (pids []int) {
	all, _ := filepath.Glob("/proc/[0-9]*/stat")
	for _, file := range all {
		var pid, parent int
		var name, state string
		text, err := os.ReadFile(file)
		if err != nil {
			continue
		}
		fmt.Sscan(string(text), &pid, &name, &state, &parent)
		line, _ := os.ReadFile(filepath.Join(filepath.Dir(file), "cmdline"))
		if parent == service && strings.Contains(string(line), "\x00render-worker\x00") && !strings.Contains(string(line), "\x00fork-server\x00") {
			pids = append(pids, pid)
		}
	}
	return pids
}

// PrivateMemory is how many bytes of memory a process has that no other shares; 0: nobody may look.
func PrivateMemory(pid int) (n int64) {
	text, _ := os.ReadFile(fmt.Sprintf("/proc/%d/smaps_rollup", pid))
	for line := range strings.Lines(string(text)) {
		name, value, _ := strings.Cut(line, ":")
		if name == "Private_Clean" || name == "Private_Dirty" {
			var kB int64
			fmt.Sscan(value, &kB)
			n += kB << 10
		}
	}
	return n
}
