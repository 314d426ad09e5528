// Package source gets source images through lanes, under their limits. A source is known by the digest of
// its bytes, so that what is made from it can't outlive a change of it. Nothing here looks into the bytes: what they say
// is for render workers to read.
package source

import (
	"context"
	"fmt"
	"io"
	"io/fs"
	"path"
	"strings"
	"time"
	"unicode/utf8"

	"echolane/core/codec"
	"echolane/core/codec/formats"
	"echolane/core/face"
	"echolane/core/policy"
	"echolane/core/render"
	"echolane/core/subject"
	"echolane/core/wording"
	"echolane/service/source/held"
)

// Version is what is known of a source at some moment.
type Version struct {
	Digest    held.Digest
	Bytes     int64
	Validator string        // what tells versions apart without reading: for the lane that gave it alone
	Fresh     time.Duration // how long it is taken to be unchanged without another look
	Modified  time.Time     // when it was last changed, as far as its lane knows; zero: unknown
	Sharing   Sharing       // who may keep what is made of it
	Validated time.Time     // when Fresh began; zero: unknown
	Serial    uint64        // of the newest purge of it that was known when it was looked at

	// Stale: its origin couldn't be asked, and what is kept stands in.
	Stale bool `json:",omitempty"`

	// What an origin said that bears on later: its fields, and until when a stale answer may stand in for a failed one.
	Fields     map[string][]string `json:",omitempty"`
	StaleUntil time.Time
}

// Sharing is what an origin lets caches keep (RFC 9111, section 5.2.2).
type Sharing uint8

const (
	Public  Sharing = iota // everybody
	Private                // the one who asked
	NoStore                // nobody
)

// Lane gets the sources of one lane. Safe for concurrent use. Its errors are *policy.Refusal, held.ErrChanged, or those of a
// context that ended.
type Lane interface {
	// Check says whether the lane may have a source at all, without looking for it, and at what address that is: its URL,
	// or its path. trace, where it isn't nil, is told of the rules that were asked.
	Check(path string, trace *[]policy.Step) (at string, no *policy.Refusal)
	// Stat finds out which version of the source there is. have is what was known before, nil for nothing. The content
	// comes back where it had to be fetched for that and can't be opened again, and where it is still to be read: then
	// the version has no digest.
	Stat(ctx context.Context, path string, have *Version) (Version, *held.Content, error)
	// Open gives the content of a version. held.ErrChanged where there is another one meanwhile. Of a file, whoever reads it
	// makes sure of the digest.
	Open(ctx context.Context, path string, v Version) (*held.Content, error)
	// Forget drops what is kept of a source: what was looked at under a serial before since, or all where since is 0.
	Forget(path string, since uint64)
	// List gives the sources in the order of their paths, at most limit of them that come after the path
	// `after`. more says that there are others behind. errors.ErrUnsupported where nobody can list them.
	List(ctx context.Context, after string, limit int) (entries []Entry, more bool, err error)
	// Near reports that opening a source takes no fetch, so that it can wait until its bytes are needed.
	Near() bool
	// Close ends what the lane holds open. Whoever still uses the lane gets errors.
	Close()
}

// A Finder is a lane that knows its sources' URLs.
type Finder interface {
	// PathOf gives the path under which the lane would have the source at a URL, where its rules allow it.
	PathOf(url string) (path string, ok bool)
}

// A Receiver is a lane that sources are put into.
type Receiver interface {
	// Receive takes in what is to be put, at most what the lane allows, and works out its digest. Closing the content
	// forgets it.
	Receive(ctx context.Context, r io.Reader) (Version, *held.Content, error)
	// Put keeps content as the newest version of a path. v brings the facts; its Path, Version and Bytes are set here.
	// Equal bytes again make no new version. Of several that are put at once, the one with the highest number is the
	// newest.
	Put(ctx context.Context, path string, content *held.Content, v Uploaded) (Uploaded, error)
	// Versions lists all versions of a path, newest first.
	Versions(ctx context.Context, path string) ([]Uploaded, error)
	// Version gives one of them, by its number, with its bytes. The caller closes the content.
	Version(ctx context.Context, path string, n int) (Uploaded, *held.Content, error)
	// Remove forgets a path with all its versions and bytes.
	Remove(ctx context.Context, path string) error
}

// Uploaded is a version of an uploaded source.
type Uploaded struct {
	Path    string      `json:"path"`
	Version int         `json:"version"`
	Digest  held.Digest `json:"digest"`
	Bytes   int64       `json:"bytes"`
	Type    string      `json:"type"`
	Width   int         `json:"width"`
	Height  int         `json:"height"`
	At      time.Time   `json:"at"`
	By      string      `json:"by"`
}

