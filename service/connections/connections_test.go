package connections

import (
	"bytes"
	"io"
	"log/slog"
	"net"
	"os"
	"strings"
	"sync"
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

func TestAShortBeginningIsSentWithWhatFollows(t *testing.T) {
	l, _ := listening(t, 4, nil)
	client := dial(t, l)
	ours := accept(t, l)
	head, body := []byte("head and a little;"), bytes.Repeat([]byte("body"), 100_000)
	for _, c := range []struct {
		about  string
		coming int
		pieces [][]byte
		held   int // bytes, after the first piece
	}{
		{"nothing said", 0, [][]byte{head, body}, 0},
		{"a beginning and a body", len(body), [][]byte{head, body}, len(head)},
		{"all in one piece", 4, [][]byte{append(head, "body"...)}, 0},
		{"a short rest", len(head), [][]byte{head, []byte("x")}, len(head)},
		{"a long beginning", len(body), [][]byte{body, []byte("x")}, 0},
		{"three pieces", len(body), [][]byte{head, body[:5], body}, len(head)},
	} {
		whole := bytes.Join(c.pieces, nil)
		got := make(chan []byte)
		go func() {
			b := make([]byte, len(whole))
			io.ReadFull(client, b)
			got <- b
		}()
		ours.Coming(c.coming)
		for i, p := range c.pieces {
			if n, err := ours.Write(p); n != len(p) || err != nil {
				t.Fatalf("%s: %d of %d written, %v", c.about, n, len(p), err)
			}
			if i == 0 && len(ours.held) != c.held {
				t.Errorf("%s: %d bytes are held, want %d", c.about, len(ours.held), c.held)
			}
		}
		if b := <-got; !bytes.Equal(b, whole) {
			t.Errorf("%s: something else came", c.about)
		}
	}
	// A stream comes after what was written before it.
	ours.Coming(100)
	ours.Write(head)
	if n, err := ours.ReadFrom(strings.NewReader("stream")); n != 6 || err != nil {
		t.Fatal(n, err)
	}
	b := make([]byte, len(head)+6)
	if _, err := io.ReadFull(client, b); err != nil || string(b) != string(head)+"stream" {
		t.Errorf("%q, %v", b, err)
	}
	ours.Coming(1 << 20)
	if n := testing.AllocsPerRun(100, func() {
		ours.Coming(10)
		ours.Write(head[:9])
		ours.Write(head[9:])
	}); n > 0 {
		t.Errorf("%v allocations an answer", n)
	}
}

type countedLoan struct{ back int }

func (l *countedLoan) Back() { l.back++ }

func TestWhatIsLentIsGivenBackOnceItIsWritten(t *testing.T) {
	l, _ := listening(t, 4, nil)
	client := dial(t, l)
	ours := accept(t, l)
	read := func() {
		t.Helper()
		client.Write([]byte("?"))
		if _, err := ours.Read(make([]byte, 1)); err != nil {
			t.Fatal(err)
		}
	}
	var first, second, third countedLoan
	ours.Begin()
	ours.Lent(&first)
	read() // the rest of the request, before the answer
	if first.back != 0 {
		t.Fatal("given back before it was written")
	}
	ours.Coming(4)
	ours.Write([]byte("he"))
	ours.Write([]byte("body"))
	if first.back != 0 {
		t.Error("given back though more may be written")
	}
	read()
	read()
	if first.back != 1 {
		t.Errorf("given back %d times", first.back)
	}
	// Of who asks again before the answer is written, it is left alone.
	ours.Begin()
	ours.Lent(&second)
	ours.Begin()
	ours.Lent(&third)
	ours.Write([]byte("both"))
	read()
	if second.back != 0 || third.back != 1 {
		t.Errorf("the second was given back %d times, the third %d", second.back, third.back)
	}
}

func TestWhoIsStillSendingGetsItsAnswer(t *testing.T) {
	l, _ := listening(t, 4, nil)
	client := dial(t, l)
	ours := accept(t, l)
	client.Write(bytes.Repeat([]byte("a"), 10_000)) // of which nothing is read
	ours.Linger()
	ours.Write([]byte("too long"))
	closed := make(chan time.Time, 1)
	go func() { ours.Close(); closed <- time.Now() }()
	for range 4 {
		time.Sleep(100 * time.Millisecond)
		if _, err := client.Write([]byte("more")); err != nil {
			t.Errorf("the rest isn't taken: %v", err)
		}
	}
	if got, err := io.ReadAll(client); string(got) != "too long" || err != nil {
		t.Errorf("%q, %v", got, err)
	}
	begun := time.Now()
	client.Close()
	if took := (<-closed).Sub(begun); took > lingerTime/2 {
		t.Errorf("it closed %v after its client", took)
	}
	// Who goes on and on is cut off, and makes room for others meanwhile.
	endless := dial(t, l)
	ours = accept(t, l)
	ours.Linger()
	go ours.Close()
	var err error
	for sent := 0; err == nil && sent < 64<<20; sent += 64 << 10 {
		_, err = endless.Write(make([]byte, 64<<10))
	}
	if err == nil {
		t.Error("all of it is taken")
	}
	if l.Held() != 0 {
		t.Errorf("%d are held", l.Held())
	}
}

// Clients that are heard out make room like others that are waited for.
func TestThoseHeardOutMakeRoom(t *testing.T) {
	began = began.Add(-time.Hour)
	l, _ := listening(t, 3, nil)
	var closing sync.WaitGroup
	for range 3 {
		dial(t, l)
		ours := accept(t, l)
		ours.since.Store(now() - int64(5*time.Second))
		ours.Linger()
		closing.Go(func() { ours.Close() })
	}
	begun := time.Now()
	dial(t, l)
	accept(t, l)
	if took := time.Since(begun); took > lingerTime/2 {
		t.Errorf("the next one waited %v", took)
	}
	closing.Wait()
	if l.Held() != 1 {
		t.Errorf("%d are held", l.Held())
	}
}

// timed is a connection that notes what deadlines it is given.
type timed struct {
	net.Conn
	reads, writes []time.Time
}

func (c *timed) Read([]byte) (int, error) { return 0, io.EOF }

func (c *timed) SetReadDeadline(t time.Time) error {
	c.reads = append(c.reads, t)
	return nil
}

func (c *timed) SetWriteDeadline(t time.Time) error {
	c.writes = append(c.writes, t)
	return nil
}

// Browsers open connections ahead of what they may ask: one that was never used ends like one that its client closed, without an answer
// that the client would take for that of the request which it is about to send.
func TestAConnectionThatWasNeverUsedEndsSilently(t *testing.T) {
	l, _ := listening(t, 3, nil)
	for _, said := range []string{"", "G"} {
		client := dial(t, l)
		ours := accept(t, l)
		io.WriteString(client, said)
		ours.SetReadDeadline(time.Now().Add(50 * time.Millisecond))
		var got []byte
		room, err := make([]byte, 8), error(nil)
		for err == nil {
			var n int
			n, err = ours.Read(room)
			got = append(got, room[:n]...)
		}
		if string(got) != said || (err == io.EOF) != (said == "") {
			t.Errorf("after %q: %q, %v", said, got, err)
		}
		ours.Close()
	}
	client := dial(t, l)
	ours := accept(t, l)
	client.(*net.TCPConn).SetLinger(0) // so that it is reset
	client.Close()
	ours.SetReadDeadline(time.Now().Add(5 * time.Second))
	if _, err := ours.Read(make([]byte, 1)); err != io.EOF {
		t.Errorf("reset before anything was sent: %v", err)
	}
}

func TestDeadlinesComeIntoForceWhereSomebodyWaits(t *testing.T) {
	under := &timed{}
	c := &Conn{Conn: under}
	start := time.Now()
	in := func(d time.Duration) time.Time { return start.Add(d) }
	read := func() { c.Read(nil) }
	for _, step := range []struct {
		about  string
		do     func()
		reads  int // deadlines that came into force so far
		writes int
	}{
		{"none", read, 0, 0},
		{"set", func() { c.SetReadDeadline(in(120 * time.Second)) }, 0, 0},
		{"waited for", read, 1, 0},
		{"set and replaced", func() {
			c.SetReadDeadline(in(30 * time.Second))
			c.SetReadDeadline(in(120*time.Second + 500*time.Millisecond))
			read()
		}, 1, 0},
		{"earlier", func() { c.SetReadDeadline(in(30 * time.Second)); read() }, 2, 0},
		{"a good deal later", func() { c.SetReadDeadline(in(32 * time.Second)); read() }, 3, 0},
		{"past", func() { c.SetReadDeadline(time.Unix(1, 0)) }, 4, 0},
		{"none at once", func() { c.SetReadDeadline(time.Time{}) }, 5, 0},
		{"for writing", func() { c.SetWriteDeadline(in(time.Minute)) }, 5, 1},
		{"for writing, about the same", func() { c.SetWriteDeadline(in(time.Minute + time.Second/2)) }, 5, 1},
		{"for writing, later", func() { c.SetWriteDeadline(in(2 * time.Minute)) }, 5, 2},
		{"both", func() { c.SetDeadline(in(time.Minute)); read() }, 6, 3},
		{"soon", func() { c.SetReadDeadline(in(50 * time.Millisecond)); read() }, 7, 3},
		{"soon, and a little later", func() { c.SetReadDeadline(in(70 * time.Millisecond)); read() }, 8, 3}, // who waits for so short a time means it
	} {
		step.do()
		if len(under.reads) != step.reads || len(under.writes) != step.writes {
			t.Fatalf("%s: %d and %d came into force, want %d and %d", step.about, len(under.reads), len(under.writes), step.reads, step.writes)
		}
	}
	if got := under.reads; !got[2].Equal(in(32*time.Second)) && !got[1].Equal(in(30*time.Second)) || !got[3].Before(start) || !got[4].IsZero() || !got[5].Equal(in(time.Minute)) {
		t.Errorf("they are %v", got)
	}
}

// A body may take longer than the rest of a request, but not for ever, and the next request has its own time again.
func TestABodyThatDripsEnds(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	const rest, whole, pause = 20 * time.Millisecond, 400 * time.Millisecond, 30 * time.Second
	all := Bound(l, Options{Most: 4, BodyPause: pause, BodyTime: whole, Log: slog.New(slog.DiscardHandler)})
	defer all.Close()
	client := dial(t, all)
	c := accept(t, all)
	defer c.Close()
	ended, dripping := make(chan struct{}), sync.WaitGroup{}
	dripping.Go(func() {
		for {
			select {
			case <-ended:
				return
			case <-time.After(5 * time.Millisecond):
				client.Write([]byte("x"))
			}
		}
	})
	c.SetReadDeadline(time.Now().Add(rest))
	c.Begin()
	c.Body()
	read := func() (took time.Duration, err error) {
		for began := time.Now(); err == nil; took = time.Since(began) {
			_, err = c.Read(make([]byte, 1))
		}
		return took, err
	}
	took, err := read()
	if late, ok := err.(net.Error); !ok || !late.Timeout() || took < whole*3/4 || took > pause/2 {
		t.Errorf("a body that drips: %v after %v", err, took)
	}
	c.End()
	c.SetReadDeadline(time.Now().Add(rest))
	if took, err := read(); err == nil || took > whole/2 {
		t.Errorf("what comes after it: %v after %v", err, took)
	}
	close(ended)
	dripping.Wait()
}
