package main

import (
	"bytes"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"image"
	"image/png"
	"io"
	"math/rand"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"echolane/core/policy"
	"echolane/internal/testbed"
)

// A siege: a service that is given little memory is attacked in every way that once took it down, all at once, while one
// cached picture is asked for every 20 ms. What is held is the time that this picture takes, as a ratio of what it takes
// alone; that nothing but answers and refusals with reasons comes back; and that the process is the same afterwards. One
// processor is left to what is kept: with a render on every one, the answers wait for ticks of the kernel's clock.

const (
	siegeCommand = "siege-attack"
	siegeEvery   = 20 * time.Millisecond
	siegeAlone   = 8 * time.Second
	siegeFiles   = 20      // of each hostile file, at once
	siegeSignIns = 60      // at once
	siegeWidths  = 60      // of a source of 45 MB, at once
	siegeRandom  = 10_000  // addresses that were never asked for
	siegeAddress = 4 << 20 // kB of address space
)

func siege(r *report) error {
	return onTestBed(func(bed *testbed.Bed, t testing.TB) error {
		dir, err := os.MkdirTemp("", "echolane-siege-")
		if err != nil {
			return err
		}
		defer os.RemoveAll(dir)
		if err := os.Chmod(dir, 0o755); err != nil {
			return err
		}
		large, err := noise(3900, 3900) // 45 MB
		if err != nil {
			return err
		}
		for name, data := range map[string][]byte{"small.avif": emptyExtents(4000), "large.avif": emptyExtents(12000), "large.png": large} {
			if err := write(dir, name, data); err != nil {
				return err
			}
		}
		s := testbed.Start(t, "sh", []string{"-c", fmt.Sprintf(`ulimit -v %d && exec "$0" serve --listen 127.0.0.1:0 --workers %d --cache-dir "$1"`, siegeAddress, max(1, runtime.NumCPU()-1)), bed.Binary, filepath.Join(dir, "cache")},
			[]string{"GOMEMLIMIT=512MiB", "ECHOLANE_DATABASE_URL=" + bed.Database(t), "ECHOLANE_TOKEN=" + testbed.Token, "ECHOLANE_SECRET_KEY=" + testbed.SecretKey, "ECHOLANE_DRAIN_DELAY=0s", "ECHOLANE_LOG_LEVEL=warn"})
		testbed.Eventually(t, "the service answers", func() error {
			if pid := listener(s.Cmd.Process.Pid); pid != "" {
				s.Base = "http://" + pid
				if a, err := http.Get(s.Base + "/-/live"); err == nil {
					a.Body.Close()
					return nil
				}
			}
			return fmt.Errorf("not yet: %s", s.Said())
		})
		bed.Must(t, s, "site", "add", "kestrel")
		bed.Must(t, s, "lane", "add", "kestrel/catalogue", "--folder", bed.Pictures)
		bed.Must(t, s, "lane", "add", "kestrel/hostile", "--folder", dir, "--original", "download")
		hot := s.Base + "/kestrel/catalogue/delta-red.jpg?width=320&format=webp"
		if _, _, err := get(hot); err != nil {
			return err
		}
		time.Sleep(2 * time.Second) // until what is kept has taken the first answer's place
		pid := s.Cmd.Process.Pid
		before := memoryOf(pid)
		alone, failed := paced(hot, siegeAlone, nil)
		if failed > 0 {
			return fmt.Errorf("%d of the hot picture's answers failed before anything was attacked", failed)
		}
		self, err := os.Executable()
		if err != nil {
			return err
		}
		attack := exec.Command("chrt", "--idle", "0", self, siegeCommand, s.Base) // on a machine of its own it would take none of these processors
		var told bytes.Buffer
		attack.Stdout, attack.Stderr = &told, os.Stderr
		if err := attack.Start(); err != nil {
			return err
		}
		ended := make(chan struct{})
		go func() { attack.Wait(); close(ended) }()
		under, failed := paced(hot, 3*time.Minute, ended)
		<-ended
		var got map[string]int
		if err := json.Unmarshal(told.Bytes(), &got); err != nil {
			return fmt.Errorf("the attack says %q: %w", told.String(), err)
		}
		odd, all := 0, 0
		for outcome, n := range got {
			all += n
			if !strings.HasPrefix(outcome, "2") && !strings.HasPrefix(outcome, "4") && !strings.HasPrefix(outcome, "503") || strings.HasSuffix(outcome, " ") {
				odd += n
			}
		}
		words := make([]string, 0, len(got))
		for outcome, n := range got {
			words = append(words, fmt.Sprintf("%s × %d", outcome, n))
		}
		slices.Sort(words)
		for _, w := range words {
			r.say("%s", w)
		}
		after := memoryOf(pid)
		r.say("the hot picture: alone p50 %v, p99 %v; under siege p50 %v, p99 %v, %d asked", at(alone, .5), at(alone, .99), at(under, .5), at(under, .99), len(under))
		r.say("memory: %d MB before, %d MB at the most, %d MB afterwards", before.now>>20, after.peak>>20, after.now>>20)
		r.atMost("the cached picture's p99, of what it is alone", float64(at(under, .99))/float64(at(alone, .99)), "×", 5)
		r.atMost("its answers that failed", float64(failed), "", 0)
		r.atMost(fmt.Sprintf("of %d hostile requests those without an answer or a reason", all), float64(odd), "", 0)
		r.atMost("the service's memory at the most, of its 512 MiB", float64(after.peak)/(512<<20), "×", 1.5)
		select {
		case <-s.Ended():
			return fmt.Errorf("the service has ended:\n%s", s.Said())
		default:
		}
		if _, _, err := get(hot); err != nil {
			return fmt.Errorf("afterwards: %w", err)
		}
		return nil
	})
}

