// Package localpg runs a PostgreSQL of our own on loopback, from Debian's programs, for the demo and the
// tests. Production gives a URL instead.
package localpg

import (
	"bytes"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"runtime"
	"sort"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5"
	"golang.org/x/sys/unix"
)

// Options say where and how.
type Options struct {
	// Dir holds the data, the log and the password; it is made where missing. As root it may lie where the
	// server's user can't go; then a directory below /var/lib/echolane, named after it, takes its place.
	Dir  string
	Port int // tried first; 0 or busy: any free one
	// Throwaway gives up safety against power loss for speed: for tests.
	Throwaway bool
}

// Server is a running PostgreSQL.
type Server struct {
	URL    string // of a database named echolane that exists
	Dir    string // where its data is
	cmd    *exec.Cmd
	exited chan struct{}
	err    error // of the process, once exited is closed
}

const role = "echolane"

// Start makes the data directory where there is none, starts the server and waits until it answers. As root
// it runs the server as the user postgres (or nobody), since PostgreSQL won't run as root. A server that was
// left over in the same directory is ended first.
func Start(ctx context.Context, o Options) (*Server, error) {
	bin, err := programs()
	if err != nil {
		return nil, err
	}
	dir, err := filepath.Abs(o.Dir)
	if err != nil {
		return nil, fmt.Errorf("start PostgreSQL: %w", err)
	}
	as, err := unprivileged()
	if err != nil {
		return nil, err
	}
	if as != nil && !reachable(filepath.Dir(dir), as) {
		sum := sha256.Sum256([]byte(dir))
		dir = filepath.Join("/var/lib/echolane", hex.EncodeToString(sum[:6]))
	}
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return nil, fmt.Errorf("start PostgreSQL: %w", err)
	}
	data := filepath.Join(dir, "data")
	if err := endLeftOver(ctx, data); err != nil {
		return nil, err
	}
	if as != nil {
		if err := give(dir, as); err != nil {
			return nil, err
		}
	}
	password, err := initialise(ctx, bin, dir, as)
	if err != nil {
		return nil, err
	}
	for wanted := o.Port; ; wanted = 0 {
		port, err := freePort(wanted)
		if err != nil {
			return nil, fmt.Errorf("find a port for PostgreSQL: %w", err)
		}
		s, err := launch(ctx, bin, dir, password, port, as, o.Throwaway)
		if !errors.Is(err, errTaken) || ctx.Err() != nil { // somebody else may take it before the server does
			return s, err
		}
	}
}

// errTaken says that the port was somebody else's.
var errTaken = errors.New("its port is taken")

// launch starts the server on a port, and waits until it answers.
func launch(ctx context.Context, bin, dir, password string, port int, as *syscall.Credential, throwaway bool) (*Server, error) {
	s := &Server{Dir: dir, exited: make(chan struct{})}
	data := filepath.Join(dir, "data")
	args := []string{"-D", data, "-p", strconv.Itoa(port), "-c", "listen_addresses=127.0.0.1", "-c", "unix_socket_directories=",
		"-c", "logging_collector=off", "-c", "max_connections=200", "-c", "shared_buffers=64MB"}
	if throwaway {
		args = append(args, "-c", "fsync=off", "-c", "synchronous_commit=off", "-c", "full_page_writes=off")
	}
	logFile, err := os.Create(filepath.Join(dir, "log"))
	if err != nil {
		return nil, fmt.Errorf("start PostgreSQL: %w", err)
	}
	defer logFile.Close()
	s.cmd = exec.Command(filepath.Join(bin, "postgres"), args...)
	s.cmd.Dir = data
	s.cmd.Stdout, s.cmd.Stderr = logFile, logFile
	// Setpgid keeps a terminal's Ctrl-C from reaching it before its users have gone. Pdeathsig ends it when
	// this process is killed.
	s.cmd.SysProcAttr = &syscall.SysProcAttr{Credential: as, Setpgid: true, Pdeathsig: syscall.SIGINT}
	started := make(chan error)
	go func() {
		runtime.LockOSThread() // the death signal is bound to the thread that starts the process
		err := s.cmd.Start()
		started <- err
		if err == nil {
			s.err = s.cmd.Wait()
			close(s.exited)
		}
	}()
	if err := <-started; err != nil {
		return nil, fmt.Errorf("start %s: %w", s.cmd.Path, err)
	}
	s.URL = fmt.Sprintf("postgres://%s:%s@127.0.0.1:%d/%s?sslmode=disable", role, password, port, role)
	if err := s.ready(ctx, logFile.Name()); err != nil {
		s.Stop()
		return nil, err
	}
	return s, nil
}

// Exited is closed when the server has ended, whoever ended it.
func (s *Server) Exited() <-chan struct{} { return s.exited }

// Stop ends the server: quickly at first, and within three seconds whatever happens.
func (s *Server) Stop() {
	s.cmd.Process.Signal(syscall.SIGINT) // fast shutdown
	select {
	case <-s.exited:
		return
	case <-time.After(2500 * time.Millisecond):
	}
	s.cmd.Process.Signal(syscall.SIGQUIT) // immediate shutdown; it recovers at the next start
	select {
	case <-s.exited:
	case <-time.After(500 * time.Millisecond):
		s.cmd.Process.Kill()
		<-s.exited
	}
}

