package delivery

import (
	"bytes"
	"strings"
	"sync/atomic"
	"time"

	"github.com/valyala/fasthttp"

	"echolane/core/declare"
	"echolane/core/policy"
	"echolane/core/render"
	"echolane/service/cache"
	"echolane/service/cache/entry"
	"echolane/service/source"
)

// The step key: what a variant depends on, and the hot entry of a request.

// keyOf is everything that the request's variant depends on.
func keyOf(r *request, f *found) cache.Key {
	k := cache.Key{Kind: cache.Picture, Resolved: r.resolved.String(), Renderer: render.Version, Effort: uint8(r.site.Effort)}
	switch {
	case r.declared.As == declare.Facts:
		k.Kind, k.Resolved, k.Effort = cache.Facts, r.resolved.Focus.String(), 0
	case f.use == policy.Untouched:
		k.Kind, k.Resolved, k.Effort = cache.Drawing, "", 0
	case r.declared.As == declare.Placeholder:
		k.Kind = cache.Placeholder
	}
	if k.Kind == cache.Picture && len(r.resolved.Formats) > 1 {
		k.Tried = r.site.FormatsTried
	}
	if r.resolved.Budget > 0 && k.Kind == cache.Picture {
		k.Floor = r.site.QualityFloor
	}
	sources := f.sources
	if k.Kind != cache.Picture && k.Kind != cache.Placeholder {
		sources = sources[:1]
	}
	for _, l := range sources {
		k.Sources = append(k.Sources, string(l.Known.Digest))
	}
	return k
}

// hot is where a request's text leads, as long as the site's settings and the sources stay what they are.
type hotEntry struct {
	generation  atomic.Uint64 // of the settings in which site was last seen to be the newest
	site        *policy.SiteSettings
	lane        *policy.CompiledLane
	sources     []hotSource
	asked       atomic.Uint32 // answers that aren't written down yet
	dated       atomic.Pointer[dated]
	path        string // of the source
	key         string
	since       uint64 // the serial of the newest purge that concerns the request
	location    []byte
	control     control
	public      []byte // control's Cache-Control for every page, where it doesn't depend on the time
	classes     string // that the request names
	disposition []byte
	groups      []byte    // Cache-Groups
	stale       time.Time // when the oldest of the sources that couldn't be validated was; zero: all could
	shared      string    // CDN-Cache-Control, "" for none
	vary        string    // the fields of the request that the answer depends on, "" for none
}

// dated is a Last-Modified field as it is sent.
type dated struct {
	at   int64 // seconds since 1970
	text []byte
}

// lastModified is the field for a time.
func (m *hotEntry) lastModified(at time.Time) []byte {
	if d := m.dated.Load(); d != nil && d.at == at.Unix() {
		return d.text
	}
	d := &dated{at.Unix(), fasthttp.AppendHTTPDate(nil, at)}
	m.dated.Store(d)
	return d.text
}

type hotSource struct {
	source *source.Source
	known  *source.Known
}

// holds reports whether the entry still leads to the right variant.
func (m *hotEntry) holds(all *policy.Settings, now int64) bool {
	if m.generation.Load() != all.Generation {
		if all.Site(m.site.Name) != m.site {
			return false
		}
		m.generation.Store(all.Generation)
	}
	for i := range m.sources {
		if !m.sources[i].source.Holds(m.sources[i].known, now) {
			return false
		}
	}
	return m.control.expires == 0 || time.Now().Unix() < m.control.expires
}

// newHotEntry is of a request that has found its variant.
func newHotEntry(r *request, f *found) *hotEntry {
	m := &hotEntry{site: r.site, lane: r.lane, path: r.path, key: f.key.String(), location: r.form(r.declared), vary: r.varies(), classes: r.declared.Class}
	if f.key.Kind == cache.Facts {
		m.vary = ""
	}
	m.generation.Store(r.settings.Generation)
	m.since = r.site.VariantPurged(m.key, m.classes)
	for _, l := range f.sources {
		m.sources = append(m.sources, hotSource{l.Source, l.Known})
		m.since = max(m.since, r.site.SourcePurged(l.Name, l.Path))
		if at := l.Known.Validated; (l.Stale || l.Known.Stale) && (m.stale.IsZero() || at.Before(m.stale)) {
			m.stale = at
		}
	}
	m.control = controlOf(r, sharing(f.sources))
	m.control.stale = !m.stale.IsZero()
	m.public = []byte(m.control.text(false, false, time.Now().Unix()))
	m.shared = m.control.forShared()
	m.groups = groupsOf(r.site.Name, f.sources)
	return m
}

// groupsOf are the groups that an answer belongs to, by which caches in front can forget it (RFC 9875): its site, and the lanes
// and sources of which it is made. Names that are longer than caches need take are digests.
func groupsOf(site string, sources []*source.Located) []byte {
	out := []byte{'"'}
	out = append(append(out, site...), '"')
	for _, l := range sources {
		for _, name := range []string{site + "/" + l.Name, site + "/" + l.Name + "/" + l.Path} {
			text := groupOf(name)
			if bytes.Contains(out, []byte(`"`+text+`"`)) {
				continue
			}
			out = append(append(append(out, `, "`...), text...), '"')
		}
	}
	return out
}

// groupOf is the group of answers that are made of what a name such as site/lane or site/lane/path names.
func groupOf(name string) string {
	const most = 32
	plain := len(name) <= most && !strings.ContainsFunc(name, func(c rune) bool { return c < ' ' || c > '~' || c == '"' || c == '\\' })
	if plain {
		return name
	}
	return entry.Key("group", name)
}

// varies names the fields of the request that the answer depends on.
func (r *request) varies() string {
	fields := ""
	add := func(field string, does bool) {
		switch {
		case !does:
		case fields == "":
			fields = field
		default:
			fields += ", " + field
		}
	}
	add(vAccept, r.declared.Format == declare.FormatUnset)
	data, motion := r.site.Sheet.AsksFor(r.declared.Class)
	add(savesField, data)
	add(stillField, motion)
	return fields
}
