package testbed

import (
	"io"
	"net"
	"net/url"
	"sync"
	"testing"
)

// Stall stands between a client and a server, and can freeze: connections stay, new ones are taken, and nothing goes
// through, as it is with a server that is stopped.
type Stall struct {
	Addr string
	to   string
	l    net.Listener
	mu   sync.Mutex
	thaw chan struct{} // closed while it flows
	open []net.Conn
}

// NewStall begins to forward to an address; it ends with the test.
func NewStall(t testing.TB, to string) *Stall {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	s := &Stall{Addr: l.Addr().String(), to: to, l: l, thaw: make(chan struct{})}
	close(s.thaw)
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go s.forward(c)
		}
	}()
	t.Cleanup(func() {
		l.Close()
		s.Thaw()
		s.Cut()
	})
	return s
}

// StallBefore stands before the database of a URL, and gives the URL that leads through.
func StallBefore(t testing.TB, database string) (*Stall, string) {
	t.Helper()
	u, err := url.Parse(database)
	if err != nil {
		t.Fatal(err)
	}
	s := NewStall(t, u.Host)
	u.Host = s.Addr
	return s, u.String()
}

func (s *Stall) flowing() chan struct{} {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.thaw
}

func (s *Stall) forward(c net.Conn) {
	<-s.flowing()
	up, err := net.Dial("tcp", s.to)
	if err != nil {
		c.Close()
		return
	}
	s.mu.Lock()
	s.open = append(s.open, c, up)
	s.mu.Unlock()
	pump := func(to, from net.Conn) {
		defer to.Close()
		b := make([]byte, 32<<10)
		for {
			n, err := from.Read(b)
			<-s.flowing()
			if n > 0 {
				if _, err := to.Write(b[:n]); err != nil {
					return
				}
			}
			if err != nil {
				if err == io.EOF {
					return
				}
				return
			}
		}
	}
	go pump(up, c)
	pump(c, up)
}

// Freeze lets nothing through any more.
func (s *Stall) Freeze() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.thaw = make(chan struct{})
}

// Thaw lets through what waits, and what comes.
func (s *Stall) Thaw() {
	s.mu.Lock()
	defer s.mu.Unlock()
	select {
	case <-s.thaw:
	default:
		close(s.thaw)
	}
}

// Cut ends every connection that is open.
func (s *Stall) Cut() {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, c := range s.open {
		c.Close()
	}
	s.open = nil
}

// Close takes no more connections and ends those that are open, as a server that has gone.
func (s *Stall) Close() {
	s.l.Close()
	s.Cut()
}
