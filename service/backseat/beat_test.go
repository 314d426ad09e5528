package backseat

import (
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"testing"
	"time"
)

// beats is how often the threads that beat have gone to sleep by now, and which processors they are bound to.
func beats(t *testing.T) (n int, processors []string) {
	t.Helper()
	names, err := filepath.Glob("/proc/self/task/*/comm")
	if err != nil {
		t.Fatal(err)
	}
	for _, name := range names {
		if comm, _ := os.ReadFile(name); string(comm) != "beat\n" {
			continue
		}
		text, err := os.ReadFile(filepath.Join(filepath.Dir(name), "status"))
		if err != nil {
			t.Fatal(err)
		}
		for line := range strings.Lines(string(text)) {
			switch key, value, _ := strings.Cut(strings.TrimSpace(line), ":"); key {
			case "voluntary_ctxt_switches":
				one := 0
				fmt.Sscan(value, &one)
				n += one
			case "Cpus_allowed_list":
				processors = append(processors, strings.TrimSpace(value))
			}
		}
	}
	slices.Sort(processors)
	return n, processors
}

func TestProcessorsLookUpWhileSomethingStandsBack(t *testing.T) {
	least := (runtime.NumCPU() + 1) / 2
	var ends []func()
	for range least {
		ends = append(ends, Beat(1))
	}
	begun := time.Now()
	for { // at 2 kHz they do within a few milliseconds
		n, processors := beats(t)
		if len(processors) == runtime.NumCPU() && len(slices.Compact(processors)) == runtime.NumCPU() && n > 20*len(processors) {
			break
		}
		if time.Since(begun) > 10*time.Second {
			t.Fatalf("after 10 s, %d beats on processors %v", n, processors)
		}
		time.Sleep(time.Millisecond)
	}
	ends[0]()
	ends[0]() // as often as one likes
	still := func() bool {
		before, _ := beats(t)
		time.Sleep(100 * time.Millisecond)
		after, _ := beats(t)
		return after == before
	}
	for begun := time.Now(); !still(); {
		if time.Since(begun) > 10*time.Second {
			t.Fatal("they beat for what has ended")
		}
	}
	again := Beat(1)
	if still() {
		t.Error("they don't beat for what comes later")
	}
	again()
	for _, end := range ends {
		end()
	}
}
