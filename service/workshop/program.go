package workshop

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
)

// WorkerName is the file name of the workers' program. It lies beside the service's, or in ../libexec/echolane from there.
const WorkerName = "echolane-worker"

// workerSum is the SHA-256, in hexadecimal digits, of the workers' program that was built with this one. The linker sets it; "":
// none was.
var workerSum string

// ownProgram is the program that runs, for a worker too.
const ownProgram = "/proc/self/exe"

// openProgram opens the program for workers of a service whose program lies at a path: the one of their own whose SHA-256 is sum,
// or else the service's. What a worker says is understood by a service of the same build alone, so no other will do: why it
// doesn't is given beside the file, if sum names one.
func openProgram(service, sum string) (f *os.File, because, err error) {
	if sum != "" {
		dir := filepath.Dir(service)
		for _, place := range []string{filepath.Join(dir, WorkerName), filepath.Join(dir, "../libexec/echolane", WorkerName)} {
			f, err := openChecked(place, sum)
			if err == nil {
				return f, nil, nil
			}
			if because == nil || !errors.Is(err, os.ErrNotExist) {
				because = err
			}
		}
	}
	f, err = os.Open(ownProgram)
	return f, because, err
}

// openChecked opens a program that may be run and has that SHA-256.
func openChecked(path, sum string) (*os.File, error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	got := sha256.New()
	info, err := f.Stat()
	if err == nil {
		_, err = io.Copy(got, f)
	}
	switch {
	case err != nil:
	case info.Mode()&0o111 == 0:
		err = fmt.Errorf("%s isn't executable", path)
	case hex.EncodeToString(got.Sum(nil)) != sum:
		err = fmt.Errorf("%s is of another build than the service", path)
	default:
		return f, nil
	}
	f.Close()
	return nil, err
}
