// Package source gets source images through lanes, under their limits. A source is known by the digest of
// its bytes, so that what is made from it can't outlive a change of it.
package source

import (
	"context"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"sort"
	"strings"
	"syscall"
	"time"

	"echolane/core/codec"
	"echolane/core/focus"
	"echolane/core/policy"
)

// Digest is a source's SHA-256 in base64url, shortened to 128 bits.
type Digest string

// DigestOf works a digest out.
func DigestOf(data []byte) Digest {
	sum := sha256.Sum256(data)
	return Digest(base64.RawURLEncoding.EncodeToString(sum[:16]))
}

// Version is what is known of a source at some moment.
type Version struct {
	Digest Digest
	Stamp  string        // what tells versions apart without reading: for the lane that gave it alone
	Fresh  time.Duration // how long it is taken to be unchanged without another look
}

// Lane gets the sources of one lane. Safe for concurrent use. Its errors are *policy.Refusal.
type Lane interface {
	// Look finds out which version of the source there is. have is what was known before, nil for nothing.
	// The bytes come back only where they had to be read for it.
	Look(ctx context.Context, path string, have *Version) (Version, []byte, error)
	// Read gives the bytes of a version. ErrChanged where there is another one meanwhile.
	Read(ctx context.Context, path string, v Version) ([]byte, error)
	// List gives the sources in the order of their paths, at most limit of them that come after the path
	// `after`. more says that there are others behind. A lane that can't be listed gives none.
	List(ctx context.Context, after string, limit int) (entries []Entry, more bool, err error)
	Close()
}

// ErrChanged: the source isn't any more what it was when looked at.
var ErrChanged = errors.New("the source has changed")

// Folder is a lane whose sources lie in a directory. Links are followed as long as they stay inside it.
type Folder struct {
	Name   string // of the lane, for words: site/lane
	Dir    string
	Limits policy.Limits
	Fresh  time.Duration
}

// Close has nothing to end.
func (f Folder) Close() {}

// CheckPath says whether a decoded path may be asked of a lane: relative, of plain elements, without NUL.
func CheckPath(p string) *policy.Refusal {
	bad := ""
	switch {
	case p == "":
		bad = "the path names no source"
	case strings.ContainsRune(p, 0):
		bad = "the path holds a NUL byte"
	case strings.ContainsRune(p, '\\'):
		bad = "the path holds a backslash"
	case len(p) > 1024:
		bad = "the path is longer than 1024 bytes"
	case !fs.ValidPath(p) || path.Clean(p) != p:
		bad = "the path is absolute, or has empty, `.` or `..` elements"
	}
	if bad == "" {
		return nil
	}
	return policy.No(policy.Refusal{
		Reason: policy.ReasonBadPath, Detail: bad, Parameter: "path", Given: shorten(p),
		Allowed: "a path below the lane's folder, such as summer/delta-red.jpg", Remedy: "write the source's path below its lane, without . or ..",
	})
}

func shorten(p string) string {
	if len(p) > 120 {
		p = p[:117] + "…"
	}
	return strings.ToValidUTF8(strings.ReplaceAll(p, "\x00", "␀"), "�")
}

// Look compares size, time and inode of the file, and reads it where they are new.
func (f Folder) Look(_ context.Context, p string, have *Version) (Version, []byte, error) {
	root, err := f.open()
	if err != nil {
		return Version{}, nil, err
	}
	defer root.Close()
	if have != nil {
		info, err := root.Stat(p)
		if err != nil {
			return Version{}, nil, f.refuse(p, err)
		}
		if info.Mode().IsRegular() && stampOf(info) == have.Stamp {
			return *have, nil, nil
		}
	}
	data, stamp, err := f.read(root, p)
	if err != nil {
		return Version{}, nil, err
	}
	return Version{DigestOf(data), stamp, f.Fresh}, data, nil
}

func stampOf(info fs.FileInfo) string {
	var inode uint64
	if sys, ok := info.Sys().(*syscall.Stat_t); ok {
		inode = sys.Ino
	}
	return fmt.Sprintf("%d %d %d", info.Size(), info.ModTime().UnixNano(), inode)
}

// Read gives the file's bytes.
func (f Folder) Read(_ context.Context, p string, v Version) ([]byte, error) {
	root, err := f.open()
	if err != nil {
		return nil, err
	}
	defer root.Close()
	data, _, err := f.read(root, p)
	if err == nil && DigestOf(data) != v.Digest {
		return nil, ErrChanged
	}
	return data, err
}

func (f Folder) read(root *os.Root, p string) ([]byte, string, error) {
	file, err := root.OpenFile(p, os.O_RDONLY|syscall.O_NONBLOCK, 0) // a pipe can't hold us up
	if err != nil {
		return nil, "", f.refuse(p, err)
	}
	defer file.Close()
	info, err := file.Stat()
	if err != nil {
		return nil, "", f.refuse(p, err)
	}
	if !info.Mode().IsRegular() {
		return nil, "", missing(f.Name, p)
	}
	if r := f.Limits.CheckBytes(info.Size()); r != nil {
		return nil, "", r
	}
	data := make([]byte, info.Size())
	if _, err := io.ReadFull(file, data); err != nil {
		return nil, "", f.refuse(p, fmt.Errorf("it changed while it was read: %w", err))
	}
	return data, stampOf(info), nil
}

// Entry is a source in a listing.
type Entry struct {
	Path  string    `json:"path"`
	Bytes int64     `json:"bytes"`
	MTime time.Time `json:"modified_at"`
}

