// Package folder is the kind of lane whose sources are files below a directory of the service's machine.
package folder

import (
	"os"

	"echolane/core/policy"
	"echolane/service/source"
)

// Kind is "folder".
type Kind struct{}

// Describe says what the settings of a folder lane are.
func (Kind) Describe() policy.LaneKind {
	return policy.LaneKind{
		Name: "folder", FreshS: 1, Told: []string{"folder"}, Where: [][]string{{"folder"}},
		Fields: []policy.LaneField{Field("an absolute path, such as /srv/kestrel/catalogue")},
	}
}

// Field is the field for a directory, needed where needed isn't "".
func Field(needed string) policy.LaneField {
	return policy.LaneField{
		Name: "folder", Label: "Folder", Hint: "On every machine that the service runs on", Usage: "where the sources lie on the service's machine; relative to here",
		Needed: needed, Place: true, Path: true,
	}
}

// Ready wants the directory to be there.
func (Kind) Ready(l *policy.Lane) *policy.Trouble {
	if info, err := os.Stat(l.Folder); err != nil || !info.IsDir() {
		return &policy.Trouble{Path: "folder", Given: l.Folder, Detail: "there is no such folder on the machine that the service runs on", Allowed: "a folder that exists"}
	}
	return nil
}

// Open opens nothing yet.
func (Kind) Open(o source.Opening) (source.Lane, error) {
	return Lane{Name: o.Name(), Dir: o.Lane.Folder, Limits: o.Lane.Limits, Fresh: o.Lane.Fresh}, nil
}
