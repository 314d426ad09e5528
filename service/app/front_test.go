package app

import (
	"bytes"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"fmt"
	"io"
	"math/big"
	"net"
	"net/http"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"echolane/core/policy"
	"echolane/internal/testbed"
	"echolane/service/cache/shared"
)

// front starts nginx with the lines that we recommend, before these nodes, and gives its address, and the one that speaks TLS.
func front(t *testing.T, all []*running) (plain, secure string) {
	t.Helper()
	program, err := exec.LookPath("nginx")
	if err != nil {
		t.Fatal(err)
	}
	conf, err := os.ReadFile("../../deploy/nginx/echolane.conf")
	if err != nil {
		t.Fatal(err)
	}
	free := func() string {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			t.Fatal(err)
		}
		defer l.Close()
		return l.Addr().String()
	}
	address, over, dir := free(), free(), t.TempDir()
	certificate(t, dir)
	servers := ""
	for _, r := range all {
		servers += "server " + r.Addr() + " max_fails=2 fail_timeout=5s;\n"
	}
	text := strings.NewReplacer("server 127.0.0.1:8740 max_fails=2 fail_timeout=5s; # NODES", servers, "/var/cache/nginx/echolane", filepath.Join(dir, "cache"), "listen 80;", "listen "+address+";", "# listen 443 ssl http2;", "listen "+over+" ssl http2;",
		"# server_name         img.example.test;", "server_name img.example.test;", "# ssl_certificate     /etc/ssl/img.example.test.pem;", "ssl_certificate "+dir+"/cert.pem;",
		"# ssl_certificate_key /etc/ssl/private/img.example.test.key;", "ssl_certificate_key "+dir+"/key.pem;").Replace(string(conf))
	if !strings.Contains(text, servers) {
		t.Fatal("the lines have no place for the nodes")
	}
	user := ""
	if os.Geteuid() == 0 {
		user = "user root;"
	}
	whole := fmt.Sprintf(`daemon off; pid %[1]s/pid; error_log %[1]s/error.log; worker_processes 1; %[2]s
		events {} http { access_log off; client_body_temp_path %[1]s/b; proxy_temp_path %[1]s/p; fastcgi_temp_path %[1]s/f; uwsgi_temp_path %[1]s/u; scgi_temp_path %[1]s/s;
		%[3]s }`, dir, user, text)
	file := filepath.Join(dir, "nginx.conf")
	os.WriteFile(file, []byte(whole), 0o644)
	cmd := exec.Command(program, "-e", filepath.Join(dir, "error.log"), "-c", file)
	var said bytes.Buffer
	cmd.Stdout, cmd.Stderr = &said, &said
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		cmd.Process.Signal(os.Interrupt)
		cmd.Wait()
		if t.Failed() {
			log, _ := os.ReadFile(filepath.Join(dir, "error.log"))
			t.Logf("nginx said: %s\n%s", said.String(), log)
		}
	})
	testbed.Eventually(t, "nginx answers", func() error {
		c, err := net.Dial("tcp", address)
		if err == nil {
			c.Close()
		}
		return err
	})
	return "http://" + address, "https://" + over
}

// certificate writes a certificate for img.example.test, and its key.
func certificate(t *testing.T, dir string) {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	c := &x509.Certificate{SerialNumber: big.NewInt(1), DNSNames: []string{"img.example.test"}, NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour)}
	made, err := x509.CreateCertificate(rand.Reader, c, c, &key.PublicKey, key)
	if err != nil {
		t.Fatal(err)
	}
	private, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		t.Fatal(err)
	}
	for name, b := range map[string]*pem.Block{"cert.pem": {Type: "CERTIFICATE", Bytes: made}, "key.pem": {Type: "PRIVATE KEY", Bytes: private}} {
		if err := os.WriteFile(filepath.Join(dir, name), pem.EncodeToMemory(b), 0o644); err != nil {
			t.Fatal(err)
		}
	}
}