const (
	// StaleServed is how long what is kept answers for an origin or store that failed, before it is tried again.
	StaleServed = 10 * time.Second
	// MaxStale is how long beyond its freshness what is kept may answer for one that fails, where nothing else is said.
	MaxStale = 24 * time.Hour
)

// PrivateField is the field for addresses that aren't public, of lanes that reach for others over the network.
func PrivateField(unless string) policy.LaneField {
	return policy.LaneField{
		Name: "private", Label: "Private addresses", Hint: "Reached though they aren't public", Usage: "address or network that is reached though it isn't public", Unless: unless,
	}
}

// Entry is a source in a listing.
type Entry struct {
	Path  string    `json:"path"`
	Bytes int64     `json:"bytes"`
	MTime time.Time `json:"modified_at"`
}

// CheckPath says whether a decoded path may be asked of a lane: relative, of plain elements, without NUL.
func CheckPath(p string) *policy.Refusal {
	bad := ""
	switch {
	case p == "":
		bad = "the path names no source"
	case strings.ContainsRune(p, 0):
		bad = "the path holds a NUL byte"
	case !utf8.ValidString(p):
		bad = "the path isn't UTF-8"
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
		Reason: policy.ReasonBadPath, Detail: bad, Parameter: "path", Given: wording.Cut(p, 120),
		Allowed: "a path below the lane's folder, such as summer/delta-red.jpg", Remedy: "write the source's path below its lane, without . or ..",
	})
}

// CheckText says whether a source's name is text that can be written down: UTF-8 without control characters.
func CheckText(p string) *policy.Refusal {
	if utf8.ValidString(p) && !strings.ContainsFunc(p, func(r rune) bool { return r < ' ' || r == 0x7f }) {
		return nil
	}
	return policy.No(policy.Refusal{
		Reason: policy.ReasonBadPath, Detail: "the source's name isn't text: it holds bytes that are no UTF-8, or control characters", Parameter: "path", Given: wording.Cut(p, 120),
		Allowed: "UTF-8 without control characters", Remedy: "write the name as percent-encoded UTF-8",
	})
}

// IsImageName reports whether a file's name ends as those of images do.
func IsImageName(p string) bool { return formats.TypeByName(p) != "" }

// Missing is the refusal for a source that a lane (site/lane) doesn't have.
func Missing(lane, p string) *policy.Refusal {
	return policy.No(policy.Refusal{
		Reason:    policy.ReasonNoSuchSource,
		Detail:    fmt.Sprintf("lane %s has no image at %s", lane, wording.Cut(p, 120)),
		Parameter: "path", Given: wording.Cut(p, 120), Remedy: "check the path's spelling and case, or put the image there",
	})
}

// Unreadable is the refusal for a file whose bytes don't come.
func Unreadable(p string) *policy.Refusal {
	return policy.No(policy.Refusal{
		Reason: policy.ReasonSourceUnreadable, Detail: fmt.Sprintf("reading %s failed", wording.Cut(p, 120)), Parameter: "path", Given: wording.Cut(p, 120),
		Remedy: "try again; if it goes on, look at the disk it lies on", RetryIn: 5,
	})
}

// Facts are what is known of a source without rendering it.
type Facts struct {
	Type       string      `json:"type"`
	Width      int         `json:"width"`                 // upright
	Height     int         `json:"height"`                // upright
	Turned     int         `json:"orientation,omitempty"` // Exif's orientation, 2–8, of a source that isn't stored upright
	Bytes      int64       `json:"bytes"`
	Frames     int         `json:"frames"`
	Depth      int         `json:"bits_per_sample"`
	Coding     string      `json:"coding,omitempty"`
	HasProfile bool        `json:"has_profile"`
	HasAlpha   bool        `json:"has_alpha"`
	Digest     held.Digest `json:"digest"`
	// Subject is the box around what the picture is of, in parts of its sides, how sure that is and what it was found by, and
	// Colour the mean of the box, where they were looked for.
	Subject *subject.Found `json:"subject,omitempty"`
	Colour  string         `json:"colour,omitempty"`
	// Faces are the boxes around faces, the largest first, in parts of the sides.
	Faces []face.Face `json:"faces,omitempty"`
	// Looks are what it looks like as a whole.
	Looks *render.Looks `json:"looks,omitempty"`
	// Placeholder is a tiny picture as a data URL, where it was asked for.
	Placeholder string `json:"placeholder,omitempty"`
}

// FactsOf puts a header's findings into words for people and programs.
func FactsOf(v Version, h codec.Header) Facts {
	w, hh := h.Upright()
	turned := h.Orientation
	if turned == 1 {
		turned = 0
	}
	return Facts{
		Turned: turned,
		Type:   h.Type, Width: w, Height: hh, Bytes: v.Bytes, Frames: h.Frames, Depth: h.Depth,
		Coding: h.Coding, HasProfile: h.HasProfile, HasAlpha: h.Alpha, Digest: v.Digest,
	}
}
