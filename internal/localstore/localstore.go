// Package localstore starts a real object store with the S3 interface on loopback, for tests and the demo of several nodes.
package localstore

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"syscall"
	"time"
)

// Server is a running store. Its buckets are the directories below Dir.
type Server struct {
	Endpoint             string // http://127.0.0.1:port
	AccessKey, SecretKey string
	Dir                  string
	program              string
	address              string
	cmd                  *exec.Cmd
	exited               chan struct{}
}

// Program gives the store's program, which the Makefile builds.
func Program() (string, error) {
	out, err := exec.Command("go", "env", "GOMOD").Output()
	if err != nil {
		return "", fmt.Errorf("find the Makefile: %w", err)
	}
	root := filepath.Dir(strings.TrimSpace(string(out)))
	path := filepath.Join(root, "var", "tools", "versitygw")
	if _, err := os.Stat(path); err == nil {
		return path, nil
	}
	if out, err := exec.Command("make", "-s", "-C", root, "var/tools/versitygw").CombinedOutput(); err != nil {
		return "", fmt.Errorf("build the object store: %w\n%s", err, out)
	}
	return path, nil
}

// Start starts a store with the given buckets below dir, on any free port, and waits until it answers.
func Start(ctx context.Context, dir string, buckets ...string) (*Server, error) {
	program, err := Program()
	if err != nil {
		return nil, err
	}
	s := &Server{AccessKey: "kestrel", SecretKey: "twine-and-paper", Dir: filepath.Join(dir, "buckets"), program: program}
	for _, b := range append(buckets, ".") {
		if err := os.MkdirAll(filepath.Join(s.Dir, b), 0o755); err != nil {
			return nil, err
		}
	}
	if err := os.MkdirAll(filepath.Join(dir, "meta"), 0o755); err != nil {
		return nil, err
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	s.address = l.Addr().String()
	s.Endpoint = "http://" + s.address
	l.Close()
	return s, s.Again(ctx)
}

// Again starts a store that was stopped.
func (s *Server) Again(ctx context.Context) error {
	s.cmd = exec.Command(s.program, "--access", s.AccessKey, "--secret", s.SecretKey, "--port", s.address, "--keep-alive", "--quiet", "--health", "/health",
		"posix", "--sidecar", filepath.Join(filepath.Dir(s.Dir), "meta"), s.Dir)
	s.cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	log, err := os.Create(filepath.Join(filepath.Dir(s.Dir), "store.log"))
	if err != nil {
		return err
	}
	defer log.Close()
	s.cmd.Stdout, s.cmd.Stderr, s.cmd.Dir = log, log, filepath.Dir(s.Dir)
	exited, started := make(chan struct{}), make(chan error)
	s.exited = exited
	go func(cmd *exec.Cmd) {
		runtime.LockOSThread() // it ends with the thread that starts it
		err := cmd.Start()
		if started <- err; err == nil {
			cmd.Wait()
		}
		close(exited)
	}(s.cmd)
	if err := <-started; err != nil {
		return fmt.Errorf("start the object store: %w", err)
	}
	for end := time.Now().Add(20 * time.Second); ; {
		c, err := net.Dial("tcp", s.address)
		if err == nil {
			c.Close()
			return nil
		}
		select {
		case <-s.exited:
			text, _ := os.ReadFile(log.Name())
			return fmt.Errorf("the object store ended at its start:\n%s", text)
		case <-ctx.Done():
			s.Stop()
			return ctx.Err()
		case <-time.After(20 * time.Millisecond):
		}
		if time.Now().After(end) {
			s.Stop()
			return errors.New("the object store doesn't answer")
		}
	}
}

// Hold has the store stand still, as if its network were; Go has it go on.
func (s *Server) Hold() { s.cmd.Process.Signal(syscall.SIGSTOP) }

// Go ends a Hold.
func (s *Server) Go() { s.cmd.Process.Signal(syscall.SIGCONT) }

// Stop ends the store and waits for it.
func (s *Server) Stop() {
	s.cmd.Process.Signal(syscall.SIGCONT)
	s.cmd.Process.Kill()
	<-s.exited
}
