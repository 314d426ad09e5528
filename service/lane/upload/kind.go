// Package upload is the kind of lane whose sources are uploaded through Echo Lane, into a folder or a bucket.
package upload

import (
	"echolane/core/policy"
	"echolane/service/lane/folder"
	"echolane/service/lane/objects"
	"echolane/service/source"
)

// Kind is "upload".
type Kind struct{}

// Describe says what the settings of an upload lane are.
func (Kind) Describe() policy.LaneKind {
	return policy.LaneKind{
		Name: "upload", FreshS: 1, Told: []string{"upload"}, Option: "upload", OptionUsage: "sources are uploaded through Echo Lane",
		Where: [][]string{{"folder"}, {"endpoint", "bucket", "prefix"}}, Receives: true,
		Secrets: policy.LaneSecrets{Form: policy.Credentials, Unless: "folder"},
		Fields:  append([]policy.LaneField{folder.Field("")}, objects.Fields("", "folder")...),
		Check: func(l *policy.Lane) *policy.Trouble {
			if (l.Folder == "") == (l.Bucket == "") {
				return &policy.Trouble{Path: "folder", Given: l.Folder, Detail: "an upload lane keeps its sources either in a folder or in a bucket", Allowed: "one of folder and bucket"}
			}
			return nil
		},
	}
}

// Ready finds nothing: the folder is made when something is put into it.
func (Kind) Ready(*policy.Lane) *policy.Trouble { return nil }

// Open makes the lane's store.
func (Kind) Open(o source.Opening) (source.Lane, error) {
	store, err := objects.Open(o)
	if err != nil {
		return nil, objects.Refuse(o.Name(), "", err)
	}
	return &Lane{name: o.Name(), lane: o.Lane, store: store, total: o.Guard.Timeouts.Total, keep: o.Keep.Local()}, nil
}
