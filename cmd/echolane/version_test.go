package main

import (
	"regexp"
	"runtime/debug"
	"testing"
)

func TestTheVersionIsTheCommit(t *testing.T) {
	r := bed.Run(t, nil, "--version")
	if r.Code != 0 || !regexp.MustCompile(`^echolane ([0-9a-f]{12} of \d{4}-\d\d-\d\d( with changes)?|unknown \(built outside a checkout\)), go1\.\S+\n$`).MatchString(r.Out) {
		t.Errorf("%d %q", r.Code, r.Out)
	}
	stamp := func(pairs ...string) string {
		info := &debug.BuildInfo{GoVersion: "go1.26"}
		for i := 0; i < len(pairs); i += 2 {
			info.Settings = append(info.Settings, debug.BuildSetting{Key: pairs[i], Value: pairs[i+1]})
		}
		return versionOf(info)
	}
	for want, got := range map[string]string{
		"0123456789ab of 2026-11-28, go1.26":              stamp("vcs.revision", "0123456789abcdef", "vcs.time", "2026-11-28T02:00:00Z", "vcs.modified", "false"),
		"0123456789ab of 2026-11-28 with changes, go1.26": stamp("vcs.revision", "0123456789abcdef", "vcs.time", "2026-11-28T02:00:00Z", "vcs.modified", "true"),
		"0123, go1.26": stamp("vcs.revision", "0123"),
		"unknown (built outside a checkout), go1.26": stamp(),
	} {
		if got != want {
			t.Errorf("%q, want %q", got, want)
		}
	}
}
