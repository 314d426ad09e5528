package app

import (
	"context"
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"
	"testing"
	"time"
)

// Rules and dashboard speak of metrics that there are.
func TestWhatWatchesTheServiceKnowsItsMetrics(t *testing.T) {
	there := map[string]bool{}
	for _, m := range Metrics() {
		there[m.Name] = true
		if m.Kind == "histogram" {
			there[m.Name+"_bucket"], there[m.Name+"_count"], there[m.Name+"_sum"] = true, true, true
		}
	}
	name := regexp.MustCompile(`\becholane_[a-z_]+`)
	for _, file := range []string{"prometheus/echolane.rules.yml", "grafana/echolane.json"} {
		data, err := os.ReadFile(filepath.Join("../../deploy", file))
		if err != nil {
			t.Fatal(err)
		}
		found := name.FindAllString(string(data), -1)
		if len(found) < 10 {
			t.Errorf("%s speaks of %d metrics", file, len(found))
		}
		for _, n := range found {
			if !there[n] {
				t.Errorf("%s speaks of %s, which there isn't", file, n)
			}
		}
		if strings.HasSuffix(file, ".json") && !json.Valid(data) {
			t.Errorf("%s isn't JSON", file)
		}
	}
}

// Prometheus itself takes the rules and the metrics.
func TestPrometheusTakesRulesAndMetrics(t *testing.T) {
	const promtool = "../../var/tools/promtool"
	if _, err := os.Stat(promtool); err != nil {
		t.Skip("no promtool here: make var/tools/promtool")
	}
	if out, err := exec.Command(promtool, "check", "rules", "../../deploy/prometheus/echolane.rules.yml").CombinedOutput(); err != nil {
		t.Errorf("%v\n%s", err, out)
	}
	r := start(t, nil, nil)
	r.put("kite.png", picture(t, 60, 40))
	r.get("/kestrel/f/kite.png?width=30")
	r.get("/kestrel/f/kite.png?width=30")
	r.get("/kestrel/f/none.png")
	text := string(r.get("/-/metrics", "Authorization", "Bearer "+token).body)
	check := exec.Command(promtool, "check", "metrics", "--extended")
	check.Stdin = strings.NewReader(text)
	if out, err := check.CombinedOutput(); err != nil {
		t.Errorf("%v\n%s", err, out)
	}
	for _, line := range []string{
		`echolane_site_answers_total{result="hit",site="kestrel"} 1`, `echolane_site_answers_total{result="miss",site="kestrel"} 1`, `echolane_site_answers_total{result="refused",site="kestrel"} 1`,
		`echolane_answer_seconds_count{from="memory",outcome="sent"} 1`, `echolane_answer_seconds_count{from="none",outcome="refused"} 1`,
		`echolane_render_wait_seconds_count{kind="visitor"} 1`, `echolane_renders_waiting{kind="ahead"} 0`, `echolane_refinements_dropped_total 0`,
	} {
		if !strings.Contains(text, line+"\n") {
			t.Errorf("there is no %s in\n%s", line, text)
		}
	}
	// What is listed is what there is.
	listed := map[string]bool{}
	for _, m := range Metrics() {
		listed[m.Name] = true
	}
	for _, found := range regexp.MustCompile(`(?m)^# TYPE (echolane_\w+) (\w+)$`).FindAllStringSubmatch(text, -1) {
		if !listed[found[1]] {
			t.Errorf("%s isn't listed", found[1])
		}
	}
}

// The unit gives the service as little as it can do with.
func TestTheUnitIsHardened(t *testing.T) {
	program, err := exec.LookPath("systemd-analyze")
	if err != nil {
		t.Skip("no systemd here")
	}
	out, err := exec.Command(program, "security", "--offline=true", "--threshold=20", "../../deploy/systemd/echolane.service").CombinedOutput()
	if err != nil {
		t.Errorf("it is exposed more than 2.0: %v\n%.300s", err, out[max(0, len(out)-300):])
	}
}

// A systemd that runs it as it stands has it answer: what the unit keeps from the service isn't what it needs.
func TestTheUnitRuns(t *testing.T) {
	if _, err := os.Stat("/usr/lib/systemd/systemd"); err != nil || os.Getuid() != 0 {
		t.Skip("it takes systemd and root")
	}
	t.Parallel()
	ctx, cancel := context.WithTimeout(t.Context(), 4*time.Minute)
	defer cancel()
	c := exec.CommandContext(ctx, "../../scripts/unit-check")
	c.Cancel = func() error { return c.Process.Signal(syscall.SIGTERM) } // it ends its systemd
	c.WaitDelay = 10 * time.Second
	out, err := c.CombinedOutput()
	if c.ProcessState.ExitCode() == 77 {
		t.Skipf("%s", out)
	}
	if err != nil || !strings.Contains(string(out), "ends when it is told to") {
		t.Errorf("%v\n%s", err, out)
	}
}
