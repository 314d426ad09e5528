package main

import (
	"bytes"
	"errors"
	"fmt"
	"image"
	"image/jpeg"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"testing"
	"time"

	"echolane/core/codec/png"
	"echolane/core/declare"
	"echolane/core/policy"
	"echolane/core/render"
	"echolane/demo/pictures"
	"echolane/internal/testbed"
)

// outside lets the test bed's helpers run outside a test: what would fail a test is thrown as an error.
type outside struct {
	testing.TB
	cleanups []func()
}

type failure struct{ error }

func (o *outside) Helper()                   {}
func (o *outside) Failed() bool              { return false }
func (o *outside) Cleanup(f func())          { o.cleanups = append(o.cleanups, f) }
func (o *outside) Fatal(args ...any)         { panic(failure{errors.New(fmt.Sprint(args...))}) }
func (o *outside) Fatalf(f string, a ...any) { panic(failure{fmt.Errorf(f, a...)}) }
func (o *outside) TempDir() string           { return os.TempDir() }

// onTestBed runs f with a bed and takes everything down afterwards.
func onTestBed(f func(bed *testbed.Bed, t testing.TB) error) (err error) {
	bed, err := testbed.New()
	if err != nil {
		return err
	}
	defer bed.Close()
	o := &outside{}
	defer func() {
		if thrown, ok := recover().(failure); ok {
			err = thrown.error
		}
		for i := len(o.cleanups) - 1; i >= 0; i-- {
			o.cleanups[i]()
		}
	}()
	return f(bed, o)
}

// photograph is the demo's largest one as a camera of 2560×1600 would have written it: baseline, 4:2:0.
func photograph() ([]byte, error) { return photographOf(2560, 1600) }

// photographOf is the same of another size.
func photographOf(w, h int) ([]byte, error) {
	source, err := pictures.Load("delta-red.jpg")
	if err != nil {
		return nil, err
	}
	d, err := declare.Parse(fmt.Sprintf("width=%d&height=%d&object-fit=cover&format=png", w, h))
	if err != nil {
		return nil, err
	}
	r, err := render.Variant(source, render.Job{Request: d.Resolve(declare.Declarations{}, nil), Limits: policy.DefaultLimits})
	if err != nil {
		return nil, err
	}
	p, err := png.Decode(r.Data)
	if err != nil {
		return nil, err
	}
	var b bytes.Buffer
	m := &image.RGBA{Pix: p.RGBA.Pix, Stride: p.RGBA.Stride, Rect: image.Rect(0, 0, p.RGBA.W, p.RGBA.H)}
	err = jpeg.Encode(&b, m, &jpeg.Options{Quality: 85})
	return b.Bytes(), err
}

var requestsPerSecond = regexp.MustCompile(`Requests/sec:\s+([0-9.]+)`)

// load asks for url over and over for some seconds, from one thread, and gives requests per second.
func load(url string, seconds int, more ...string) (float64, error) {
	out, err := exec.Command("wrk", append(append([]string{"-t1", "-c32", fmt.Sprintf("-d%ds", seconds), "-H", "Accept: image/webp"}, more...), url)...).CombinedOutput()
	if err != nil {
		return 0, fmt.Errorf("wrk: %w\n%s", err, out)
	}
	if bytes.Contains(out, []byte("Non-2xx")) {
		return 0, fmt.Errorf("wrk got errors from %s:\n%s", url, out)
	}
	m := requestsPerSecond.FindSubmatch(out)
	if m == nil {
		return 0, fmt.Errorf("wrk says nothing of requests:\n%s", out)
	}
	return strconv.ParseFloat(string(m[1]), 64)
}

func get(url string) (*http.Response, []byte, error) {
	r, err := http.NewRequest("GET", url, nil)
	if err != nil {
		return nil, nil, err
	}
	r.Header.Set("Accept", "image/webp")
	answer, err := http.DefaultClient.Do(r)
	if err != nil {
		return nil, nil, err
	}
	defer answer.Body.Close()
	body, err := io.ReadAll(answer.Body)
	if err == nil && answer.StatusCode != 200 {
		err = fmt.Errorf("%s: %s: %s", url, answer.Status, body)
	}
	return answer, body, err
}

func write(dir, name string, data []byte) error {
	return os.WriteFile(filepath.Join(dir, name), data, 0o644)
}

// settled waits until a service has nothing under way: nothing to be searched for, rendered or written.
func settled(s *testbed.Process, t testing.TB) {
	for {
		a := s.Get(t, "/-/metrics", "Authorization", "Bearer "+testbed.Token)
		waiting := 0.0
		for _, m := range regexp.MustCompile(`(?m)^echolane_(?:refinements_waiting|store_waiting|renders_waiting\{.*\}|requests_under_way) (\S+)$`).FindAllStringSubmatch(string(a.Data), -1) {
			v, _ := strconv.ParseFloat(m[1], 64)
			waiting += v
		}
		if waiting <= 1 { // the one that asks
			return
		}
		time.Sleep(100 * time.Millisecond)
	}
}