// NewDatabase makes an empty database and gives its URL: one each for tests that share a server.
func (s *Server) NewDatabase(ctx context.Context, name string) (string, error) {
	if err := Exec(ctx, s.URL, "CREATE DATABASE "+quoted(name)); err != nil {
		return "", fmt.Errorf("make database %s: %w", name, err)
	}
	return s.urlOf(name), nil
}

// CopyDatabase makes a database like one that Freeze has closed, and gives its URL.
func (s *Server) CopyDatabase(ctx context.Context, name, of string) (string, error) {
	if err := Exec(ctx, s.URL, "CREATE DATABASE "+quoted(name)+" TEMPLATE "+quoted(of)); err != nil {
		return "", fmt.Errorf("make database %s like %s: %w", name, of, err)
	}
	return s.urlOf(name), nil
}

// Freeze closes a database to everybody, so that it can be copied at any time.
func (s *Server) Freeze(ctx context.Context, name string) error {
	if err := Exec(ctx, s.URL, "ALTER DATABASE "+quoted(name)+" ALLOW_CONNECTIONS false"); err != nil {
		return fmt.Errorf("close database %s: %w", name, err)
	}
	return nil
}

func quoted(name string) string { return pgx.Identifier{name}.Sanitize() }

func (s *Server) urlOf(name string) string {
	return strings.Replace(s.URL, "/"+role+"?", "/"+name+"?", 1)
}

// Exec runs one statement over a connection of its own.
func Exec(ctx context.Context, url, statement string, args ...any) error {
	conn, err := pgx.Connect(ctx, url)
	if err != nil {
		return err
	}
	defer conn.Close(ctx)
	_, err = conn.Exec(ctx, statement, args...)
	return err
}

// programs finds the newest PostgreSQL that Debian has installed.
func programs() (string, error) {
	found, _ := filepath.Glob("/usr/lib/postgresql/*/bin/postgres")
	if len(found) == 0 {
		return "", errors.New("PostgreSQL isn't installed: run `apt-get install postgresql` as root, or give the URL of a running one in ECHOLANE_DATABASE_URL")
	}
	version := func(p string) int {
		n, _ := strconv.Atoi(strings.Split(p, "/")[4])
		return n
	}
	sort.Slice(found, func(i, j int) bool { return version(found[i]) < version(found[j]) })
	return filepath.Dir(found[len(found)-1]), nil
}

// unprivileged is who runs the server: nil for ourselves, and as root another user.
func unprivileged() (*syscall.Credential, error) {
	if os.Geteuid() != 0 {
		return nil, nil
	}
	u, err := user.Lookup("postgres")
	if err != nil {
		if u, err = user.Lookup("nobody"); err != nil {
			return nil, errors.New("PostgreSQL won't run as root, and there is neither a user postgres nor a user nobody to run it as")
		}
	}
	uid, _ := strconv.Atoi(u.Uid)
	gid, _ := strconv.Atoi(u.Gid)
	return &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}, nil
}

// reachable reports whether that user may go to dir, as far as dir exists.
func reachable(dir string, as *syscall.Credential) bool {
	for p := dir; p != "/"; p = filepath.Dir(p) {
		info, err := os.Stat(p)
		if err != nil {
			continue // made later, open to all
		}
		if info.Mode().Perm()&0o001 == 0 && info.Sys().(*syscall.Stat_t).Uid != as.Uid {
			return false
		}
	}
	return true
}

// give makes dir and all in it that user's.
func give(dir string, as *syscall.Credential) error {
	err := filepath.WalkDir(dir, func(path string, _ fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		return os.Lchown(path, int(as.Uid), int(as.Gid))
	})
	if err != nil {
		return fmt.Errorf("give %s to the user that runs PostgreSQL: %w", dir, err)
	}
	return os.Chmod(dir, 0o755)
}

// initialise makes the cluster where there is none and gives the password. A cluster that was only half made
// is made again.
func initialise(ctx context.Context, bin, dir string, as *syscall.Credential) (string, error) {
	data, secret, whole := filepath.Join(dir, "data"), filepath.Join(dir, "password"), filepath.Join(dir, "whole")
	if _, err := os.Stat(whole); err == nil {
		password, err := os.ReadFile(secret)
		if err != nil {
			return "", fmt.Errorf("read PostgreSQL's password: %w", err)
		}
		return string(password), nil
	}
	if err := os.RemoveAll(data); err != nil {
		return "", fmt.Errorf("make PostgreSQL's data anew: %w", err)
	}
	random := make([]byte, 16)
	rand.Read(random)
	password := hex.EncodeToString(random)
	if err := os.WriteFile(secret, []byte(password), 0o600); err != nil {
		return "", fmt.Errorf("make PostgreSQL's password: %w", err)
	}
	if as != nil {
		if err := os.Chown(secret, int(as.Uid), int(as.Gid)); err != nil {
			return "", fmt.Errorf("make PostgreSQL's password: %w", err)
		}
	}
	cmd := exec.CommandContext(ctx, filepath.Join(bin, "initdb"), "-D", data, "-U", role, "--auth=scram-sha-256", "--pwfile="+secret,
		"--encoding=UTF8", "--locale=C.UTF-8", "--no-sync")
	cmd.Dir = dir
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: as}
	if out, err := cmd.CombinedOutput(); err != nil {
		return "", fmt.Errorf("make PostgreSQL's data in %s: %w\n%s", data, err, bytes.TrimSpace(out))
	}
	if err := os.WriteFile(whole, nil, 0o644); err != nil {
		return "", fmt.Errorf("make PostgreSQL's data: %w", err)
	}
	return password, nil
}

