package policy

import (
	"fmt"
	"maps"
	"sort"
	"strings"
	"time"
)

// Settings are all sites at one moment, never changed after they are made. Safe for concurrent use.
type Settings struct {
	Generation uint64 // counts up with every reading
	Sites      []*SiteSettings
	byName     map[string]*SiteSettings
	byHost     map[string]*SiteSettings
}

// SiteSettings is a compiled site with what it was compiled from.
type SiteSettings struct {
	*Site
	Document  Document
	Version   int64 // counts up with every change
	MadeAt    time.Time
	ChangedAt time.Time
	Secrets   map[string]string // by name, opened; nil where there are none
	Broken    []string          // names of secrets that couldn't be opened
	Focuses   *Focuses          // nil: nobody has said where a subject is
	purges    *purges
}

// A Stored site is what is kept of one, with its secrets opened where that was possible.
type Stored struct {
	Document  Document
	Version   int64
	MadeAt    time.Time
	ChangedAt time.Time
	Secrets   map[string]string
	Broken    []string
	Purges    []Purge
	Focuses   *Focuses
}

// Names of secrets.

// KeySecret is the name of a signing key's secret.
func KeySecret(id string) string { return "key/" + id }

// CredentialsSecret is the name of the secret that opens a lane's bucket.
func CredentialsSecret(lane string) string { return "lane/" + lane + "/credentials" }

// HeaderSecret is the name of a request header that a web lane sends.
func HeaderSecret(lane, field string) string { return "lane/" + lane + "/header/" + field }

// NewSettings compiles sites, in the order of their names, with lanes of the kinds. A site that didn't change since before is the same value, so
// that nothing that hangs on it has to be worked out anew; before may be nil. A site that doesn't compile keeps what was
// known of it before, holds no other up, and is told of in the errors.
func NewSettings(kinds LaneKinds, before *Settings, stored []Stored) (*Settings, []error) {
	next := &Settings{byName: make(map[string]*SiteSettings, len(stored)), byHost: map[string]*SiteSettings{}}
	if before != nil {
		next.Generation = before.Generation + 1
	}
	var errs []error
	for _, in := range stored {
		name := in.Document.Site
		old := before.Site(name)
		site := old
		if old == nil || !old.is(in) {
			compiled, err := compileStored(in, kinds)
			if err != nil {
				errs = append(errs, fmt.Errorf("site %s: %w", name, err))
				if old == nil {
					continue
				}
			} else {
				site = compiled
			}
		}
		if purged := newPurges(in.Purges); purged != nil && (site.purges == nil || site.purges.newest != purged.newest) {
			clone := *site
			clone.purges = purged
			site = &clone
		}
		if site.Focuses != in.Focuses {
			clone := *site
			clone.Focuses = in.Focuses
			site = &clone
		}
		next.Sites = append(next.Sites, site)
		next.byName[name] = site
	}
	sort.Slice(next.Sites, func(i, j int) bool { return next.Sites[i].Name < next.Sites[j].Name })
	for _, site := range next.Sites {
		for _, h := range site.Hosts {
			if next.byHost[h] == nil {
				next.byHost[h] = site
			}
		}
	}
	return next, errs
}

func (s *SiteSettings) is(in Stored) bool {
	return s.Version == in.Version && s.MadeAt.Equal(in.MadeAt) && maps.Equal(s.Secrets, in.Secrets) && strings.Join(s.Broken, "\n") == strings.Join(in.Broken, "\n")
}

func compileStored(in Stored, kinds LaneKinds) (*SiteSettings, error) {
	d := in.Document.Clone()
	d.Complete(kinds)
	compiled, _, err := Compile(d, kinds)
	if err != nil {
		return nil, fmt.Errorf("compile its document: %w", err)
	}
	for name, value := range in.Secrets {
		if id, ok := strings.CutPrefix(name, KeySecret("")); ok {
			if compiled.Keys == nil {
				compiled.Keys = map[string][]byte{}
			}
			compiled.Keys[id] = []byte(value)
		}
	}
	return &SiteSettings{Site: compiled, Document: d, Version: in.Version, MadeAt: in.MadeAt, ChangedAt: in.ChangedAt, Secrets: in.Secrets, Broken: in.Broken}, nil
}

// Site finds a site by name, nil where there is none.
func (s *Settings) Site(name string) *SiteSettings {
	if s == nil {
		return nil
	}
	return s.byName[name]
}

// SiteByHost finds the site that a host name belongs to, nil where it is nobody's. The host is as the Host field has it:
// in any case, with or without a port.
func (s *Settings) SiteByHost(host string) *SiteSettings {
	if len(s.byHost) == 0 {
		return nil
	}
	if h, _, ok := strings.Cut(host, ":"); ok {
		host = h
	}
	if site := s.byHost[host]; site != nil {
		return site
	}
	return s.byHost[strings.ToLower(host)]
}

// SecretNames lists which secrets a site has, also those that can't be opened here.
func (s *SiteSettings) SecretNames() []string {
	names := append([]string{}, s.Broken...)
	for name := range s.Secrets {
		names = append(names, name)
	}
	sort.Strings(names)
	return names
}
