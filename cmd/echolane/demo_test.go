package main

import (
	"errors"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"echolane/internal/testbed"
)

// startDemo starts the whole demo in dir and waits until it says that it is ready.
func startDemo(t *testing.T, dir string) *testbed.Process {
	t.Helper()
	p := testbed.Start(t, bed.Binary, []string{"demo", "--data", dir, "--listen", "127.0.0.1:0", "--origin", "127.0.0.1:0", "--bucket-listen", "127.0.0.1:0", "--metrics-listen", "127.0.0.1:0"}, nil)
	testbed.Eventually(t, "the demo is ready", func() error {
		if strings.Contains(p.Said(), "Ctrl-C ends all of it") {
			return nil
		}
		select {
		case <-p.Ended():
			t.Fatalf("the demo ended:\n%s", p.Said())
		default:
		}
		return errors.New("not yet")
	})
	return p
}

// consoleOf finds the service's address in what the demo prints.
var consoleOf = regexp.MustCompile(`(http://[^/\s]+)/-/console/`)

// withoutFolder is a command line without where the program lies.
func withoutFolder(line string) string {
	if _, after, ok := strings.Cut(line, "echolane "); ok {
		line = after
	}
	return strings.TrimSpace(line)
}

// quicker weighs a page on one screen, without loading it over slow lines, and sweeps one format: what is printed is to work.
func quicker(line string) string {
	switch {
	case strings.Contains(line, " weigh "):
		line += " --loads 0 --screens 'phone 390x844@3'"
	case strings.Contains(line, " sweep "):
		line += " --formats webp"
	}
	return line
}

func TestDemoAsPrinted(t *testing.T) {
	t.Parallel()
	dir := filepath.Join(bed.Dir, "demo")
	if err := os.CopyFS(filepath.Join(dir, "pictures", "catalogue"), os.DirFS(bed.Pictures)); err != nil {
		t.Fatal(err)
	}
	p := startDemo(t, dir)
	said := p.Said()
	// AVIF and a search take the longest to make, and what is printed is to work, not to be small.
	token, err := os.ReadFile(filepath.Join(dir, "token"))
	if err != nil {
		t.Fatal(err)
	}
	set := exec.Command(bed.Binary, "site", "set", "kestrel", "--formats", "webp,jpeg,png", "--effort", "predicted")
	set.Env = append(os.Environ(), "ECHOLANE_SERVER="+consoleOf.FindStringSubmatch(said)[1], "ECHOLANE_TOKEN="+strings.TrimSpace(string(token)))
	if out, err := set.CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	urls := regexp.MustCompile(`(?m)^  (http://\S+)$`).FindAllStringSubmatch(said, -1)
	if len(urls) < 5 {
		t.Fatalf("the demo prints %d addresses:\n%s", len(urls), said)
	}
	for _, u := range urls {
		want := 200
		if strings.Contains(u[1], "widht") {
			want = 400 // the mistake that it offers
		}
		answer, err := http.Get(u[1])
		if err != nil {
			t.Errorf("%s: %v", u[1], err)
			continue
		}
		answer.Body.Close()
		if answer.StatusCode != want {
			t.Errorf("%s: %d, want %d", u[1], answer.StatusCode, want)
		}
	}
	_, commands, _ := strings.Cut(said, "In another terminal:")
	export, commands, _ := strings.Cut(strings.TrimSpace(commands), "\n")
	ran := 0
	done := map[string]bool{} // what the demo prints needn't be run again for the README
	for line := range strings.SplitSeq(commands, "\n") {
		line = strings.TrimSpace(line)
		if !strings.Contains(line, "echolane ") && !strings.HasPrefix(line, "psql") {
			continue
		}
		ran++
		done[withoutFolder(line)] = true
		out, err := exec.Command("sh", "-c", strings.TrimSpace(export)+"\n"+quicker(line)).CombinedOutput()
		if err != nil {
			t.Errorf("%s: %v\n%s", line, err, out)
		}
		if strings.Contains(line, " link ") { // a private source, by a link that is signed
			answer, err := http.Get(strings.TrimSpace(string(out)))
			if err != nil || answer.StatusCode != 200 {
				t.Errorf("%s: %v %v", out, answer, err)
			}
		}
	}
	if ran < 9 {
		t.Errorf("the demo prints %d commands", ran)
	}

	// So do those of the README and of the docs, in a folder that has what they name; docs/pages.md's take minutes.
	ran = 0
	place := t.TempDir()
	os.Mkdir(filepath.Join(place, "bin"), 0o755)
	os.Symlink(bed.Binary, filepath.Join(place, "bin", "echolane"))
	os.Symlink(dir, filepath.Join(place, "var"))
	printed := regexp.MustCompile(`http://127\.0\.0\.1:\d+/`).FindString(said) // the shop's, which is named first
	for _, file := range []string{"README.md", "docs/api.md", "docs/cards.md", "docs/signing.md", "docs/sheets.md", "docs/subjects.md"} {
		text, err := os.ReadFile("../../" + file)
		if err != nil {
			t.Fatal(err)
		}
		before := strings.TrimSpace(export)
		for line := range strings.SplitSeq(string(text), "\n") {
			line, example := strings.CutPrefix(line, "    ")
			line = strings.NewReplacer("http://127.0.0.1:8741/", printed, "http://127.0.0.1:8740", consoleOf.FindStringSubmatch(said)[1]).Replace(line)
			switch {
			case example && (strings.HasPrefix(line, "api=") || strings.HasPrefix(line, "auth=")):
				before += "\n" + line
				continue
			case !example || !slices.Contains([]string{"bin/echolane", "curl", "printf"}, strings.SplitN(line, " ", 2)[0]):
				continue
			}
			ran++
			if done[withoutFolder(line)] {
				continue
			}
			run := exec.Command("sh", "-c", before+"\nexport ECHOLANE_SERVER="+consoleOf.FindStringSubmatch(said)[1]+"\n"+quicker(line))
			run.Dir = place
			out, err := run.CombinedOutput()
			if err != nil || strings.HasPrefix(line, "curl ") && strings.Contains(string(out), `"reason"`) {
				t.Errorf("%s: %s: %v\n%s", file, line, err, out)
			}
		}
	}
	if ran < 50 {
		t.Errorf("the README and the docs have %d commands", ran)
	}

	// Ended by a signal it takes everything along, PostgreSQL too.
	children := postgresOf(t, dir)
	if len(children) == 0 {
		t.Fatal("no PostgreSQL runs on the demo's data")
	}
	p.Cmd.Process.Signal(syscall.SIGINT)
	select {
	case <-p.Ended():
	case <-time.After(5 * time.Second):
		t.Fatal("the demo doesn't end within five seconds")
	}
	if code := p.Cmd.ProcessState.ExitCode(); code != 0 {
		t.Errorf("exit code %d after Ctrl-C", code)
	}
	if left := postgresOf(t, dir); len(left) > 0 {
		t.Errorf("PostgreSQL is left: %v", left)
	}

	// Killed, it recovers by itself.
	p = startDemo(t, dir)
	p.Cmd.Process.Kill()
	<-p.Ended()
	p = startDemo(t, dir)
	base := consoleOf.FindString(p.Said())
	answer, err := http.Get(base)
	if err != nil || answer.StatusCode != 200 {
		t.Errorf("after kill -9 and another start: %v, %v", answer, err)
	}
	if err == nil {
		answer.Body.Close()
	}
}

