package weighing

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"os/exec"
	"runtime"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"github.com/chromedp/chromedp"
	"golang.org/x/sys/unix"

	"echolane/service/panics"
)

// A page that is weighed is a stranger's program. Its Chromium gets nothing of the service: no environment, no descriptors,
// an unprivileged user where the service is root, a folder of its own that goes with it, limits on memory and processes, and
// Chromium's own sandbox.

// Isolation is what keeps the pages that are weighed apart from the service, and what is missing of that.
type Isolation struct {
	Sandbox bool   `json:"sandbox"` // Chromium's own is on
	User    bool   `json:"user"`    // it runs as another user than the service
	Missing string `json:"missing"` // in words; "" where nothing is
}

// Browsers start Chromium. Its zero value starts it without limits on memory and processes. Safe for concurrent use.
type Browsers struct {
	Launcher []string // this program, in the role that Launch plays; nil: Chromium is started directly
	Program  string   // Chromium's executable file; "": the one that Chromium finds
	Log      *slog.Logger
	Panics   *panics.Catcher
	Quiet    time.Duration // how long nothing may come for a page to count as loaded; 0: half a second
	Busy     time.Duration // how long a script of a page may keep its tab busy before it is ended; 0: eight seconds

	mu        sync.Mutex
	tried     bool
	noSandbox bool // it can't be had on this machine
	lastHome  atomic.Value
}

const (
	nobody = 65534
	// What one of Chromium's processes may take: data that isn't a file's, and processes and threads of its user.
	browserData    = 4 << 30
	browserThreads = 1200
)

// Launch becomes Chromium: it gives up what it inherited but for the first five descriptors, sets limits, stops being root
// and runs args. It returns only where that failed.
func Launch(args []string) error {
	runtime.LockOSThread() // what belongs to a thread, such as the signal at the parent's end, is this one's
	if len(args) == 0 {
		return errors.New("there is nothing to launch")
	}
	for _, l := range []struct {
		what  int
		limit uint64
	}{{unix.RLIMIT_DATA, browserData}, {unix.RLIMIT_NPROC, browserThreads}, {unix.RLIMIT_CORE, 0}, {unix.RLIMIT_FSIZE, 1 << 30}} {
		if err := unix.Setrlimit(l.what, &unix.Rlimit{Cur: l.limit, Max: l.limit}); err != nil {
			return fmt.Errorf("set limit %d: %w", l.what, err)
		}
	}
	const beyond = 5 // behind the standard ones and the two by which the browser is driven
	if err := unix.CloseRange(beyond, 1<<31-1, unix.CLOSE_RANGE_CLOEXEC); err != nil {
		return fmt.Errorf("close what was inherited: %w", err)
	}
	if os.Geteuid() == 0 {
		for _, drop := range []func() error{
			func() error { return syscall.Setgroups(nil) }, func() error { return syscall.Setgid(nobody) }, func() error { return syscall.Setuid(nobody) },
			func() error { return unix.Prctl(unix.PR_SET_PDEATHSIG, uintptr(unix.SIGKILL), 0, 0, 0) }, // which a change of user takes away
		} {
			if err := drop(); err != nil {
				return fmt.Errorf("become nobody: %w", err)
			}
		}
	}
	return syscall.Exec(args[0], args, os.Environ())
}

// Isolation says how pages are kept apart on this machine. It starts a browser to find out, and blocks until that is there.
func (bs *Browsers) Isolation(ctx context.Context) (Isolation, error) {
	b, err := bs.start(ctx, "127.0.0.1:9", nil)
	if err != nil {
		return Isolation{}, err
	}
	b.stop()
	bs.mu.Lock()
	defer bs.mu.Unlock()
	i := Isolation{Sandbox: !bs.noSandbox, User: os.Geteuid() == 0}
	var missing []string
	if bs.noSandbox {
		missing = append(missing, "Chromium's sandbox can't be had on this machine")
	}
	if !i.User {
		missing = append(missing, "Chromium runs as the service's own user, since that isn't root")
	}
	i.Missing = strings.Join(missing, "; ")
	return i, nil
}

