package main

import (
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/gofiber/fiber/v3"

	"echolane/internal/testbed"
)

// bareCommand is how the benchmark starts itself as the bare handler that it compares with.
const bareCommand = "serve-bare"

// serveBare answers every request with the same bytes and a content type, and does nothing else.
func serveBare(listen, file string) error {
	body, err := os.ReadFile(file)
	if err != nil {
		return err
	}
	app := fiber.New()
	app.Get("/*", func(c fiber.Ctx) error {
		c.Set("Content-Type", "image/webp")
		return c.Send(body)
	})
	return app.Listen(listen, fiber.ListenConfig{DisableStartupMessage: true})
}

func cached(r *report) error {
	return onTestBed(func(bed *testbed.Bed, t testing.TB) error {
		service := bed.Kestrel(t)
		image := service.Base + "/kestrel/catalogue/delta-red.jpg?width=640"
		_, body, err := get(image)
		if err != nil {
			return err
		}
		served := filepath.Join(bed.Dir, "served")
		if err := os.MkdirAll(served, 0o755); err != nil {
			return err
		}
		if err := write(served, "variant.webp", body); err != nil {
			return err
		}
		bare, endBare, err := startBare(filepath.Join(served, "variant.webp"))
		if err != nil {
			return err
		}
		defer endBare()
		files, endFiles, err := startNginx(served)
		if err != nil {
			return err
		}
		defer endFiles()
		// Four thousand variants, of which memory holds a few: the disk answers.
		onDisk := bed.Kestrel(t, "--memory-cache", "1MiB", "--cache-dir", filepath.Join(bed.Dir, "cache"))
		script, err := manyOnDisk(bed, t, onDisk, len(body))
		if err != nil {
			return err
		}
		const rounds, seconds = 15, 1
		answer, _, err := get(image)
		if err != nil {
			return err
		}
		var rates [6][]float64
		var toBare, toFiles, diskToBare, conditionalToBare []float64
		for range rounds {
			var rate [6]float64
			for i, ask := range []struct {
				url  string
				more []string
			}{{image, nil}, {bare, nil}, {files + "/variant.webp", nil}, {onDisk.Base, []string{"-s", script}}, {image, []string{"-H", "If-None-Match: " + answer.Header.Get("ETag")}}, {strings.TrimSuffix(bare, "/variant.webp"), []string{"-s", script}}} {
				if rate[i], err = load(ask.url, seconds, ask.more...); err != nil {
					return err
				}
				rates[i] = append(rates[i], rate[i])
			}
			toBare, toFiles = append(toBare, rate[0]/rate[1]), append(toFiles, rate[0]/rate[2])
			diskToBare, conditionalToBare = append(diskToBare, rate[3]/rate[5]), append(conditionalToBare, rate[4]/rate[1])
		}
		r.say("%d bytes, 32 connections, one loading thread, medians of %d rounds of %d s", len(body), rounds, seconds)
		for i, what := range []string{"Echo Lane, from memory", "a bare Fiber handler that sends the same bytes", "nginx, the same bytes as a file", "Echo Lane, from disk", "Echo Lane, 304", "the bare handler, asked for as many different addresses"} {
			r.say("%-62s %7.0f/s", what, median(rates[i]))
		}
		r.atLeast("cached variant against the bare handler", median(toBare), "×", 1)
		r.atLeast("cached variant against nginx", median(toFiles), "×", 0.7)
		r.atLeast("from disk against the bare handler", median(diskToBare), "×", 0.7)
		r.atLeast("304 against the bare handler", median(conditionalToBare), "×", 1)
		return nil
	})
}

// manyOnDisk has variants lie on a node's disk, of about the same size as one, and writes a script for wrk that asks for them in turn.
func manyOnDisk(bed *testbed.Bed, t testing.TB, s *testbed.Process, size int) (script string, err error) {
	const variants = 300
	var lines []byte
	for i := range variants {
		path := fmt.Sprintf("/kestrel/catalogue/delta-red.jpg?width=%d&height=426&object-fit=cover", 560+i)
		if _, _, err := get(s.Base + path); err != nil {
			return "", err
		}
		lines = fmt.Appendf(lines, "%q,\n", path)
	}
	settled(s, t) // what is measured is what comes after they were searched for and written
	text := fmt.Sprintf("local paths = {\n%s}\nlocal i = 0\nrequest = function() i = i %% #paths + 1; return wrk.format('GET', paths[i]) end\n", lines)
	script = filepath.Join(bed.Dir, "disk.lua")
	return script, os.WriteFile(script, []byte(text), 0o644)
}

func freeAddress() (string, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return "", err
	}
	defer l.Close()
	return l.Addr().String(), nil
}

// start runs a server until end is called, and waits until it listens.
func start(address string, name string, args ...string) (end func(), err error) {
	cmd := exec.Command(name, args...)
	cmd.Stderr = os.Stderr
	if err := cmd.Start(); err != nil {
		return nil, err
	}
	end = func() {
		cmd.Process.Signal(syscall.SIGTERM)
		cmd.Wait()
	}
	for range 200 {
		if c, err := net.Dial("tcp", address); err == nil {
			c.Close()
			return end, nil
		}
		time.Sleep(25 * time.Millisecond)
	}
	end()
	return nil, fmt.Errorf("%s doesn't listen on %s", name, address)
}

func startBare(file string) (string, func(), error) {
	address, err := freeAddress()
	if err != nil {
		return "", nil, err
	}
	self, err := os.Executable()
	if err != nil {
		return "", nil, err
	}
	end, err := start(address, self, bareCommand, address, file)
	return "http://" + address + "/variant.webp", end, err
}

func startNginx(dir string) (string, func(), error) {
	address, err := freeAddress()
	if err != nil {
		return "", nil, err
	}
	conf := fmt.Sprintf(`daemon off; master_process on; worker_processes auto; pid %[1]s/pid; error_log stderr crit;
events { worker_connections 1024; }
http { access_log off; sendfile on; keepalive_requests 10000000; types { image/webp webp; } open_file_cache max=100;
  client_body_temp_path %[1]s; proxy_temp_path %[1]s; fastcgi_temp_path %[1]s; uwsgi_temp_path %[1]s; scgi_temp_path %[1]s;
  server { listen %[2]s; root %[1]s; } }`, dir, address)
	if err := write(dir, "nginx.conf", []byte(conf)); err != nil {
		return "", nil, err
	}
	end, err := start(address, "/usr/sbin/nginx", "-p", dir, "-c", filepath.Join(dir, "nginx.conf"))
	return "http://" + address, end, err
}
