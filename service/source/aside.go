package source

import (
	"echolane/core/policy"
	"echolane/service/source/held"
)

// Aside knows the sources that are set aside, since workers died over them. Safe for concurrent use; nothing of it waits.
type Aside interface {
	// HasAside reports whether a site has such sources.
	HasAside(site string) bool
	// RefuseAside is what is answered for such a source; nil: it is none.
	RefuseAside(site string, digest held.Digest) *policy.Refusal
	// HeaderFailed is told why a header couldn't be read, which may be that workers died over it.
	HeaderFailed(site, lane, path string, digest held.Digest, err error)
}

// HeedAside has no header read of what is set aside. It comes before the first Locate.
func (t *Table) HeedAside(a Aside) { t.aside = a }

// refuseAside is RefuseAside, as an error.
func (t *Table) refuseAside(site string, digest held.Digest) error {
	if t.aside != nil {
		if no := t.aside.RefuseAside(site, digest); no != nil {
			return no
		}
	}
	return nil
}

// readSound has the header of a version read whose digest is known, unless it is set aside.
func (t *Table) readSound(read func() error, site, lane, path string, digest held.Digest) error {
	if err := t.refuseAside(site, digest); err != nil {
		return err
	}
	err := read()
	t.headerFailed(site, lane, path, digest, err)
	return err
}

func (t *Table) headerFailed(site, lane, path string, digest held.Digest, err error) {
	if err != nil && t.aside != nil {
		t.aside.HeaderFailed(site, lane, path, digest, err)
	}
}
