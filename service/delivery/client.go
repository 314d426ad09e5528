package delivery

import (
	"context"
	"errors"
	"syscall"
	"time"

	"github.com/valyala/fasthttp"
	"golang.org/x/sys/unix"
)

// unwatched is how long a request may take before its client is looked after.
const unwatched = 5 * time.Millisecond

// waiting gives a context that ends when the client has gone, or all requests are given up. leave must be called before the
// request is answered.
//
// The HTTP server says nothing of a client that goes while its request is worked on. So the connection is looked at, without
// taking anything from it, whenever there is something to read: what comes is the next request, or the end.
func (s *Service) waiting(c *fasthttp.RequestCtx) (ctx context.Context, leave func()) {
	ctx, cancel := context.WithCancel(s.base)
	conn := c.Conn()
	system, ok := conn.(syscall.Conn)
	if !ok {
		return ctx, cancel
	}
	raw, err := system.SyscallConn()
	if err != nil {
		return ctx, cancel
	}
	conn.SetReadDeadline(time.Time{})
	ended := make(chan struct{})
	// What is answered at once isn't worth a look.
	look := time.AfterFunc(unwatched, func() {
		defer close(ended)
		s.Panics.Run("look whether a client is there", func() error {
			return raw.Read(func(fd uintptr) bool {
				var b [1]byte
				n, _, err := unix.Recvfrom(int(fd), b[:], unix.MSG_PEEK|unix.MSG_DONTWAIT)
				switch {
				case errors.Is(err, unix.EAGAIN), errors.Is(err, unix.EINTR):
					return false // wait until there is something
				case err != nil, n == 0:
					cancel()
				}
				return true
			})
		})
	})
	return ctx, func() {
		if look.Stop() {
			cancel()
			return
		}
		conn.SetReadDeadline(time.Unix(1, 0)) // ends the look
		<-ended
		conn.SetReadDeadline(time.Time{})
		cancel()
	}
}
