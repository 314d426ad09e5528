package workshop

import (
	"bufio"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"strings"

	"golang.org/x/sys/unix"

	"echolane/core/codec"
	"echolane/core/metadata"
	"echolane/core/policy"
	"echolane/core/render"
	"echolane/service/source/held"
	"echolane/service/workshop/confine"
)

// What passes between workshop and worker: a packed head and bytes, each behind its length. A source that lies in a file
// goes over as that file's descriptor, so that its bytes never pass through the serving process.

// kind is what a worker is to do.
type kind uint8

const (
	toRender kind = iota // make a variant
	toHeader             // read a source's header
	toStrip              // find how a source is put together without what it says of its making
)

// message is what a worker is told; the bytes of the inputs that aren't in files follow it one after another.
type message struct {
	Kind   kind
	Job    render.Job
	More   []render.Job `json:",omitempty"` // of the same source, beside Job: each has an answer of its own
	Procs  int          // processors that it may use at a time
	Inputs []input      // the picture's own source first, then the layers'
}

// input is one source of an order.
type input struct {
	Name   string // lane/path of a layer
	Size   int64
	InFile bool  // the next descriptor that comes along has it
	From   int64 // in the file
}

// answer is what a worker says when it is done; a variant's bytes follow it.
type answer struct {
	Index   int // of the job: 0 is Job, 1 the first of More
	Result  render.Result
	Header  codec.Header
	Splices []metadata.Splice
	Digests []held.Digest // of the inputs, as the worker read them
	Changed bool          // a file had fewer bytes than it should have
	Refusal *policy.Refusal
}

// hello is what a worker says when it is ready.
type hello struct {
	Measures []confine.Measure
}

const (
	maxHead   = 4 << 20
	onePiece  = 64 << 10
	maxInputs = 64
)

// lengths is the beginning of a message: how long its head is, and the bytes behind that.
func lengths(head, data int64) []byte {
	b := binary.LittleEndian.AppendUint32(nil, uint32(head))
	return binary.LittleEndian.AppendUint64(b, uint64(data))
}

// tell sends an order with its inputs. The first bytes carry the descriptors of those in files.
func tell(conn *net.UnixConn, o message, contents []*held.Content) error {
	if len(contents) > maxInputs {
		return fmt.Errorf("an order with %d sources", len(contents))
	}
	var fds []int
	length := int64(0)
	for i, c := range contents {
		o.Inputs[i].Size = c.Size()
		if f, from, ok := c.File(); ok {
			o.Inputs[i].InFile, o.Inputs[i].From = true, from
			fds = append(fds, int(f.Fd()))
			continue
		}
		length += c.Size()
	}
	head, err := pack(o)
	if err != nil {
		return err
	}
	var rights []byte
	if len(fds) > 0 {
		rights = unix.UnixRights(fds...)
	}
	// In one piece where that is short, so that the worker wakes once.
	first := append(lengths(int64(len(head)), length), head...)
	rest := contents
	for len(rest) > 0 {
		data, ok := rest[0].Data()
		if ok && len(first)+len(data) > onePiece {
			break
		}
		first, rest = append(first, data...), rest[1:]
	}
	n, _, err := conn.WriteMsgUnix(first, rights, nil)
	if err == nil && n < len(first) {
		_, err = conn.Write(first[n:])
	}
	for _, c := range rest {
		if data, ok := c.Data(); ok && err == nil {
			_, err = conn.Write(data)
		}
	}
	return err
}

// send sends what a worker has to say, with a variant's bytes.
func send(w *bufio.Writer, what any, data []byte) error {
	head, err := pack(what)
	if err != nil {
		return err
	}
	for _, b := range [][]byte{lengths(int64(len(head)), int64(len(data))), head, data} {
		if _, err := w.Write(b); err != nil {
			return err
		}
	}
	return w.Flush()
}

