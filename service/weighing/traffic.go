package weighing

import (
	"fmt"
	"strings"
	"sync"
	"time"

	"github.com/chromedp/cdproto/fetch"
	"github.com/chromedp/cdproto/network"
)

// asked is one request of the page.
type asked struct {
	id       network.RequestID
	url      string
	kind     string
	status   int64
	cache    string
	bytes    float64
	finished bool
	failed   string
	image    bool
	ended    float64 // seconds since 1970
}

// traffic is what a tab asked for.
type traffic struct {
	mu     sync.Mutex
	byID   map[network.RequestID]*asked
	order  []*asked
	last   time.Time
	epoch  float64 // seconds since 1970 of the browser's own clock's zero
	closed bool    // what is asked for from now on isn't the page's doing
	paused chan *fetch.EventRequestPaused
}

// close ends the count of requests.
func (t *traffic) close() {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.closed = true
}

func (t *traffic) see(ev any) {
	t.mu.Lock()
	defer t.mu.Unlock()
	switch e := ev.(type) {
	case *network.EventRequestWillBeSent:
		t.last = time.Now()
		if t.epoch == 0 {
			t.epoch = e.WallTime.Float64() - e.Timestamp.Float64()
		}
		if !t.closed && len(t.order) < 20000 && !strings.HasPrefix(e.Request.URL, "data:") {
			a := &asked{id: e.RequestID, url: e.Request.URL, image: string(e.Type) == "Image"}
			t.byID[e.RequestID] = a
			t.order = append(t.order, a)
		}
	case *network.EventResponseReceived:
		if a := t.byID[e.RequestID]; a != nil && e.Response != nil {
			a.kind, a.status = e.Response.MimeType, e.Response.Status
			for name, v := range e.Response.Headers {
				if strings.EqualFold(name, "cache-control") {
					a.cache = fmt.Sprint(v)
				}
			}
			a.image = a.image || strings.HasPrefix(a.kind, "image/")
		}
	case *network.EventLoadingFinished:
		t.last = time.Now()
		if a := t.byID[e.RequestID]; a != nil {
			a.bytes, a.finished, a.ended = e.EncodedDataLength, true, t.epoch+e.Timestamp.Float64()
		}
	case *network.EventLoadingFailed:
		t.last = time.Now()
		if a := t.byID[e.RequestID]; a != nil {
			a.failed, a.finished = e.ErrorText, true
		}
	case *fetch.EventRequestPaused:
		select {
		case t.paused <- e:
		default:
		}
	}
}

func (t *traffic) quiet(wait time.Duration) bool {
	t.mu.Lock()
	defer t.mu.Unlock()
	if time.Since(t.last) < wait {
		return false
	}
	open := 0
	for _, a := range t.order {
		if !a.finished {
			open++
		}
	}
	return open == 0 || time.Since(t.last) > 3*time.Second
}

func newTraffic() *traffic {
	return &traffic{byID: map[network.RequestID]*asked{}, last: time.Now(), paused: make(chan *fetch.EventRequestPaused, 4096)}
}
