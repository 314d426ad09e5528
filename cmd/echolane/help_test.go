package main

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

func TestHelpCompletionAndManualPages(t *testing.T) {
	t.Parallel()
	for _, args := range [][]string{{"help"}, {"--help"}, {"help", "markup"}, {"markup", "--help"}, {"lane", "add", "--help"}} {
		out := bed.Must(t, nil, args...)
		if !strings.Contains(out, "USAGE:") {
			t.Errorf("%v: %s", args, out)
		}
		for line := range strings.SplitSeq(out, "\n") { // examples stay on their lines, to be copied
			if len([]rune(line)) > 100 && !strings.HasPrefix(strings.TrimSpace(line), "echolane ") && !strings.Contains(line, "| echolane ") {
				t.Errorf("%v: a line has %d columns: %s", args, len([]rune(line)), line)
			}
		}
	}
	if out := bed.Must(t, nil, "--version"); !strings.HasPrefix(out, "echolane ") {
		t.Errorf("--version: %s", out)
	}
	for _, shell := range []string{"bash", "zsh", "fish"} {
		script := bed.Must(t, nil, "completion", shell)
		if !strings.Contains(script, "echolane") {
			t.Errorf("%s: %s", shell, script)
		}
		if shell == "bash" {
			check := exec.Command("bash", "-n")
			check.Stdin = strings.NewReader(script)
			if out, err := check.CombinedOutput(); err != nil {
				t.Errorf("%v: %s", err, out)
			}
		}
	}
	if out := bed.Must(t, nil, "mark", "--generate-shell-completion"); !strings.Contains(out, "markup") && !strings.Contains(bed.Must(t, nil, "--generate-shell-completion"), "markup") {
		t.Errorf("commands aren't completed: %s", out)
	}
	dir := filepath.Join(t.TempDir(), "man1")
	bed.Must(t, nil, "man", "--to", dir)
	pages, err := os.ReadDir(dir)
	if err != nil || len(pages) != len(root().Commands)+1 {
		t.Errorf("%d pages for %d commands, %v", len(pages), len(root().Commands), err)
	}
	page := bed.Must(t, nil, "man", "lane")
	for _, want := range []string{".TH ECHOLANE-LANE 1", ".SH LANE ADD", "ECHOLANE_SERVER", ".SH EXIT STATUS", "echolane lane add kestrel/catalogue"} {
		if !strings.Contains(page, want) {
			t.Errorf("the page has no %q", want)
		}
	}
	withoutTitle := func(page string) string { _, rest, _ := strings.Cut(page, ".SH "); return rest } // which has the commit, of what make builds
	if withoutTitle(page) != withoutTitle(string(manPage(root(), root().Command("lane")))) {
		t.Error("the page isn't made of the commands")
	}
}

func TestWhatIsWrongIsExitTwoAndJSONWhereAsked(t *testing.T) {
	t.Parallel()
	s := bed.Kestrel(t)
	for _, c := range []struct {
		args []string
		code int
		says string
	}{
		{[]string{"link", "a/b/c", "--lasts", "24"}, 2, "24h"},
		{[]string{"link", "a/b/c", "--lasts", "7d"}, 2, "isn't a time"},
		{[]string{"fetch", "kestrel/catalogue/mark.png?max-width=3"}, 2, "--slot 'max-width: 100%'"},
		{[]string{"site", "add", "X!"}, 2, "a–z"},
		{[]string{"site", "show", "nobody"}, 1, "nobody"},
		{[]string{"man", "nosuch"}, 2, "no command"},
		{[]string{"nosuch"}, 2, "no command"},
	} {
		if r := bed.Run(t, s, c.args...); r.Code != c.code || !strings.Contains(strings.Join(strings.Fields(r.Err), " "), c.says) {
			t.Errorf("%v: %d %s", c.args, r.Code, r.Err)
		}
	}
	for _, c := range []struct {
		args   []string
		code   int
		reason string
	}{
		{[]string{"site", "show", "nobody", "--json"}, 1, "no-such-site"},
		{[]string{"fetch", "kestrel/catalogue/mark.png?widht=3", "--json"}, 2, "unknown-name"},
		{[]string{"link", "a/b/c", "widht=3", "--json"}, 2, "unknown-name"},
		{[]string{"likeness", "/does/not/exist", "/nor/this", "--json"}, 1, ""},
		{[]string{"site", "show", "--json"}, 2, ""},
	} {
		r := bed.Run(t, s, c.args...)
		var said struct {
			Error   string
			Exit    int
			Refusal struct{ Reason string }
		}
		if err := json.Unmarshal([]byte(r.Err), &said); err != nil || r.Code != c.code || said.Exit != c.code || said.Error == "" || said.Refusal.Reason != c.reason || r.Out != "" {
			t.Errorf("%v: %d %q %s, %v", c.args, r.Code, r.Out, r.Err, err)
		}
	}
}