// A cache in front that is set up as we say holds five variants of an address at most, asks once for all, goes on when a node is
// lost, and keeps what only some may have from others.
func TestNginxInFront(t *testing.T) {
	t.Parallel()
	all, _ := nodes(t, 3, folderStore(t), shared.Credentials{}, func(o *Options) { o.Proxies = []netip.Prefix{netip.MustParsePrefix("127.0.0.0/8")} })
	all[0].put("kite.png", picture(t, 300, 200))
	base, secure := front(t, all)
	get := func(path string, fields ...string) answer {
		t.Helper()
		q, err := http.NewRequest("GET", base+path, nil)
		if err != nil {
			t.Fatal(err)
		}
		for i := 0; i+1 < len(fields); i += 2 {
			q.Header.Set(fields[i], fields[i+1])
		}
		a, err := http.DefaultTransport.RoundTrip(q)
		if err != nil {
			t.Error(err)
			return answer{Response: &http.Response{Header: http.Header{}}}
		}
		defer a.Body.Close()
		data, err := io.ReadAll(a.Body)
		if err != nil {
			t.Error(err)
		}
		return answer{a, data}
	}
	asked := func() (n int) {
		for _, from := range []string{"memory", "disk", "store", "made", "joined"} {
			n += count(t, all, from)
		}
		return n
	}
	const path = "/kestrel/f/kite.png?width=90"
	var wait sync.WaitGroup
	for i := range 60 {
		wait.Go(func() {
			accept := []string{"image/avif,image/webp,image/apng,image/svg+xml,image/*,*/*;q=0.8", "image/avif,image/webp,image/png,image/svg+xml,image/*;q=0.8,*/*;q=0.5", "image/webp,*/*", "*/*", "text/html", "image/jxl,image/avif,image/webp,image/apng,image/*,*/*;q=0.8", "image/png"}[i%7]
			want := []string{"image/avif", "image/avif", "image/webp", "image/jpeg", "image/jpeg", "image/avif", "image/png"}[i%7]
			if a := get(path, "Accept", accept); a.StatusCode != 200 || a.Header.Get("Content-Type") != want {
				t.Errorf("for %s: %d %s", accept, a.StatusCode, a.Header.Get("Content-Type"))
			}
		})
	}
	wait.Wait()
	if n := asked(); n != 5 {
		t.Errorf("for sixty requests in five kinds the nodes were asked %d times", n)
	}
	whole := get(path, "Accept", "image/webp")
	if a := get(path, "Accept", "image/webp", "Range", "bytes=0-9"); a.StatusCode != 206 || !bytes.Equal(a.body, whole.body[:10]) {
		t.Errorf("a range of it: %d, %d bytes", a.StatusCode, len(a.body))
	}
	if a := get(path, "Accept", "image/webp", "If-None-Match", whole.Header.Get("ETag")); a.StatusCode != 304 {
		t.Errorf("on condition: %d", a.StatusCode)
	}
	// Pages that may embed are asked for each time.
	d := all[0].settings.Current().Site("kestrel")
	doc := d.Document.Clone()
	doc.Pages = policy.Pages{Allow: []string{"https://shop.test"}, Silent: "refuse"}
	if _, err := all[0].Store().ChangeSite(t.Context(), doc, d.Version, "test", "pages"); err != nil {
		t.Fatal(err)
	}
	const kept = "/kestrel/f/kite.png?width=91"
	everywhere := func(what string, status int) {
		t.Helper()
		testbed.Eventually(t, what, func() error {
			for _, r := range all {
				if a := r.get(kept, "Referer", "https://elsewhere.test/"); a.StatusCode != status {
					return fmt.Errorf("%d", a.StatusCode)
				}
			}
			return nil
		})
	}
	everywhere("the rule holds", 403)
	if a := get(kept, "Referer", "https://shop.test/"); a.StatusCode != 200 {
		t.Errorf("a page that may: %d %s", a.StatusCode, a.body)
	}
	if a := get(kept, "Referer", "https://elsewhere.test/"); a.StatusCode != 403 {
		t.Errorf("a page that mayn't, after one that may: %d %s", a.StatusCode, a.Header)
	}
	doc.Pages = d.Document.Pages
	if _, err := all[0].Store().ChangeSite(t.Context(), doc, d.Version+1, "test", "pages"); err != nil {
		t.Fatal(err)
	}
	everywhere("the rule is gone", 200)
	// A node goes while others ask.
	stopped := make(chan struct{})
	go func() { all[2].Stop(); close(stopped) }()
	for i := range 60 {
		wait.Go(func() {
			if a := get(fmt.Sprintf("/kestrel/f/kite.png?width=%d&format=webp", 100+i%20)); a.StatusCode != 200 {
				t.Errorf("while a node goes: %d %s", a.StatusCode, a.body)
			}
		})
	}
	wait.Wait()
	<-stopped
	// Over TLS it is the same, in HTTP/2.
	c := &http.Client{Transport: &http.Transport{ForceAttemptHTTP2: true, TLSClientConfig: &tls.Config{InsecureSkipVerify: true, ServerName: "img.example.test"}}}
	q, _ := http.NewRequest("GET", secure+"/kestrel/f/kite.png?width=50&format=png", nil)
	q.Host = "img.example.test"
	if a, err := c.Do(q); err != nil || a.StatusCode != 200 || a.ProtoMajor != 2 || a.Header.Get("Content-Type") != "image/png" || a.TLS.PeerCertificates[0].DNSNames[0] != "img.example.test" {
		t.Errorf("over TLS: %v, %v", a, err)
	} else {
		a.Body.Close()
	}
}
