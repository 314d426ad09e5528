package held

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"os"
	"path/filepath"
	"testing"
)

func TestDigestsAreOfTwoKinds(t *testing.T) {
	// The beginning of BLAKE3's digest of nothing, from its test vectors.
	empty, err := hex.DecodeString("af1349b9f5f9a1a6a0404dea36dcc9499bcb")
	if err != nil {
		t.Fatal(err)
	}
	if d := DigestOf(nil); d != Digest(base64.RawURLEncoding.EncodeToString(empty)) || d.Earlier() {
		t.Errorf("of nothing: %s", d)
	}
	for _, n := range []int{0, 1, 1023, 1024, 1025, 31 << 10, 300_001} {
		data := bytes.Repeat([]byte("kite "), n/5+1)[:n]
		sum := sha256.Sum256(data)
		earlier := Digest(base64.RawURLEncoding.EncodeToString(sum[:16]))
		today := DigestOf(data)
		c := InMemory(data, nil)
		a, b, err := c.Digests(context.Background())
		if err != nil || a != today || b != earlier || !b.Earlier() || a.Earlier() {
			t.Errorf("%d bytes: %s %s %v", n, a, b, err)
		}
		for _, d := range []Digest{today, earlier} {
			if got, err := c.Digest(context.Background(), d); got != d || err != nil || !d.IsOf(data) || d.IsOf(append(data[:n:n], 0)) {
				t.Errorf("%d bytes: %s is worked out as %s, %v", n, d, got, err)
			}
		}
	}
}

func TestADigestOfAFileThatShrinksIsNone(t *testing.T) {
	path := filepath.Join(t.TempDir(), "a")
	if err := os.WriteFile(path, []byte("twenty bytes of kite"), 0o600); err != nil {
		t.Fatal(err)
	}
	f, err := os.Open(path)
	if err != nil {
		t.Fatal(err)
	}
	c := InFile(f, 4, 16)
	defer c.Close()
	if d, err := c.Digest(context.Background(), ""); err != nil || d != DigestOf([]byte("ty bytes of kite")) {
		t.Errorf("%s %v", d, err)
	}
	if err := os.Truncate(path, 10); err != nil {
		t.Fatal(err)
	}
	if _, err := c.Digest(context.Background(), ""); !errors.Is(err, ErrChanged) {
		t.Errorf("%v", err)
	}
	ended, end := context.WithCancel(context.Background())
	end()
	if _, err := c.Digest(ended, ""); !errors.Is(err, context.Canceled) {
		t.Errorf("%v", err)
	}
}
