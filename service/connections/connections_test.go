package connections

import (
	"bytes"
	"io"
	"log/slog"
	"net"
	"os"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"
	"time"
)

// listening is a bounded listener on loopback, and what it says.
func listening(t *testing.T, most int, wrap func(net.Listener) net.Listener) (*Listener, *bytes.Buffer) {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	if wrap != nil {
		l = wrap(l)
	}
	said := &bytes.Buffer{}
	return Bound(l, Options{Most: most, Full: []byte("HTTP/1.1 503 Full\r\n\r\n"), Log: slog.New(slog.NewTextHandler(said, nil))}), said
}

func dial(t *testing.T, l net.Listener) net.Conn {
	t.Helper()
	c, err := net.Dial("tcp", l.Addr().String())
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { c.Close() })
	c.SetDeadline(time.Now().Add(5 * time.Second))
	return c
}

func accept(t *testing.T, l *Listener) *Conn {
	t.Helper()
	c, err := l.Accept()
	if err != nil {
		t.Fatal(err)
	}
	return c.(*Conn)
}

func TestThoseWaitedForLongestMakeRoom(t *testing.T) {
	began = began.Add(-time.Hour) // so that there is a past
	l, said := listening(t, 3, nil)
	var clients []net.Conn
	var ours []*Conn
	for range 3 {
		clients = append(clients, dial(t, l))
		ours = append(ours, accept(t, l))
	}
	ours[0].since.Store(now() - int64(5*time.Second))
	ours[1].since.Store(now() - int64(9*time.Second))
	ours[2].since.Store(now() - int64(20*time.Second))
	ours[2].Begin()
	dial(t, l)
	fourth := accept(t, l)
	if _, err := clients[1].Read(make([]byte, 1)); err != io.EOF {
		t.Errorf("the one waited for longest wasn't closed: %v", err)
	}
	if l.Held() != 3 || l.Shed() != 1 || l.Refused() != 0 {
		t.Errorf("%d held, %d shed, %d refused", l.Held(), l.Shed(), l.Refused())
	}
	// Requests under way and those who came just now stay; who comes then is told.
	ours[0].Begin()
	late := dial(t, l)
	next := make(chan *Conn)
	go func() { c, _ := l.Accept(); next <- c.(*Conn) }()
	if got, _ := io.ReadAll(late); !strings.HasPrefix(string(got), "HTTP/1.1 503") {
		t.Errorf("who there is no room for is told %q", got)
	}
	if l.Refused() != 1 || !strings.Contains(said.String(), "connections=3") {
		t.Errorf("%d refused; the log: %s", l.Refused(), said)
	}
	// A place that comes free is the next one's.
	fourth.Close()
	fourth.Close()
	dial(t, l)
	(<-next).Close()
	if l.Held() != 2 {
		t.Errorf("%d held", l.Held())
	}
	// An answer that went out starts the waiting anew.
	ours[2].End()
	if l.makeRoom() {
		t.Error("a client that was answered just now makes room")
	}
}

// starved has no descriptors for a while.
type starved struct {
	net.Listener
	times atomic.Int64
}

func (s *starved) Accept() (net.Conn, error) {
	if s.times.Add(-1) >= 0 {
		return nil, &net.OpError{Op: "accept", Err: os.NewSyscallError("accept4", syscall.EMFILE)}
	}
	return s.Listener.Accept()
}

func TestAWantOfDescriptorsEndsNothing(t *testing.T) {
	poor := &starved{}
	l, said := listening(t, 10, func(l net.Listener) net.Listener { poor.Listener = l; return poor })
	poor.times.Store(3)
	dial(t, l)
	accept(t, l)
	if n := strings.Count(said.String(), "too many open files"); n != 1 {
		t.Errorf("said %d times: %s", n, said)
	}
	l.Listener.(*starved).Close()
	if c, err := l.Accept(); err == nil {
		c.Close()
		t.Error("a closed listener accepts")
	}
}

func TestTheBoundFollowsTheDescriptors(t *testing.T) {
	var have syscall.Rlimit
	if err := syscall.Getrlimit(syscall.RLIMIT_NOFILE, &have); err != nil {
		t.Fatal(err)
	}
	defer syscall.Setrlimit(syscall.RLIMIT_NOFILE, &have)
	for soft, want := range map[uint64]int{512: 256, have.Max: min(Default, int(min(have.Max, 1<<30)/2))} {
		if err := syscall.Setrlimit(syscall.RLIMIT_NOFILE, &syscall.Rlimit{Cur: soft, Max: have.Max}); err != nil {
			t.Fatal(err)
		}
		if l, _ := listening(t, 0, nil); l.o.Most != want {
			t.Errorf("of %d descriptors %d are for connections, want %d", soft, l.o.Most, want)
		}
	}
}
