package records

import (
	"bytes"
	"context"
	"crypto/rand"
	"crypto/subtle"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os/exec"
	"strings"
	"syscall"
	"time"

	"golang.org/x/crypto/argon2"

	"echolane/service/backseat"
)

// Passwords are hashed with argon2id, which takes a processor and 64 MiB for a good part of a second. The service does that
// in a process of its own that stands back behind it, two at once at most, so that nobody who signs in, or tries to, takes
// anything from the images.

// argon2id's parameters (RFC 9106, section 4, the second recommended option).
const (
	argonTime    = 3
	argonMemory  = 64 << 10 // KiB
	argonThreads = 4
	argonLength  = 32
)

func hashPassword(password string) string {
	salt := make([]byte, 16)
	rand.Read(salt)
	return fmt.Sprintf("$argon2id$v=%d$m=%d,t=%d,p=%d$%s$%s", argon2.Version, argonMemory, argonTime, argonThreads,
		base64.RawStdEncoding.EncodeToString(salt), base64.RawStdEncoding.EncodeToString(argon2.IDKey([]byte(password), salt, argonTime, argonMemory, argonThreads, argonLength)))
}

func passwordMatches(kept, password string) bool {
	parts := strings.Split(kept, "$")
	if len(parts) != 6 {
		return false
	}
	var memory, passes uint32
	var threads uint8
	if _, err := fmt.Sscanf(parts[3], "m=%d,t=%d,p=%d", &memory, &passes, &threads); err != nil {
		return false
	}
	salt, err := base64.RawStdEncoding.DecodeString(parts[4])
	if err != nil {
		return false
	}
	want, err := base64.RawStdEncoding.DecodeString(parts[5])
	if err != nil {
		return false
	}
	got := argon2.IDKey([]byte(password), salt, passes, memory, threads, uint32(len(want)))
	return subtle.ConstantTimeCompare(got, want) == 1
}

// nobodys takes as long to compare as anybody's password, so that answers don't tell which names exist.
var nobodys = fmt.Sprintf("$argon2id$v=%d$m=%d,t=%d,p=%d$%s$%s", argon2.Version, argonMemory, argonTime, argonThreads,
	base64.RawStdEncoding.EncodeToString(make([]byte, 16)), base64.RawStdEncoding.EncodeToString(make([]byte, argonLength)))

// hashesAtOnce is how many passwords a node hashes at the same time: each takes argonMemory.
const hashesAtOnce = 2

const (
	hashWait  = 4 * time.Second  // that somebody waits for a place
	hashLimit = 20 * time.Second // of one hash, on a machine that has much else to do
)

// ErrBusy: more passwords wait to be hashed than there is time for, or one took longer than that.
var ErrBusy = errors.New("too many passwords are being looked at")

// toHash is what the hashing process is told, and hashed what it says.
type toHash struct {
	Password string
	Kept     string // what to compare with; "": a hash is wanted
}

type hashed struct {
	Hash    string
	Matches bool
}

func (h toHash) do() hashed {
	if h.Kept == "" {
		return hashed{Hash: hashPassword(h.Password)}
	}
	return hashed{Matches: passwordMatches(h.Kept, h.Password)}
}

// HashIn has passwords hashed by a program in the role that HashWork plays, instead of in this process.
func (s *Store) HashIn(command []string) { s.hashCommand = command }

// HashWork is that role: it stands back behind the service and does one job.
func HashWork(in io.Reader, out io.Writer) error {
	if err := backseat.Take(); err != nil {
		return err
	}
	var job toHash
	if err := json.NewDecoder(io.LimitReader(in, 64<<10)).Decode(&job); err != nil {
		return fmt.Errorf("read a password: %w", err)
	}
	return json.NewEncoder(out).Encode(job.do())
}

// hash does one job, once there is a place for it. ErrBusy where none comes free in time, or it isn't done in time.
func (s *Store) hash(ctx context.Context, job toHash) (done hashed, err error) {
	late := time.NewTimer(hashWait)
	defer late.Stop()
	select {
	case s.hashers <- struct{}{}:
	case <-late.C:
		return done, ErrBusy
	case <-ctx.Done():
		return done, ErrBusy
	}
	defer func() { <-s.hashers }()
	if len(s.hashCommand) == 0 {
		return job.do(), nil
	}
	text, err := json.Marshal(job)
	if err != nil {
		return done, err
	}
	ctx, cancel := context.WithTimeout(ctx, hashLimit)
	defer cancel()
	cmd := exec.CommandContext(ctx, s.hashCommand[0], s.hashCommand[1:]...)
	cmd.Env, cmd.Dir = []string{"GOMAXPROCS=1", "GOTRACEBACK=none"}, "/"
	var out bytes.Buffer
	cmd.Stdin, cmd.Stdout, cmd.SysProcAttr = bytes.NewReader(text), &out, &syscall.SysProcAttr{Setpgid: true}
	if err = cmd.Start(); err == nil {
		backseat.Give(cmd.Process.Pid) // it does so itself too, a little later
		end := backseat.Beat(1)        // it has one processor
		err = cmd.Wait()
		end()
	}
	if err == nil {
		err = json.Unmarshal(out.Bytes(), &done)
	}
	switch {
	case err != nil && ctx.Err() != nil: // its time is over, on a machine that has too much else to do
		return done, ErrBusy
	case err != nil:
		return done, fmt.Errorf("hash a password: %w", err)
	}
	return done, nil
}