// listener is the address that a process listens on, from its own words in /proc; "" where it doesn't yet.
func listener(pid int) string {
	inodes := map[string]bool{}
	fds, _ := filepath.Glob(fmt.Sprintf("/proc/%d/fd/*", pid))
	for _, fd := range fds {
		if to, err := os.Readlink(fd); err == nil && strings.HasPrefix(to, "socket:[") {
			inodes[strings.TrimSuffix(strings.TrimPrefix(to, "socket:["), "]")] = true
		}
	}
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/net/tcp", pid))
	if err != nil {
		return ""
	}
	for line := range strings.Lines(string(text)) {
		f := strings.Fields(line)
		if len(f) < 10 || f[3] != "0A" || !inodes[f[9]] {
			continue
		}
		var ip, port uint32
		if _, err := fmt.Sscanf(f[1], "%x:%x", &ip, &port); err == nil {
			return fmt.Sprintf("127.0.0.1:%d", port)
		}
	}
	return ""
}

// paced asks for url every 20 ms, until a time or an end, and gives how long each took.
func paced(url string, longest time.Duration, ended <-chan struct{}) (took []time.Duration, failed int) {
	client := &http.Client{Timeout: 30 * time.Second}
	tick := time.NewTicker(siegeEvery)
	defer tick.Stop()
	for end := time.Now().Add(longest); time.Now().Before(end); {
		select {
		case <-ended:
			return took, failed
		case <-tick.C:
		}
		begin := time.Now()
		a, err := client.Get(url)
		if err == nil {
			_, err = io.Copy(io.Discard, a.Body)
			a.Body.Close()
		}
		if err != nil || a.StatusCode != 200 {
			failed++
		}
		took = append(took, time.Since(begin))
	}
	return took, failed
}

func at(took []time.Duration, share float64) time.Duration {
	if len(took) == 0 {
		return 0
	}
	sorted := slices.Sorted(slices.Values(took))
	return sorted[min(len(sorted)-1, int(share*float64(len(sorted))))].Round(10 * time.Microsecond)
}

type memory struct{ now, peak int64 }

func memoryOf(pid int) (m memory) {
	text, _ := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	for line := range strings.Lines(string(text)) {
		name, value, _ := strings.Cut(line, ":")
		var kb int64
		fmt.Sscan(value, &kb)
		switch name {
		case "VmRSS":
			m.now = kb << 10
		case "VmHWM":
			m.peak = kb << 10
		}
	}
	return m
}

