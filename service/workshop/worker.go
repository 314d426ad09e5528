package workshop

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"math"
	"os"
	"runtime"
	"strings"
	"time"

	"golang.org/x/sys/unix"

	"echolane/core/codec"
	"echolane/core/metadata"
	"echolane/core/policy"
	"echolane/core/render"
	"echolane/core/text"
	"echolane/service/source/held"
	"echolane/service/workshop/confine"
)

// Work is the worker's side: it gives up what it doesn't need, says what confines it, then does jobs from its socket until
// that closes.
func Work() error {
	socket := os.NewFile(confine.SocketFD, "workshop")
	measures, err := confine.Finish()
	if err != nil {
		return fmt.Errorf("confine the render worker: %w", err)
	}
	files := &fdReader{fd: confine.SocketFD}
	in, out := bufio.NewReaderSize(files, 64<<10), bufio.NewWriterSize(socket, 64<<10)
	start := time.Now()
	clock := func() time.Duration { return time.Since(start) }
	layers, findings, fonts := render.NewLayerCache(layerRoom), render.NewFindings(findingsRoom), text.NewCache(fontRoom)
	if err := send(out, hello{Measures: measures}, nil); err != nil {
		return err
	}
	var room []byte
	rest := rester{forget: func() { findings.Forget(); fonts.Forget() }}
	for {
		var o message
		data, err := receive(in, &o, math.MaxInt64)
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return err
		}
		fds := files.take()
		rest.work()
		sources, changed, err := o.sources(data, fds, &room)
		for _, fd := range fds {
			unix.Close(fd)
		}
		if err != nil {
			return err
		}
		if procs := max(1, o.Procs); procs != runtime.GOMAXPROCS(0) {
			runtime.GOMAXPROCS(procs)
		}
		if !changed && o.Kind == toRender && len(o.More) > 0 {
			if err := doMany(&o, sources, clock, findings, out); err != nil {
				return err
			}
			rest.done(sources)
			continue
		}
		a := answer{Changed: changed}
		if !changed {
			digests := o.digests(sources)
			o.Job.Clock, o.Job.Layers, o.Job.Findings, o.Job.FontCache = clock, layers, findings, fonts
			a.do(&o, sources)
			a.Digests = <-digests
		}
		if err := send(out, a, a.Result.Data); err != nil {
			return err
		}
		rest.done(sources)
	}
}

// do does what the order says.
func (a *answer) do(o *message, sources [][]byte) {
	var err error
	switch o.Kind {
	case toHeader:
		if kind := text.FontType(sources[0]); kind != "" { // a lane has fonts, too
			if err = text.CheckFont(sources[0]); err != nil {
				err = policy.No(policy.Refusal{Reason: policy.ReasonSourceBroken, Detail: "the font can't be read: " + err.Error(), Remedy: "put a whole TTF, OTF, WOFF or WOFF2 file in its place"})
			}
			a.Header = codec.Header{Type: kind, W: 1, H: 1, Orientation: 1, Frames: 1}
			break
		}
		a.Header, err = render.Header(sources[0])
	case toStrip:
		ok := false
		if a.Splices, ok = metadata.StripSplices(sources[0]); !ok || len(a.Splices) > mostSplices {
			a.Splices = nil
			err = policy.No(policy.Refusal{Reason: policy.ReasonSourceBroken, Detail: "what the source says of its making can't be taken out of it", Remedy: "put a whole copy of the picture in its place, or set the lane's metadata to keep"})
		}
	default:
		o.Job.Pictures = map[string][]byte{}
		o.Job.Fonts = map[string][]byte{}
		for i, in := range o.Inputs[1:] {
			if name, ok := strings.CutPrefix(in.Name, fontPrefix); ok {
				o.Job.Fonts[name] = sources[i+1]
			} else {
				o.Job.Pictures[in.Name] = sources[i+1]
			}
		}
		a.Result, err = render.Variant(sources[0], o.Job)
	}
	a.Refusal = refusalOf(err)
}

func refusalOf(err error) *policy.Refusal {
	var no *policy.Refusal
	if err != nil && !errors.As(err, &no) {
		no = policy.No(policy.Refusal{Reason: policy.ReasonInternal, Detail: err.Error(), Remedy: "tell whoever runs the service"})
	}
	return no
}

// doMany makes many variants of one source, and sends each as soon as it is there.
func doMany(o *message, sources [][]byte, clock func() time.Duration, findings *render.Findings, out *bufio.Writer) error {
	digests := o.digests(sources)
	jobs := append([]render.Job{o.Job}, o.More...)
	for i := range jobs {
		jobs[i].Clock, jobs[i].Findings = clock, findings
	}
	var read []held.Digest
	var broke error
	render.Variants(sources[0], jobs, func(i int, made render.Outcome) {
		if read == nil {
			read = <-digests
		}
		if broke == nil {
			broke = send(out, answer{Index: i, Result: made.Result, Digests: read, Refusal: refusalOf(made.Err)}, made.Result.Data)
		}
	})
	return broke
}

// mostSplices is how many runs a stripped source may be put together of.
const mostSplices = 20_000

// layerRoom is how many bytes of decoded layers a worker keeps.
const layerRoom = 16 << 20

// fontRoom is how many bytes of fonts a worker keeps while it works.
const fontRoom = 64 << 20

// findingsRoom is how many bytes of what was found in pictures a worker keeps while it works.
const findingsRoom = 24 << 20
