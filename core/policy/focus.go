package policy

import "echolane/core/declare"

// Focuses are where people have said that the subjects of a site's sources are. They are never changed after they are made. Safe for
// concurrent use; nil has none.
type Focuses struct{ of map[sourceName]declare.Focus }

// A FocusChange is what somebody has said of one source, or taken back.
type FocusChange struct {
	Lane, Path string
	Focus      declare.Focus // not declared: taken back
}

// With is a copy in which more was said.
func (f *Focuses) With(changes []FocusChange) *Focuses {
	next := &Focuses{of: make(map[sourceName]declare.Focus, f.Len()+len(changes))}
	if f != nil {
		for at, focus := range f.of {
			next.of[at] = focus
		}
	}
	for _, c := range changes {
		at := sourceName{c.Lane, c.Path}
		if c.Focus.Declared {
			next.of[at] = c.Focus
		} else {
			delete(next.of, at)
		}
	}
	return next
}

// Len is how many there are.
func (f *Focuses) Len() int {
	if f == nil {
		return 0
	}
	return len(f.of)
}

// Of is where a source's subject is; not declared: nobody has said.
func (f *Focuses) Of(lane, path string) declare.Focus {
	if f == nil {
		return declare.Focus{}
	}
	return f.of[sourceName{lane, path}]
}
