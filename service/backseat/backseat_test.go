package backseat

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

func TestMain(m *testing.M) {
	if len(os.Args) > 1 && os.Args[1] == "stand-back" {
		if err := Take(); err != nil {
			fmt.Println(err)
			os.Exit(1)
		}
		for range 4 { // more threads
			go func() {
				for end := time.Now().Add(50 * time.Millisecond); time.Now().Before(end); {
				}
			}()
		}
		time.Sleep(60 * time.Millisecond)
		tasks, _ := filepath.Glob("/proc/self/task/*/stat")
		for _, path := range tasks {
			text, err := os.ReadFile(path)
			if err != nil {
				continue
			}
			_, rest, _ := strings.Cut(string(text), ") ")
			fmt.Print(strings.Fields(rest)[16], " ") // proc(5): the 19th field
		}
		os.Exit(0)
	}
	os.Exit(m.Run())
}

func TestEveryThreadStandsBack(t *testing.T) {
	out, err := exec.Command(os.Args[0], "stand-back").CombinedOutput()
	if err != nil || len(out) == 0 {
		t.Fatalf("%v: %s", err, out)
	}
	for _, n := range strings.Fields(string(out)) {
		if n != fmt.Sprint(niceness) {
			t.Errorf("threads have %s", out)
			break
		}
	}
}
