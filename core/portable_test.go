package core_test

import (
	"os"
	"os/exec"
	"testing"
)

// What has assembly for one processor stands without it on others.
func TestVectorsAreNeverNeeded(t *testing.T) {
	vet := exec.Command("go", "vet", "echolane/core/raster", "echolane/core/fidelity")
	vet.Env = append(os.Environ(), "GOOS=linux", "GOARCH=arm64", "CGO_ENABLED=0")
	if says, err := vet.CombinedOutput(); err != nil {
		t.Errorf("for arm64: %v: %s", err, says)
	}
}