// postgresOf finds server processes by the data directory in their command line.
func postgresOf(t *testing.T, dir string) []string {
	t.Helper()
	var found []string
	lines, _ := filepath.Glob("/proc/[0-9]*/cmdline")
	for _, f := range lines {
		line, err := os.ReadFile(f)
		if err == nil && strings.Contains(string(line), "/postgres\x00-D\x00") && strings.Contains(string(line), dir) {
			found = append(found, fmt.Sprintf("%s: %s", f, line))
		}
	}
	return found
}

func TestTheShopShowsItsPicturesFullSize(t *testing.T) {
	t.Parallel()
	dir := filepath.Join(bed.Dir, "demo-shop")
	if err := os.CopyFS(filepath.Join(dir, "pictures", "catalogue"), os.DirFS(bed.Pictures)); err != nil {
		t.Fatal(err)
	}
	p := startDemo(t, dir)
	m := regexp.MustCompile(`Open:\s+(http://\S+/)`).FindStringSubmatch(p.Said())
	p.Base = strings.TrimSuffix(m[1], "/")
	page := string(p.Get(t, "/").Data)
	images := regexp.MustCompile(`<img src="([^"]+)"`).FindAllStringSubmatch(page, -1)
	if len(images) < 15 {
		t.Fatalf("the shop shows %d pictures", len(images))
	}
	for _, i := range images {
		a := p.Get(t, "/"+i[1])
		lies, err := os.Stat(filepath.Join(bed.Pictures, filepath.Base(i[1])))
		if err != nil || a.StatusCode != 200 || int64(len(a.Data)) != lies.Size() {
			t.Errorf("%s: %d, %d bytes, %v", i[1], a.StatusCode, len(a.Data), err)
		}
	}
}
