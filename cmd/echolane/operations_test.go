package main

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"echolane/internal/testbed"
	"echolane/service/records"
)

// doctor finds what is wrong where the service would run, says the way out, and exits 1.
func TestDoctorFindsWhatIsWrong(t *testing.T) {
	t.Parallel()
	database := bed.Database(t)
	look := func(want int, args ...string) map[string]finding {
		t.Helper()
		r := bed.Run(t, nil, append([]string{"doctor", "--json", "--secret-key", testbed.SecretKey}, args...)...)
		var list []finding
		if err := json.Unmarshal([]byte(r.Out), &list); err != nil || r.Code != want {
			t.Fatalf("doctor %s: exit code %d\n%s%s", strings.Join(args, " "), r.Code, r.Out, r.Err)
		}
		by := map[string]finding{}
		for _, f := range list {
			if f.State != "good" && f.Remedy == "" && f.Check != "codecs" {
				t.Errorf("%s is %s, and there is no remedy: %s", f.Check, f.State, f.Detail)
			}
			if by[f.Check].State != "bad" {
				by[f.Check] = f
			}
		}
		return by
	}
	empty := look(0, "--database-url", database, "--cache-dir", t.TempDir(), "--disk-cache", "1MiB", "--store", t.TempDir())
	for _, check := range []string{"machine", "descriptors", "memory", "codecs", "fonts", "cache", "store", "database"} {
		if empty[check].State != "good" {
			t.Errorf("%s: %+v", check, empty[check])
		}
	}
	if d := empty["database"].Detail; !strings.Contains(d, "it is empty") {
		t.Error(d)
	}

	s := bed.ServeOn(t, database)
	bed.Must(t, s, "site", "add", "kestrel")
	bed.Must(t, s, "lane", "add", "kestrel/catalogue", "--folder", bed.Pictures)
	bed.Must(t, s, "key", "add", "kestrel", "spring")
	gone := t.TempDir()
	bed.Must(t, s, "lane", "add", "kestrel/gone", "--folder", gone)
	os.Remove(gone)
	file := filepath.Join(t.TempDir(), "file")
	if err := os.WriteFile(file, nil, 0o644); err != nil {
		t.Fatal(err)
	}
	used := look(1, "--database-url", database, "--cache-dir", file, "--disk-cache", "900TiB", "--store", file, "--memory-cache", "900TiB", "--connections", "9000000")
	for check, state := range map[string]string{"descriptors": "lacking", "memory": "lacking", "cache": "bad", "store": "bad", "database": "good", "secrets": "good", "lane kestrel/catalogue": "good", "lane kestrel/gone": "bad"} {
		if used[check].State != state {
			t.Errorf("%s is to be %s: %+v", check, state, used[check])
		}
	}
	if f := look(0, "--cache-dir", t.TempDir(), "--disk-cache", "900TiB")["cache"]; f.State != "lacking" || !strings.Contains(f.Detail, "has room for") {
		t.Errorf("a disk that is too small: %+v", f)
	}
	if f := look(1, "--database-url", "postgres://nobody@127.0.0.1:9/none")["database"]; f.State != "bad" {
		t.Errorf("no database: %+v", f)
	}
	other := bed.Run(t, nil, "doctor", "--json", "--database-url", database, "--secret-key", "AAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA=")
	if other.Code != 1 || !strings.Contains(other.Out, "kestrel/key/spring") {
		t.Errorf("another key: exit code %d\n%s", other.Code, other.Out)
	}
	// What a test can't bring about.
	for _, c := range []struct {
		about        records.About
		check, state string
	}{
		{records.About{Most: 100, Ahead: 9 * time.Second}, "clock", "bad"}, {records.About{Most: 100, Ahead: -time.Second}, "clock", "lacking"}, {records.About{Most: 100, Ahead: 8 * time.Second, Within: 10 * time.Second}, "clock", "good"},
		{records.About{Most: 100, Connections: 90}, "connections", "lacking"}, {records.About{Most: 100, Schema: 9, Wanted: 8}, "schema", "lacking"}, {records.About{Most: 100, Schema: 7, Wanted: 8}, "schema", "good"},
	} {
		d := &doctor{}
		d.about(c.about)
		ok := false
		for _, f := range d.findings {
			ok = ok || f.Check == c.check && f.State == c.state
		}
		if !ok {
			t.Errorf("%+v: %+v", c.about, d.findings)
		}
	}
}

