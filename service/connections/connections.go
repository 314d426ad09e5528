// Package connections bounds how many connections a server holds. Where all are taken, those that have waited longest for
// their clients make room; so idle or dawdling clients, however many, shut nobody out. Nor does a want of descriptors end
// the server.
package connections

import (
	"errors"
	"io"
	"log/slog"
	"net"
	"slices"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"golang.org/x/sys/unix"
)

const (
	// Default is how many connections are held where nobody says otherwise: 20 KiB each, so 160 MiB.
	Default = 8192

	patience = time.Second           // that a client may take before it makes room
	pause    = 50 * time.Millisecond // before another try where no connection can be had
	hush     = time.Minute           // between two lines in the log

	mostHeld = 4 << 10 // bytes of an answer that wait for the rest of it
)

// Listener takes connections up to a bound. Safe for concurrent use.
type Listener struct {
	net.Listener
	o Options

	mu   sync.Mutex
	held map[*Conn]bool
	said time.Time

	shed, refused atomic.Int64
}

// Options say how many connections are held.
type Options struct {
	Most int    // 0: Default, or half of the descriptors that the process may have, where those are fewer
	Full []byte // what a client is answered that there is no room for: a whole HTTP response
	Log  *slog.Logger

	// BodyPause is how long the next bytes of a request's body are waited for, BodyTime how long the whole of it may take; 0: as long
	// as the rest of the request.
	BodyPause, BodyTime time.Duration
}

// Conn is a connection, with what is known of its client.
type Conn struct {
	net.Conn
	of    *Listener
	since atomic.Int64 // nanoseconds of the clock since when its client is waited for; 0: a request is under way

	// Of who writes to it.
	coming int         // bytes that will be written at least, and then some
	held   []byte      // written, and not sent yet
	both   [2][]byte   // what is held, and what follows it
	rest   net.Buffers // of both
	loan   Loan        // of memory that the answer lies in; nil: none
	wrote  bool        // since it was noted

	heard bool      // something came
	body  time.Time // when a request's body that is read must have come; zero: none is

	lingers atomic.Bool

	reads, writes deadline
}

var began = time.Now()

func now() int64 { return int64(time.Since(began)) + 1 }

// Bound has a listener take no more than so many connections.
func Bound(l net.Listener, o Options) *Listener {
	if o.Most == 0 {
		o.Most = Default
		var files unix.Rlimit
		if unix.Getrlimit(unix.RLIMIT_NOFILE, &files) == nil && files.Cur/2 < Default {
			o.Most = max(1, int(files.Cur/2))
		}
	}
	return &Listener{Listener: l, o: o, held: map[*Conn]bool{}}
}

// Accept gives the next connection that there is room for. Its error is that of a listener that was closed.
func (l *Listener) Accept() (net.Conn, error) {
	for {
		c, err := l.Listener.Accept()
		if errors.Is(err, net.ErrClosed) {
			return nil, err
		}
		if err != nil { // no descriptors or memory, or a client that has gone
			l.say("a connection can't be taken", "error", err)
			if !l.makeRoom() {
				time.Sleep(pause)
			}
			continue
		}
		if l.Held() >= l.o.Most && !l.makeRoom() {
			l.say("all connections are in use: clients are turned away", "connections", l.o.Most)
			l.refused.Add(1)
			c.SetDeadline(time.Now().Add(pause))
			c.Write(l.o.Full)
			c.Close()
			continue
		}
		one := &Conn{Conn: c, of: l}
		one.since.Store(now())
		l.mu.Lock()
		l.held[one] = true
		l.mu.Unlock()
		return one, nil
	}
}

// say logs at most one line a minute.
func (l *Listener) say(message string, rest ...any) {
	l.mu.Lock()
	quiet := time.Since(l.said) < hush && !l.said.IsZero()
	if !quiet {
		l.said = time.Now()
	}
	l.mu.Unlock()
	if !quiet && l.o.Log != nil {
		l.o.Log.Warn(message, rest...)
	}
}

// makeRoom closes connections whose clients are waited for, those first that are waited for longest.
func (l *Listener) makeRoom() bool {
	type waiting struct {
		*Conn
		since int64
	}
	var all []waiting
	before := now() - int64(patience)
	l.mu.Lock()
	for c := range l.held {
		if since := c.since.Load(); since != 0 && since < before {
			all = append(all, waiting{c, since})
		}
	}
	l.mu.Unlock()
	slices.SortFunc(all, func(a, b waiting) int { return int(a.since - b.since) })
	for i, w := range all {
		if i > l.o.Most/64 { // some at a time, so that not each that comes has to look through all
			break
		}
		if w.since == w.Conn.since.Load() {
			l.shed.Add(1)
			w.drop()
		}
	}
	return len(all) > 0
}

// Held is how many connections there are.
func (l *Listener) Held() int {
	l.mu.Lock()
	defer l.mu.Unlock()
	return len(l.held)
}

// Shed counts connections that were closed to make room.
func (l *Listener) Shed() int64 { return l.shed.Load() }