// List gives the sources below the folder whose names end as images do.
func (f Folder) List(_ context.Context, after string, limit int) (entries []Entry, more bool, err error) {
	root, err := f.open()
	if err != nil {
		return nil, false, err
	}
	defer root.Close()
	err = fs.WalkDir(root.FS(), ".", func(p string, d fs.DirEntry, err error) error {
		if err != nil {
			return nil // what can't be read isn't listed
		}
		if p != "." && strings.HasPrefix(d.Name(), ".") {
			if d.IsDir() {
				return fs.SkipDir
			}
			return nil
		}
		if d.IsDir() || p <= after || !looksLikeImage(p) {
			return nil
		}
		info, err := root.Stat(p)
		if err != nil || !info.Mode().IsRegular() {
			return nil
		}
		entries = append(entries, Entry{Path: p, Bytes: info.Size(), MTime: info.ModTime().UTC()})
		return nil
	})
	if err != nil {
		return nil, false, f.refuse(".", err)
	}
	sort.Slice(entries, func(i, j int) bool { return entries[i].Path < entries[j].Path })
	if len(entries) > limit {
		return entries[:limit], true, nil
	}
	return entries, false, nil
}

func looksLikeImage(p string) bool {
	switch strings.ToLower(path.Ext(p)) {
	case ".jpg", ".jpeg", ".jpe", ".png", ".webp", ".gif":
		return true
	}
	return false
}

func (f Folder) open() (*os.Root, error) {
	root, err := os.OpenRoot(f.Dir)
	if err != nil {
		detail := fmt.Sprintf("lane %s can't open its folder", f.Name)
		if errors.Is(err, fs.ErrNotExist) {
			detail = fmt.Sprintf("the folder of lane %s is gone", f.Name)
		}
		return nil, policy.No(policy.Refusal{
			Reason: policy.ReasonLaneUnreachable, Detail: detail,
			Remedy: "bring the folder back where the lane has it (`echolane lane list` shows where)", RetryIn: 10,
		})
	}
	return root, nil
}

func missing(lane, p string) *policy.Refusal {
	return policy.No(policy.Refusal{
		Reason:    policy.ReasonNoSuchSource,
		Detail:    fmt.Sprintf("lane %s has no image at %s", lane, shorten(p)),
		Parameter: "path", Given: shorten(p), Remedy: "check the path's spelling and case, or put the image there",
	})
}

func (f Folder) refuse(p string, err error) *policy.Refusal {
	switch {
	case errors.Is(err, fs.ErrPermission):
		return policy.No(policy.Refusal{
			Reason: policy.ReasonSourceUnreadable,
			Detail: fmt.Sprintf("lane %s may not read %s", f.Name, shorten(p)), Parameter: "path", Given: shorten(p),
			Remedy: "let the user that runs Echo Lane read the file",
		})
	case errors.Is(err, fs.ErrNotExist), errors.Is(err, syscall.ENOTDIR), errors.Is(err, syscall.ENAMETOOLONG), errors.Is(err, syscall.EISDIR):
		return missing(f.Name, p)
	case isEscape(err):
		return policy.No(policy.Refusal{
			Reason:    policy.ReasonOutsideFolder,
			Detail:    fmt.Sprintf("%s is a link that leads out of the folder of lane %s", shorten(p), f.Name),
			Parameter: "path", Given: shorten(p), Allowed: "files inside the lane's folder", Remedy: "put the file itself into the folder, or make a lane for the folder where it lies",
		})
	}
	return policy.No(policy.Refusal{
		Reason: policy.ReasonSourceUnreadable,
		Detail: fmt.Sprintf("reading %s of lane %s failed", shorten(p), f.Name), Parameter: "path", Given: shorten(p),
		Remedy: "try again; if it goes on, look at the disk it lies on", RetryIn: 5,
	})
}

// isEscape recognises os.Root's refusal of paths that lead outside, which has no exported value.
func isEscape(err error) bool {
	var e *fs.PathError
	return errors.As(err, &e) && strings.Contains(e.Err.Error(), "escapes")
}

// Facts are what is known of a source without rendering it.
type Facts struct {
	Type       string `json:"type"`
	Width      int    `json:"width"`  // upright
	Height     int    `json:"height"` // upright
	Bytes      int64  `json:"bytes"`
	Frames     int    `json:"frames"`
	Depth      int    `json:"bits_per_sample"`
	Coding     string `json:"coding,omitempty"`
	HasProfile bool   `json:"has_profile"`
	HasAlpha   bool   `json:"has_alpha"`
	Digest     Digest `json:"digest"`
	// Subject is the box around what the picture is of, in parts of its sides, and Colour the mean of that, where
	// they were looked for.
	Subject *focus.Box `json:"subject,omitempty"`
	Colour  string     `json:"colour,omitempty"`
	// Placeholder is a tiny picture as a data URL, where it was asked for.
	Placeholder string `json:"placeholder,omitempty"`
}

// FactsOf puts a header's findings into words for people and programs.
func FactsOf(data []byte, info codec.Info) Facts {
	w, h := info.Upright()
	return Facts{
		Type: info.Type, Width: w, Height: h, Bytes: int64(len(data)), Frames: info.Frames, Depth: info.Depth,
		Coding: info.Coding, HasProfile: info.Profile != nil, HasAlpha: info.Alpha, Digest: DigestOf(data),
	}
}