// Workers run the program that was built for them, and the service's where that is missing.
func TestTheWorkersProgramMayBeMissing(t *testing.T) {
	t.Parallel()
	alone := filepath.Join(t.TempDir(), "echolane")
	data, err := os.ReadFile(bed.Binary)
	if err == nil {
		err = os.WriteFile(alone, data, 0o755)
	}
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct{ service, worker, state string }{{bed.Binary, bed.Worker, ""}, {alone, alone, "lacking"}} {
		found, err := exec.Command(c.service, "doctor", "--json").Output()
		var list []finding
		if err != nil || json.Unmarshal(found, &list) != nil {
			t.Fatalf("%v\n%s", err, found)
		}
		state := ""
		for _, f := range list {
			if f.Check == "render workers" {
				state = f.State
			}
		}
		if state != c.state {
			t.Errorf("doctor of %s finds the workers' program %q, want %q\n%s", c.service, state, c.state, found)
		}
		of := *bed
		of.Binary = c.service
		s := of.Serve(t)
		for _, pid := range testbed.WorkersOf(s.Cmd.Process.Pid) {
			if program, err := os.Readlink(fmt.Sprintf("/proc/%d/exe", pid)); err == nil && program != c.worker {
				t.Errorf("a worker of %s is %s", c.service, program)
			}
		}
		if said := strings.Contains(s.Said(), "render workers run the service's program"); said != (c.state != "") {
			t.Errorf("%s said: %s", c.service, s.Said())
		}
		s.Stop()
	}
}

// What docs/operations.md says of backup and restore is enough: all is lost but the dump, the uploads and the secret key, and
// the same is answered afterwards.
func TestABackupBringsEverythingBack(t *testing.T) {
	t.Parallel()
	run := func(name string, args ...string) {
		t.Helper()
		if out, err := exec.Command(name, args...).CombinedOutput(); err != nil {
			t.Fatalf("%s: %v\n%s", name, err, out)
		}
	}
	database, uploads, cache, kept := bed.Database(t), filepath.Join(t.TempDir(), "uploads"), filepath.Join(t.TempDir(), "cache"), t.TempDir()
	if err := os.Mkdir(uploads, 0o755); err != nil {
		t.Fatal(err)
	}
	s := bed.ServeOn(t, database, "--cache-dir", cache)
	bed.Must(t, s, "site", "add", "kestrel", "--formats", "webp,jpeg,png", "--limit", "render_ms=60000")
	bed.Must(t, s, "lane", "add", "kestrel/catalogue", "--folder", bed.Pictures)
	bed.Must(t, s, "lane", "add", "kestrel/incoming", "--upload", "--folder", uploads)
	bed.Must(t, s, "lane", "add", "kestrel/members", "--folder", bed.Pictures, "--visibility", "signed")
	bed.Must(t, s, "key", "add", "kestrel", "spring")
	sheet := filepath.Join(t.TempDir(), "sheet.css")
	if err := os.WriteFile(sheet, []byte(".card { width: 90px; aspect-ratio: 3/2; object-fit: cover }\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	bed.Must(t, s, "site", "set", "kestrel", "--sheet", sheet)
	bed.Must(t, s, "upload", "put", filepath.Join(bed.Pictures, "mark.png"), "kestrel/incoming/mark.png")
	own := strings.TrimSpace(bed.Must(t, s, "token", "add", "reader", "--may", "read"))
	signed := strings.TrimSpace(bed.Must(t, s, "link", "kestrel/members/delta-red.jpg", "width=70", "format=webp", "--sign", "spring"))
	signed = signed[strings.Index(signed, "/kestrel/"):]
	addresses := []string{"/kestrel/catalogue/delta-red.jpg?class=card&format=webp", "/kestrel/incoming/mark.png?width=40&format=png", signed}
	read := func(s *testbed.Process) (all []testbed.Answer) {
		t.Helper()
		for _, path := range addresses {
			a := s.Get(t, path)
			if a.StatusCode != 200 {
				t.Fatalf("%s: %d %s", path, a.StatusCode, a.Data)
			}
			all = append(all, a)
		}
		return all
	}
	before := read(s)
	settings := bed.Must(t, s, "export", "kestrel")

	run("pg_dump", "--format=custom", "--file", filepath.Join(kept, "echolane.dump"), database)
	run("tar", "-C", uploads, "-cf", filepath.Join(kept, "uploads.tar"), ".")
	s.Stop()
	for _, lost := range []string{uploads, cache} {
		if err := os.RemoveAll(lost); err != nil {
			t.Fatal(err)
		}
	}

	database = bed.Database(t)
	run("pg_restore", "--no-owner", "--exit-on-error", "--dbname", database, filepath.Join(kept, "echolane.dump"))
	if err := os.Mkdir(uploads, 0o755); err != nil {
		t.Fatal(err)
	}
	run("tar", "-C", uploads, "-xf", filepath.Join(kept, "uploads.tar"))
	s = bed.ServeOn(t, database, "--cache-dir", cache)
	for i, a := range read(s) {
		if string(a.Data) != string(before[i].Data) || a.Header.Get("ETag") != before[i].Header.Get("ETag") {
			t.Errorf("%s: %d bytes, %s; before %d, %s", addresses[i], len(a.Data), a.Header.Get("ETag"), len(before[i].Data), before[i].Header.Get("ETag"))
		}
	}
	if now := bed.Must(t, s, "export", "kestrel"); now != settings {
		t.Errorf("settings were\n%s\nand are\n%s", settings, now)
	}
	if a := s.Get(t, "/-/api/v1/sites", "Authorization", "Bearer "+own); a.StatusCode != 200 {
		t.Errorf("a token of before: %d %s", a.StatusCode, a.Data)
	}
}
