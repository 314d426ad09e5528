package weighing

import (
	"context"
	"errors"
	"io"
	"net"
	"net/http"
	"net/netip"
	"strconv"
	"sync"
	"time"

	"echolane/core/policy"
	"echolane/service/panics"
	"echolane/service/source"
)

// proxy is the only way that the browser has to anywhere. It connects as web lanes do: to public addresses alone, the
// very ones that it has checked, but for private ones that the site's lanes list, and for the service itself.
type proxy struct {
	site    string
	private []netip.Prefix
	self    map[string]string // host:port of the service, as pages have it → where it listens
	server  *http.Server
	address string
	client  *http.Transport
	catch   *panics.Catcher
	serving sync.WaitGroup

	mu      sync.Mutex
	files   map[string]file   // by URL, instead of what the network has
	refused map[string]string // host → why nothing is taken from it
	broken  map[string]string // host → why it can't be reached
	bytes   int64
}

// mostBytes is how much one weigh-in may take from the network.
const mostBytes = 512 << 20

var errTooMuch = errors.New("the page takes more than 512 MiB")

func startProxy(site string, private []netip.Prefix, self map[string]string, catch *panics.Catcher) (*proxy, error) {
	p := &proxy{catch: catch, site: site, private: private, self: self, refused: map[string]string{}, broken: map[string]string{}}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	p.address = l.Addr().String()
	p.client = &http.Transport{DialContext: p.dial, TLSHandshakeTimeout: 5 * time.Second, ResponseHeaderTimeout: 15 * time.Second, DisableCompression: true, MaxIdleConnsPerHost: 6, IdleConnTimeout: 10 * time.Second}
	p.server = &http.Server{Handler: p, ReadHeaderTimeout: 10 * time.Second}
	catch.Go(&p.serving, "serve the way out of a weigh-in", func() { p.server.Serve(l) })
	return p, nil
}

// stand has files, by their URLs, be answered instead of what the network has; nil: none.
func (p *proxy) stand(files map[string]file) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.files = files
}

func (p *proxy) close() {
	p.server.Close()
	p.client.CloseIdleConnections()
}

func (p *proxy) dial(ctx context.Context, network, address string) (net.Conn, error) {
	if own, ok := p.self[address]; ok {
		return (&net.Dialer{Timeout: 3 * time.Second}).DialContext(ctx, network, own)
	}
	conn, err := source.Dial(ctx, p.site, p.private, network, address)
	if err != nil {
		host, _, _ := net.SplitHostPort(address)
		p.mu.Lock()
		p.broken[host] = err.Error()
		p.mu.Unlock()
	}
	var no *policy.Refusal
	if errors.As(err, &no) {
		host, _, _ := net.SplitHostPort(address)
		p.mu.Lock()
		p.refused[host] = no.Detail
		p.mu.Unlock()
	}
	return conn, err
}

func (p *proxy) spend(n int) error {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.bytes += int64(n); p.bytes > mostBytes {
		return errTooMuch
	}
	return nil
}

// metered counts what comes through.
type metered struct {
	io.Reader
	p *proxy
}

func (m metered) Read(b []byte) (int, error) {
	n, err := m.Reader.Read(b)
	if over := m.p.spend(n); over != nil {
		return n, over
	}
	return n, err
}

// ServeHTTP takes what browsers ask of a proxy (RFC 9110, sections 3.7 and 9.3.6).
func (p *proxy) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	if r.Method == http.MethodConnect {
		p.tunnel(w, r)
		return
	}
	if !r.URL.IsAbs() || r.URL.Scheme != "http" {
		http.Error(w, "this is a proxy", http.StatusBadRequest)
		return
	}
	p.mu.Lock()
	f, ok := p.files[r.RequestURI]
	p.mu.Unlock()
	if ok {
		w.Header().Set("Content-Type", f.kind)
		w.Header().Set("Content-Length", strconv.Itoa(len(f.data)))
		w.Write(f.data)
		return
	}
	out := r.Clone(r.Context())
	out.RequestURI = ""
	for _, hop := range []string{"Connection", "Proxy-Connection", "Keep-Alive", "Te", "Trailer", "Transfer-Encoding", "Upgrade", "Proxy-Authorization"} {
		out.Header.Del(hop)
	}
	answer, err := p.client.RoundTrip(out)
	if err != nil {
		http.Error(w, err.Error(), http.StatusBadGateway)
		return
	}
	defer answer.Body.Close()
	for name, values := range answer.Header {
		if name == "Connection" || name == "Keep-Alive" || name == "Transfer-Encoding" {
			continue
		}
		for _, v := range values {
			w.Header().Add(name, v)
		}
	}
	w.WriteHeader(answer.StatusCode)
	flush, _ := w.(http.Flusher)
	buffer := make([]byte, 32<<10)
	body := metered{answer.Body, p}
	for {
		n, err := body.Read(buffer)
		if n > 0 {
			if _, broke := w.Write(buffer[:n]); broke != nil {
				return
			}
			if flush != nil {
				flush.Flush()
			}
		}
		if err != nil {
			return
		}
	}
}

func (p *proxy) tunnel(w http.ResponseWriter, r *http.Request) {
	to, err := p.dial(r.Context(), "tcp", r.Host)
	if err != nil {
		http.Error(w, err.Error(), http.StatusBadGateway)
		return
	}
	defer to.Close()
	hijacker, ok := w.(http.Hijacker)
	if !ok {
		return
	}
	from, buffered, err := hijacker.Hijack()
	if err != nil {
		return
	}
	defer from.Close()
	if _, err := io.WriteString(from, "HTTP/1.1 200 Connection established\r\n\r\n"); err != nil {
		return
	}
	done := make(chan struct{}, 2)
	p.catch.Go(&p.serving, "send through a tunnel", func() { defer func() { done <- struct{}{} }(); io.Copy(to, buffered) })
	p.catch.Go(&p.serving, "receive through a tunnel", func() { defer func() { done <- struct{}{} }(); io.Copy(from, metered{to, p}) })
	<-done
}