// endLeftOver ends a server that still runs on this data, after its starter was killed.
func endLeftOver(ctx context.Context, data string) error {
	pid := func() int {
		text, err := os.ReadFile(filepath.Join(data, "postmaster.pid"))
		if err != nil {
			return 0
		}
		first, _, _ := strings.Cut(string(text), "\n")
		n, _ := strconv.Atoi(strings.TrimSpace(first))
		name, _ := os.ReadFile(fmt.Sprintf("/proc/%d/comm", n))
		if n <= 1 || strings.TrimSpace(string(name)) != "postgres" {
			return 0
		}
		return n
	}
	n := pid()
	if n == 0 {
		return nil
	}
	syscall.Kill(n, syscall.SIGINT)
	for deadline := time.Now().Add(10 * time.Second); time.Now().Before(deadline); {
		if pid() == 0 {
			return nil
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(50 * time.Millisecond):
		}
	}
	return fmt.Errorf("a PostgreSQL that was left over (process %d) doesn't end: end it and start again", n)
}

func freePort(wanted int) (int, error) {
	l, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", wanted))
	if err != nil && wanted != 0 {
		l, err = net.Listen("tcp", "127.0.0.1:0")
	}
	if err != nil {
		return 0, err
	}
	defer l.Close()
	return l.Addr().(*net.TCPAddr).Port, nil
}

// ready waits until the server answers, and makes the database.
func (s *Server) ready(ctx context.Context, log string) error {
	ctx, cancel := context.WithTimeout(ctx, 30*time.Second)
	defer cancel()
	asking, stop := context.WithCancel(ctx) // whoever else has the port may never answer
	defer stop()
	go func() {
		select {
		case <-s.exited:
			stop()
		case <-asking.Done():
		}
	}()
	admin := strings.Replace(s.URL, "/"+role+"?", "/postgres?", 1)
	for {
		conn, err := pgx.Connect(asking, admin)
		if err == nil {
			defer conn.Close(ctx)
			var there bool
			if err := conn.QueryRow(ctx, "SELECT EXISTS (SELECT FROM pg_database WHERE datname = $1)", role).Scan(&there); err != nil {
				return fmt.Errorf("ask PostgreSQL for its databases: %w", err)
			}
			if !there {
				if _, err := conn.Exec(ctx, "CREATE DATABASE "+role); err != nil {
					return fmt.Errorf("make the database: %w", err)
				}
			}
			return nil
		}
		select {
		case <-s.exited:
			text, _ := os.ReadFile(log)
			err := fmt.Errorf("PostgreSQL ended at its start; its log says:\n%s", bytes.TrimSpace(text))
			if bytes.Contains(text, []byte("Address already in use")) {
				err = fmt.Errorf("%w: %w", errTaken, err)
			}
			return err
		case <-ctx.Done():
			return fmt.Errorf("PostgreSQL doesn't answer; its log is in %s: %w", log, err)
		case <-time.After(20 * time.Millisecond):
		}
	}
}

// Passing starts a server that lasts as long as the process that asks for it: in a folder of its own, which end removes. It lies in
// memory where there is plenty: beside much that is written to a disk, a file system may hold a database up for seconds.
func Passing(ctx context.Context) (s *Server, end func(), err error) {
	const memory, plenty = "/dev/shm", 8 << 30
	in := ""
	var fs unix.Statfs_t
	if unix.Statfs(memory, &fs) == nil && fs.Bavail*uint64(fs.Bsize) >= plenty && available() >= plenty {
		in = memory
	}
	dir, err := os.MkdirTemp(in, "echolane-postgres-")
	if err != nil {
		return nil, nil, err
	}
	if err = os.Chmod(dir, 0o755); err == nil { // the server is another user
		s, err = Start(ctx, Options{Dir: filepath.Join(dir, "postgres"), Throwaway: true})
	}
	if err != nil {
		os.RemoveAll(dir)
		return nil, nil, err
	}
	return s, func() { s.Stop(); os.RemoveAll(dir) }, nil
}

// available is how much memory the system says can be taken, in bytes; 0 where it doesn't.
func available() uint64 {
	text, err := os.ReadFile("/proc/meminfo")
	if err != nil {
		return 0
	}
	var kB uint64
	for line := range strings.Lines(string(text)) {
		if _, err := fmt.Sscanf(line, "MemAvailable: %d kB", &kB); err == nil {
			break
		}
	}
	return kB << 10
}