// start starts one Chromium whose only way to anywhere is a proxy.
func (bs *Browsers) start(ctx context.Context, through string, overlay map[string]file) (*browser, error) {
	path := cmp.Or(bs.Program, Chromium())
	if path == "" {
		return nil, errors.New("there is no Chromium on the machine that the service runs on")
	}
	bs.mu.Lock()
	if tried, without := bs.tried, bs.noSandbox; tried || without {
		bs.mu.Unlock()
		return bs.launch(ctx, path, through, overlay, !without)
	}
	defer bs.mu.Unlock() // the first finds out for the others
	b, err := bs.launch(ctx, path, through, overlay, true)
	if err == nil || bs.tried || ctx.Err() != nil {
		bs.tried = bs.tried || err == nil
		return b, err
	}
	// The first that doesn't start may lack what its sandbox needs; one that starts without tells.
	b, without := bs.launch(ctx, path, through, overlay, false)
	if without != nil {
		return nil, err
	}
	bs.noSandbox = true
	if bs.Log != nil {
		bs.Log.Warn("Chromium doesn't start with its sandbox on this machine: pages are weighed without it, as an unprivileged user and behind the proxy", "error", err)
	}
	return b, nil
}

const startTime = 20 * time.Second

func (bs *Browsers) launch(ctx context.Context, path, through string, overlay map[string]file, sandbox bool) (*browser, error) {
	home, err := os.MkdirTemp("", "echolane-weighing-")
	if err != nil {
		return nil, err
	}
	bs.lastHome.Store(home)
	var process *os.Process
	b := &browser{overlay: overlay, quiet: cmp.Or(bs.Quiet, quietTime), busy: cmp.Or(bs.Busy, scriptTime), panics: bs.Panics}
	b.close = append(b.close, func() {
		// Nothing of it outlives the run: its processes are a group of their own.
		if process != nil {
			syscall.Kill(-process.Pid, syscall.SIGKILL)
		}
		for range 50 {
			if os.RemoveAll(home); !exists(home) {
				return
			}
			time.Sleep(20 * time.Millisecond)
		}
	})
	attributes := &syscall.SysProcAttr{Setpgid: true}
	if runtime.GOOS == "linux" {
		attributes.Pdeathsig = syscall.SIGKILL
	}
	if os.Geteuid() == 0 {
		if err := os.Chown(home, nobody, nobody); err != nil {
			os.RemoveAll(home)
			return nil, err
		}
		if len(bs.Launcher) == 0 { // which does it itself: nobody may not be able to run this program
			attributes.Credential = &syscall.Credential{Uid: nobody, Gid: nobody}
		}
	}
	var started *exec.Cmd
	options := append(chromedp.DefaultExecAllocatorOptions[:],
		chromedp.ExecPath(path), chromedp.UserDataDir(home+"/profile"), chromedp.DisableGPU, chromedp.ProxyServer("http://"+through), chromedp.NoInheritEnv,
		chromedp.Env("PATH=/usr/local/bin:/usr/bin:/bin", "HOME="+home, "TMPDIR="+home, "XDG_CONFIG_HOME="+home, "XDG_CACHE_HOME="+home, "LANG=C.UTF-8"),
		chromedp.ModifyCmdFunc(func(cmd *exec.Cmd) {
			if len(bs.Launcher) > 0 {
				cmd.Args = append(append([]string{}, bs.Launcher...), append([]string{cmd.Path}, cmd.Args[1:]...)...)
				cmd.Path = bs.Launcher[0]
			}
			cmd.Dir, cmd.SysProcAttr, started = home, attributes, cmd
		}),
		chromedp.Flag("proxy-bypass-list", "<-loopback>"), chromedp.Flag("disable-quic", true), chromedp.Flag("no-first-run", true),
		chromedp.Flag("disable-background-networking", true), chromedp.Flag("disable-component-update", true), chromedp.Flag("disable-sync", true),
		chromedp.Flag("force-webrtc-ip-handling-policy", "disable_non_proxied_udp"), chromedp.Flag("hide-scrollbars", true), chromedp.Flag("mute-audio", true),
		// How far below the screen a lazy picture is asked for: as over a fast line, where what kind it is isn't known.
		chromedp.Flag("blink-settings", "lazyLoadingImageMarginPxUnknown=1250"),
		chromedp.Flag("no-sandbox", !sandbox), chromedp.Flag("disable-breakpad", true), chromedp.Flag("disable-crash-reporter", true))
	ctx, cancel := chromedp.NewExecAllocator(ctx, options...)
	b.close = append(b.close, cancel)
	ctx, cancel = chromedp.NewContext(ctx)
	b.close = append(b.close, cancel)
	b.ctx = ctx
	late := time.AfterFunc(startTime, cancel)
	err = chromedp.Do(ctx)
	if started != nil {
		process = started.Process
	}
	if !late.Stop() {
		err = fmt.Errorf("it took longer than %v", startTime)
	}
	if err != nil {
		b.stop()
		return nil, fmt.Errorf("start Chromium: %w", err)
	}
	return b, nil
}

func exists(path string) bool {
	_, err := os.Lstat(path)
	return err == nil
}
