package app

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
)

// Rules and dashboard speak of metrics that there are.
func TestWhatWatchesTheServiceKnowsItsMetrics(t *testing.T) {
	r := start(t, nil, nil)
	r.put("kite.png", picture(t, 60, 40))
	r.get("/kestrel/f/kite.png?width=30")
	r.get("/kestrel/f/none.png")
	text := string(r.get("/-/metrics", "Authorization", "Bearer "+token).body)
	for _, desc := range []string{callsDesc.String()} { // has no series before a worker has tried something
		text += desc
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
			if !strings.Contains(text, n) {
				t.Errorf("%s speaks of %s, which there isn't", file, n)
			}
		}
		if strings.HasSuffix(file, ".json") && !json.Valid(data) {
			t.Errorf("%s isn't JSON", file)
		}
	}
}

// The unit gives the service as little as it can do with.
func TestTheUnitIsHardened(t *testing.T) {
	program, err := exec.LookPath("systemd-analyze")
	if err != nil {
		t.Skip("no systemd here")
	}
	out, err := exec.Command(program, "security", "--offline=true", "--threshold=21", "../../deploy/systemd/echolane.service").CombinedOutput()
	if err != nil {
		t.Errorf("it is exposed more than 2.1: %v\n%.300s", err, out[max(0, len(out)-300):])
	}
}