// besiege is the attacking process: everything at once. It prints what came back, by status and reason.
func besiege(base string) error {
	var mu sync.Mutex
	got := map[string]int{}
	client := &http.Client{Timeout: 2 * time.Minute, Transport: &http.Transport{MaxIdleConnsPerHost: 32, MaxConnsPerHost: 0}}
	ask := func(method, path, body string) {
		q, err := http.NewRequest(method, base+path, strings.NewReader(body))
		if err != nil {
			return
		}
		if body != "" {
			q.Header.Set("Content-Type", "application/json")
		}
		outcome := "no answer"
		if a, err := client.Do(q); err == nil {
			var no policy.Refusal
			if a.StatusCode >= 400 {
				data, _ := io.ReadAll(a.Body)
				json.Unmarshal(data, &no)
			} else {
				io.Copy(io.Discard, a.Body)
			}
			a.Body.Close()
			outcome = fmt.Sprintf("%d %s", a.StatusCode, no.Reason)
			if a.StatusCode < 400 {
				outcome += "image"
			}
		}
		mu.Lock()
		got[outcome]++
		mu.Unlock()
	}
	var all sync.WaitGroup
	for _, file := range []string{"small.avif", "large.avif"} {
		for i := range siegeFiles {
			all.Go(func() {
				ask("GET", "/kestrel/hostile/"+file+[]string{"?as=facts", "?download", fmt.Sprintf("?width=%d", 50+i)}[i%3], "")
			})
		}
	}
	for i := range siegeSignIns {
		all.Go(func() {
			ask("POST", "/-/api/v1/session", fmt.Sprintf(`{"name": "wren%d", "password": "a guess"}`, i%5))
		})
	}
	for i := range siegeWidths {
		all.Go(func() { ask("GET", fmt.Sprintf("/kestrel/hostile/large.png?width=%d&format=webp", 300+i), "") })
	}
	random := rand.New(rand.NewSource(1))
	addresses := make(chan string)
	for range 16 {
		all.Go(func() {
			for a := range addresses {
				ask("GET", a, "")
			}
		})
	}
	for range siegeRandom {
		name := fmt.Sprintf("%x", random.Uint64())
		addresses <- []string{
			"/" + name + "/a/b.jpg", "/kestrel/" + name + "/b.jpg", "/kestrel/catalogue/" + name + ".jpg", "/kestrel/catalogue/mark.png?" + name + "=1", "/kestrel/catalogue/" + name + "%ff", "/" + name,
		}[random.Intn(6)]
		time.Sleep(500 * time.Microsecond)
	}
	close(addresses)
	all.Wait()
	return json.NewEncoder(os.Stdout).Encode(got)
}

// emptyExtents is an AVIF whose item locations name so many items of 65535 extents without a byte each.
func emptyExtents(items int) []byte {
	box := func(kind string, body ...byte) []byte {
		return append(append(binary.BigEndian.AppendUint32(nil, uint32(len(body)+8)), kind...), body...)
	}
	iloc := binary.BigEndian.AppendUint16([]byte{0, 0, 0, 0, 0, 0}, uint16(items))
	for i := range items {
		iloc = binary.BigEndian.AppendUint16(iloc, uint16(i+1))
		iloc = append(iloc, 0, 0, 0xff, 0xff)
	}
	inside := append([]byte{0, 0, 0, 0}, box("hdlr", []byte("\x00\x00\x00\x00\x00\x00\x00\x00pict\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00")...)...)
	inside = append(inside, box("pitm", 0, 0, 0, 0, 0, 1)...)
	inside = append(inside, box("iloc", iloc...)...)
	return append(box("ftyp", []byte("avif\x00\x00\x00\x00avifmif1miaf")...), box("meta", inside...)...)
}

// noise is a PNG of w×h pixels that nothing makes smaller.
func noise(w, h int) ([]byte, error) {
	m := image.NewRGBA(image.Rect(0, 0, w, h))
	random := rand.New(rand.NewSource(2))
	random.Read(m.Pix)
	for i := 3; i < len(m.Pix); i += 4 {
		m.Pix[i] = 255
	}
	var b bytes.Buffer
	err := (&png.Encoder{CompressionLevel: png.NoCompression}).Encode(&b, m)
	return b.Bytes(), err
}
