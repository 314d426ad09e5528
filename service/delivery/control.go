package delivery

import (
	"strconv"
	"strings"
	"time"

	"echolane/service/source"
)

// control is what an answer's Cache-Control depends on, but for its variant, its page and the time.
type control struct {
	maxAge    int64 // seconds, as the lane has it
	sharedAge int64 // seconds, for shared caches; below 0: as for all
	stale     bool  // its origin hasn't said whether it is still so
	pinned    bool  // the address names the version of the one source that there is: its answer never changes
	expires   int64 // seconds since 1970 at which the link ends; 0: never
	signed    bool  // the lane answers signed links only
	sharing   source.Sharing
}

const (
	pinnedAge       = 365 * 86400 // seconds that what never changes is kept (RFC 8246)
	staleAge        = 10          // seconds that a stale answer is kept
	provisionalAge  = 5           // seconds that an answer is kept which another will follow
	staleWhileAsked = 86400       // seconds that shared caches may answer with while they ask anew
)

func controlOf(r *request, s source.Sharing) control {
	return control{maxAge: int64(r.lane.MaxAge / time.Second), sharedAge: r.lane.SharedMaxAge, pinned: r.declared.Digest != "" && len(r.resolved.Pictures()) == 0, expires: r.declared.Expires, signed: r.lane.Signed, sharing: s}
}

// text is the field. A lane that answers signed links only keeps shared caches out: they would go on answering for a key
// that was taken back; and so does what only some pages may have. What an origin lets nobody keep, nobody is told to keep.
func (c control) text(provisional, restricted bool, now int64) string {
	if c.sharing == source.NoStore {
		return "no-store"
	}
	age := c.maxAge
	if c.expires != 0 {
		age = max(0, min(age, c.expires-now))
	}
	never := c.pinned && !provisional && c.expires == 0
	if never {
		age = pinnedAge
	}
	if provisional {
		age = min(age, provisionalAge)
	}
	if c.stale && !never {
		age = min(age, staleAge)
	}
	n := strconv.FormatInt(age, 10)
	switch {
	case c.signed || restricted || c.sharing == source.Private:
		if never {
			n += ", immutable"
		}
		return "private, max-age=" + n
	case never:
		return "public, max-age=" + n + ", immutable"
	case provisional || c.stale || c.expires != 0 || age == 0:
		return "public, max-age=" + n
	}
	return "public, max-age=" + n + ", stale-while-revalidate=" + strconv.Itoa(staleWhileAsked)
}

// forShared is the CDN-Cache-Control (RFC 9213) of a lane that tells shared caches another lifetime, "" where it tells them none or
// they may not keep it.
func (c control) forShared() string {
	if c.sharedAge < 0 || c.signed || c.sharing != source.Public || c.expires != 0 || c.stale {
		return ""
	}
	return "public, max-age=" + strconv.FormatInt(c.sharedAge, 10) + ", stale-while-revalidate=" + strconv.Itoa(staleWhileAsked)
}

// changes reports whether the field depends on the time.
func (c control) changes() bool { return c.expires != 0 }

// IsFirst reports whether a Cache-Control is that of a first answer, which a better one follows within seconds.
func IsFirst(cacheControl string) bool {
	scope, age, ok := strings.Cut(cacheControl, ", max-age=")
	n, err := strconv.Atoi(age)
	return ok && err == nil && n > 0 && n <= provisionalAge && (scope == "public" || scope == "private")
}