// Refused counts clients that there was no room for.
func (l *Listener) Refused() int64 { return l.refused.Load() }

// A Loan is memory that is given back.
type Loan interface{ Back() }

// Begin notes that a request is under way: the connection isn't closed to make room.
func (c *Conn) Begin() {
	c.since.Store(0)
	c.loan = nil
}

// Lent notes that the answer's body lies in memory that is lent. It is given back when the answer has been written and the next request
// is waited for; where it doesn't come to that, it is left to the garbage collector. Who writes calls it, before writing.
func (c *Conn) Lent(l Loan) { c.loan, c.wrote = l, false }

// Body notes that the request's body is wanted. It may take longer than a request may as long as it goes on coming.
func (c *Conn) Body() {
	if c.of.o.BodyPause > 0 {
		c.body = time.Now().Add(c.of.o.BodyTime)
	}
}

// End notes that the client is waited for: that it takes the answer, and asks again.
func (c *Conn) End() {
	c.body = time.Time{}
	c.since.Store(now())
}

// Coming notes that more than n bytes will be written: what of them comes first, where it's short, is sent together with what
// follows, in one call and without being copied into one piece. Who writes calls it, before writing.
func (c *Conn) Coming(n int) { c.coming = n }

// Write sends bytes, or holds them until the next are written where Coming said that there will be some.
func (c *Conn) Write(b []byte) (int, error) {
	hold := len(b) <= c.coming && len(b) <= mostHeld
	c.coming = 0
	switch {
	case len(c.held) > 0:
		c.wrote = true
		held := len(c.held)
		c.both = [2][]byte{c.held, b}
		c.rest = c.both[:]
		n, err := c.rest.WriteTo(c.Conn)
		c.held, c.both, c.rest = c.held[:0], [2][]byte{}, nil
		return max(0, int(n)-held), err
	case hold:
		c.held = append(c.held, b...)
		return len(b), nil
	}
	c.wrote = true
	return c.Conn.Write(b)
}

// SetReadDeadline says until when it may be read from: Read brings it into force, unless it is past.
func (c *Conn) SetReadDeadline(t time.Time) error {
	if c.reads.want(t) {
		return c.reads.settle(c.Conn.SetReadDeadline)
	}
	return nil
}

// SetWriteDeadline says until when it may be written to.
func (c *Conn) SetWriteDeadline(t time.Time) error {
	c.writes.want(t)
	return c.writes.settle(c.Conn.SetWriteDeadline)
}

// SetDeadline says both.
func (c *Conn) SetDeadline(t time.Time) error {
	return errors.Join(c.SetReadDeadline(t), c.SetWriteDeadline(t))
}

// Read reads what the client sent. Who reads isn't in the midst of writing an answer. A connection on which nothing ever came ends with
// io.EOF, also where its time is over or it was reset: there is nobody to be told.
func (c *Conn) Read(b []byte) (int, error) {
	if c.loan != nil && c.wrote {
		c.loan.Back()
		c.loan = nil
	}
	if !c.body.IsZero() {
		next := time.Now().Add(c.of.o.BodyPause)
		if next.After(c.body) {
			next = c.body
		}
		c.reads.want(next)
	}
	if err := c.reads.settle(c.Conn.SetReadDeadline); err != nil {
		return 0, err
	}
	n, err := c.Conn.Read(b)
	if c.heard = c.heard || n > 0; err != nil && !c.heard {
		err = io.EOF
	}
	return n, err
}

// SyscallConn gives the connection itself to who looks whether its client is still there.
func (c *Conn) SyscallConn() (syscall.RawConn, error) {
	if own, ok := c.Conn.(syscall.Conn); ok {
		return own.SyscallConn()
	}
	return nil, errors.ErrUnsupported
}

// ReadFrom sends what r gives, out of a file without passing through memory.
func (c *Conn) ReadFrom(r io.Reader) (int64, error) {
	if len(c.held) > 0 { // what was written comes before it
		if _, err := c.Write(nil); err != nil {
			return 0, err
		}
	}
	return io.Copy(c.Conn, r)
}

const (
	lingerTime  = 2 * time.Second // that Close waits for a client's end
	lingerBytes = 256 << 10       // that it passes over
)

// Linger has Close pass over what the client is still sending, for a bounded time and as many bytes: closed on unread bytes, a connection
// is reset, and the client may never see its answer.
func (c *Conn) Linger() { c.lingers.Store(true) }

// Close closes the connection and makes its place free.
func (c *Conn) Close() error {
	if c.lingers.Swap(false) {
		if half, ok := c.Conn.(interface{ CloseWrite() error }); ok {
			half.CloseWrite()
		}
		c.Conn.SetReadDeadline(time.Now().Add(lingerTime))
		io.CopyN(io.Discard, c.Conn, lingerBytes)
	}
	return c.drop()
}

// drop closes the connection at once.
func (c *Conn) drop() error {
	c.of.mu.Lock()
	delete(c.of.held, c)
	c.of.mu.Unlock()
	return c.Conn.Close()
}
