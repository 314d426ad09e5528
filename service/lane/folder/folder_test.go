package folder

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"slices"
	"sort"
	"sync/atomic"
	"testing"
	"time"

	"echolane/core/codec"
	"echolane/core/metadata"
	"echolane/core/policy"
	"echolane/service/source"
	"echolane/service/source/held"
)

func TestAFolderIsListedInPagesOfItsOrder(t *testing.T) {
	dir := t.TempDir()
	var want []string
	for _, name := range []string{"a.jpg", "a/b.avif", "a-b.heic", "a/c/d.heif", "a/c.svg", "b.jfif", "b/x.PNG", "z.webp", "ä.jpeg", "a.b/c.gif", "a b.jpe", "deep/1/2/3/4/5.apng"} {
		os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755)
		if err := os.WriteFile(filepath.Join(dir, name), []byte("x"), 0o644); err != nil {
			t.Fatal(err)
		}
		want = append(want, name)
	}
	for _, name := range []string{".hidden.jpg", "a/.thumbs/x.jpg", "notes.txt", "a/readme"} {
		os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755)
		os.WriteFile(filepath.Join(dir, name), nil, 0o644)
	}
	sort.Strings(want)
	f := Lane{Name: "kestrel/l", Dir: dir}
	for _, size := range []int{1, 2, 3, 5, 100} {
		var got []string
		after := ""
		for {
			page, more, err := f.List(context.Background(), after, size)
			if err != nil || len(page) > size {
				t.Fatal(err)
			}
			for _, e := range page {
				got = append(got, e.Path)
			}
			if !more {
				break
			}
			after = page[len(page)-1].Path
		}
		if !slices.Equal(got, want) {
			t.Errorf("in pages of %d: %q, want %q", size, got, want)
		}
	}
}

// meddler reads headers that tell the first byte, and has something done to the source after the reading.
type meddler struct {
	read  atomic.Int64
	times int // that it is still done
	do    func()
}

func (m *meddler) Header(_ context.Context, c *held.Content) (codec.Header, error) {
	m.read.Add(1)
	var b [1]byte
	c.ReadAt(b[:], 0)
	if m.times > 0 {
		m.times--
		m.do()
	}
	return codec.Header{Type: "image/png", W: int(b[0]), H: 2, Orientation: 1, Frames: 1}, nil
}

func (m *meddler) Strip(context.Context, *held.Content) ([]metadata.Splice, error) { return nil, nil }

type only struct{ source.Lane }

func (o only) Of(*policy.SiteSettings, *policy.CompiledLane) (source.Lane, error) { return o.Lane, nil }

func TestAHeaderIsOfTheBytesThatItsDigestIsOf(t *testing.T) {
	dir := t.TempDir()
	file := filepath.Join(dir, "a.png")
	write := func(text string, at time.Time) {
		t.Helper()
		if err := errors.Join(os.WriteFile(file, []byte(text), 0o644), os.Chtimes(file, at, at)); err != nil {
			t.Fatal(err)
		}
	}
	then := time.Now().Add(-time.Hour)
	folder := Lane{Name: "kestrel/l", Dir: dir, Limits: policy.DefaultLimits}
	site, in := &policy.SiteSettings{Site: &policy.Site{Name: "kestrel"}}, &policy.CompiledLane{Lane: policy.Lane{Name: "l", Kind: "folder"}}
	for name, first := range map[string]string{"never seen": "", "seen before": "old!"} {
		m := &meddler{}
		table := source.NewTable(only{folder}, m, nil)
		if first != "" {
			write(first, then.Add(-time.Minute))
			if _, err := table.Locate(t.Context(), site, in, "a.png", nil); err != nil {
				t.Fatal(err)
			}
		}
		write("AAAA", then)
		m.times, m.do = 1, func() { write("BBBB", then.Add(time.Minute)) }
		l, err := table.Locate(t.Context(), site, in, "a.png", nil)
		if err != nil {
			t.Fatal(name, err)
		}
		if l.Known.Digest != held.DigestOf([]byte("BBBB")) || l.Known.Header.W != 'B' {
			t.Errorf("%s: the digest is that of B: %t; the header's first byte is %c", name, l.Known.Digest == held.DigestOf([]byte("BBBB")), rune(l.Known.Header.W))
		}
		l.Close()
		// Touched, but the same: the header needn't be read again.
		read := m.read.Load()
		write("BBBB", then.Add(2*time.Minute))
		if l, err = table.Locate(t.Context(), site, in, "a.png", nil); err != nil || l.Known.Header.W != 'B' || m.read.Load() != read {
			t.Errorf("%s: touched: %v, %d more headers read", name, err, m.read.Load()-read)
		}
	}
	// One that never settles is said to be so.
	n := 0
	var no *policy.Refusal
	m := &meddler{times: 100}
	m.do = func() { n++; write("CCCC", then.Add(time.Duration(n)*time.Second)) }
	if _, err := source.NewTable(only{folder}, m, nil).Locate(t.Context(), site, in, "a.png", nil); !errors.As(err, &no) || no.Reason != policy.ReasonSourceUnreadable {
		t.Errorf("of a source that goes on changing: %v", err)
	}
}
