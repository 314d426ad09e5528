package main

import (
	"runtime/debug"
	"strings"
)

// version names the build: its commit and that commit's day, from what the Go tool stamps into the binary.
func version() string {
	info, ok := debug.ReadBuildInfo()
	if !ok {
		return "unknown"
	}
	return versionOf(info)
}

func versionOf(info *debug.BuildInfo) string {
	says := map[string]string{}
	for _, s := range info.Settings {
		says[s.Key] = s.Value
	}
	commit := says["vcs.revision"]
	if commit == "" {
		return "unknown (built outside a checkout), " + info.GoVersion
	}
	words := []string{commit[:min(len(commit), 12)]}
	if day, _, ok := strings.Cut(says["vcs.time"], "T"); ok {
		words = append(words, "of "+day)
	}
	if says["vcs.modified"] == "true" {
		words = append(words, "with changes")
	}
	return strings.Join(words, " ") + ", " + info.GoVersion
}