// receive reads a message of at most so many bytes behind its head.
func receive(r io.Reader, value any, most int64) ([]byte, error) {
	var b [12]byte
	if _, err := io.ReadFull(r, b[:]); err != nil {
		return nil, err
	}
	n, m := binary.LittleEndian.Uint32(b[:]), binary.LittleEndian.Uint64(b[4:])
	if n > maxHead || m > uint64(most) {
		return nil, errors.New("a message between workshop and worker is out of bounds")
	}
	head := make([]byte, n)
	if _, err := io.ReadFull(r, head); err != nil {
		return nil, err
	}
	if err := unpack(head, value); err != nil {
		return nil, err
	}
	data := make([]byte, m)
	_, err := io.ReadFull(r, data)
	return data, err
}

// fdReader reads the worker's socket and keeps the descriptors that come along.
type fdReader struct {
	fd  int
	fds []int
	oob []byte
}

func (r *fdReader) Read(p []byte) (int, error) {
	if r.oob == nil {
		r.oob = make([]byte, unix.CmsgSpace(4*maxInputs))
	}
	for {
		n, oobn, _, _, err := unix.Recvmsg(r.fd, p, r.oob, unix.MSG_CMSG_CLOEXEC)
		if err == unix.EINTR {
			continue
		}
		if err != nil {
			return 0, os.NewSyscallError("recvmsg", err)
		}
		if oobn > 0 {
			messages, err := unix.ParseSocketControlMessage(r.oob[:oobn])
			if err != nil {
				return 0, err
			}
			for i := range messages {
				fds, err := unix.ParseUnixRights(&messages[i])
				if err != nil {
					return 0, err
				}
				r.fds = append(r.fds, fds...)
			}
		}
		if n == 0 {
			return 0, io.EOF
		}
		return n, nil
	}
}

// take hands out the descriptors that came.
func (r *fdReader) take() []int {
	fds := r.fds
	r.fds = nil
	return fds
}

// mostRoom is how many bytes a worker keeps for sources to be read to.
const mostRoom = 1 << 20

// sources brings the bytes of an order's inputs together: data holds those that came with it, fds the files of the others.
// changed says that a file had fewer bytes than it should have. room is where the first is read to where it isn't large: nothing
// of it is kept from one job to the next, other than of layers and fonts.
func (o *message) sources(data []byte, fds []int, room *[]byte) (all [][]byte, changed bool, err error) {
	for i, in := range o.Inputs {
		var b []byte
		if in.InFile {
			if len(fds) == 0 || in.Size < 0 {
				return nil, false, errors.New("an order's file didn't come")
			}
			if i == 0 && in.Size <= mostRoom {
				if int64(cap(*room)) < in.Size {
					*room = make([]byte, in.Size)
				}
				b = (*room)[:in.Size]
			} else {
				b = make([]byte, in.Size)
			}
			for at := 0; at < len(b); {
				n, err := unix.Pread(fds[0], b[at:], in.From+int64(at))
				if err == unix.EINTR {
					continue
				}
				if err != nil {
					return nil, false, os.NewSyscallError("pread", err)
				}
				if n == 0 {
					return nil, true, nil
				}
				at += n
			}
			fds = fds[1:]
		} else {
			if in.Size < 0 || in.Size > int64(len(data)) {
				return nil, false, errors.New("an order is shorter than it says")
			}
			b, data = data[:in.Size:in.Size], data[in.Size:]
		}
		all = append(all, b)
	}
	return all, false, nil
}

// besideWorth is how many bytes take longer to be worked through than another goroutine to wake.
const besideWorth = 32 << 10

// digests works the sources' digests out, beside whatever is done with them where that is worth it. Those of a header's source stay
// empty: whoever asks for it reads the whole source too.
func (o *message) digests(sources [][]byte) <-chan []held.Digest {
	done := make(chan []held.Digest, 1)
	work := func() {
		all := make([]held.Digest, len(sources))
		for i, b := range sources {
			if o.Kind != toHeader && !strings.HasPrefix(o.Inputs[i].Name, fontPrefix) {
				all[i] = held.DigestOf(b)
			}
		}
		done <- all
	}
	bytes := 0
	for _, b := range sources {
		bytes += len(b)
	}
	if o.Kind == toHeader || bytes < besideWorth {
		work()
	} else {
		go work()
	}
	return done
}
