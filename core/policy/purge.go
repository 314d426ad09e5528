package policy

import "strings"

// A Purge has what was kept before it not be given any more: of a source, of all below a path, of a lane, of a class, of some
// variants, or of the whole site.
type Purge struct {
	Serial uint64   `json:"serial"` // counts up over all sites
	Lane   string   `json:"lane,omitempty"`
	Path   string   `json:"path,omitempty"` // of a source in the lane; of all below it where it ends in a slash
	Class  string   `json:"class,omitempty"`
	Keys   []string `json:"keys,omitempty"` // of variants
}

// purges are a site's, ready to be asked. The newest of those that concern something counts.
type purges struct {
	newest  uint64
	site    uint64
	lanes   map[string]uint64
	paths   map[sourceName]uint64 // of sources, and of directories with their slash
	classes map[string]uint64
	keys    map[string]uint64
}

type sourceName struct{ lane, path string }

func newPurges(all []Purge) *purges {
	if len(all) == 0 {
		return nil
	}
	p := &purges{lanes: map[string]uint64{}, paths: map[sourceName]uint64{}, classes: map[string]uint64{}, keys: map[string]uint64{}}
	for _, one := range all {
		p.newest = max(p.newest, one.Serial)
		switch {
		case len(one.Keys) > 0:
			for _, k := range one.Keys {
				p.keys[k] = max(p.keys[k], one.Serial)
			}
		case one.Class != "":
			p.classes[one.Class] = max(p.classes[one.Class], one.Serial)
		case one.Path != "":
			at := sourceName{one.Lane, one.Path}
			p.paths[at] = max(p.paths[at], one.Serial)
		case one.Lane != "":
			p.lanes[one.Lane] = max(p.lanes[one.Lane], one.Serial)
		default:
			p.site = max(p.site, one.Serial)
		}
	}
	return p
}

// SourcePurged is the serial of the newest purge that concerns a source; 0: none does. What was kept of it under an earlier
// serial isn't given any more.
func (s *SiteSettings) SourcePurged(lane, path string) uint64 {
	p := s.purges
	if p == nil {
		return 0
	}
	serial := max(p.site, p.lanes[lane])
	if len(p.paths) == 0 {
		return serial
	}
	serial = max(serial, p.paths[sourceName{lane, path}])
	for i, c := range []byte(path) {
		if c == '/' {
			serial = max(serial, p.paths[sourceName{lane, path[:i+1]}])
		}
	}
	return serial
}

// VariantPurged is the serial of the newest purge that concerns a variant by its key, or by the classes that its request names,
// separated by spaces; 0: none does.
func (s *SiteSettings) VariantPurged(key, classes string) (serial uint64) {
	p := s.purges
	if p == nil {
		return 0
	}
	serial = p.keys[key]
	if len(p.classes) > 0 && classes != "" {
		for name := range strings.SplitSeq(classes, " ") {
			serial = max(serial, p.classes[name])
		}
	}
	return serial
}

// NewestPurge is the serial of the site's newest purge; 0: there is none.
func (s *SiteSettings) NewestPurge() uint64 {
	if s.purges == nil {
		return 0
	}
	return s.purges.newest
}
