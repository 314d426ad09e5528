package weighing

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"golang.org/x/sys/unix"
)

// The test binary is its own launcher.
func TestMain(m *testing.M) {
	if len(os.Args) > 2 && os.Args[1] == "page-browser" {
		fmt.Fprintln(os.Stderr, Launch(os.Args[2:]))
		os.Exit(1)
	}
	os.Exit(m.Run())
}

// groupOf is the process group of the one whose command line names a folder, "" where there is none.
func groupOf(t *testing.T, folder string) string {
	t.Helper()
	all, err := filepath.Glob("/proc/[0-9]*/cmdline")
	if err != nil {
		t.Fatal(err)
	}
	for _, path := range all {
		if text, err := os.ReadFile(path); err == nil && bytes.Contains(text, []byte(folder)) {
			return groupIn(filepath.Dir(path))
		}
	}
	return ""
}

// groupIn is the group of the process whose folder in /proc it is, "" once that has ended.
func groupIn(proc string) string {
	stat, _ := os.ReadFile(proc + "/stat")
	_, after, _ := strings.Cut(string(stat), ") ") // behind its name
	fields := strings.Fields(after)
	if len(fields) < 3 || fields[0] == "Z" {
		return ""
	}
	return fields[2]
}

// processes are those of a group.
func processes(t *testing.T, group string) (pids []string) {
	t.Helper()
	all, err := filepath.Glob("/proc/[0-9]*")
	if err != nil {
		t.Fatal(err)
	}
	for _, proc := range all {
		if groupIn(proc) == group {
			pids = append(pids, filepath.Base(proc))
		}
	}
	return pids
}

func TestAWeighedPageGetsNothingOfTheService(t *testing.T) {
	if Chromium() == "" {
		t.Skip("there is no Chromium here")
	}
	t.Setenv("ECHOLANE_SECRET_KEY", "what no page may have")
	t.Setenv("ECHOLANE_DATABASE_URL", "postgres://nobody.test/")
	file, err := os.Open("/etc/hostname")
	if err != nil {
		t.Fatal(err)
	}
	defer file.Close()
	secret, err := unix.FcntlInt(file.Fd(), unix.F_DUPFD, 100) // one that a started process would inherit
	if err != nil {
		t.Fatal(err)
	}
	defer unix.Close(secret)
	var said bytes.Buffer
	bs := &Browsers{Launcher: []string{os.Args[0], "page-browser"}, Log: slog.New(slog.NewTextHandler(&said, nil))}
	b, err := bs.start(context.Background(), "127.0.0.1:9", nil)
	if err != nil {
		t.Fatal(err)
	}
	stopped := false
	defer func() {
		if !stopped {
			b.stop()
		}
	}()
	home := bs.lastHome.Load().(string)
	group := groupOf(t, home)
	if group == "" {
		t.Fatal("the browser isn't found")
	}
	pids := processes(t, group)
	filtered := 0
	for _, pid := range pids {
		env, err := os.ReadFile("/proc/" + pid + "/environ")
		if err != nil {
			continue // it has ended
		}
		if bytes.Contains(env, []byte("ECHOLANE")) {
			t.Errorf("process %s has the service's environment: %q", pid, env)
		}
		status, _ := os.ReadFile("/proc/" + pid + "/status")
		for line := range strings.Lines(string(status)) {
			name, value, _ := strings.Cut(strings.TrimSpace(line), ":")
			fields := strings.Fields(value)
			switch name {
			case "Uid":
				if os.Geteuid() == 0 && fields[0] == "0" {
					t.Errorf("process %s runs as root", pid)
				}
			case "Seccomp":
				if fields[0] == "2" {
					filtered++
				}
			}
		}
		fds, _ := filepath.Glob("/proc/" + pid + "/fd/*")
		for _, fd := range fds {
			if to, _ := os.Readlink(fd); to == "/etc/hostname" {
				t.Errorf("process %s has a file of the service open", pid)
			}
		}
		limits, _ := os.ReadFile("/proc/" + pid + "/limits")
		if !strings.Contains(string(limits), fmt.Sprintf("Max data size             %d", browserData)) {
			t.Errorf("process %s has no bound of memory", pid)
		}
	}
	if filtered == 0 && !strings.Contains(said.String(), "sandbox") {
		t.Error("no process is in Chromium's sandbox, and nobody says so")
	}
	if bs.noSandbox && strings.Count(said.String(), "sandbox") == 0 {
		t.Error("the missing sandbox isn't said")
	}
	b.stop()
	stopped = true
	for end := time.Now().Add(5 * time.Second); ; time.Sleep(20 * time.Millisecond) {
		_, err := os.Stat(home)
		if left := processes(t, group); len(left) == 0 && errors.Is(err, os.ErrNotExist) {
			break
		} else if time.Now().After(end) {
			t.Fatalf("processes %v and the folder (%v) outlive the run", left, err)
		}
	}
}
