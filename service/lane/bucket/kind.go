// Package bucket is the kind of lane whose sources are objects of a store that others fill, behind the S3 interface.
package bucket

import (
	"time"

	"echolane/core/policy"
	"echolane/service/lane/objects"
	"echolane/service/source"
)

// Kind is "bucket".
type Kind struct{}

// Describe says what the settings of a bucket lane are.
func (Kind) Describe() policy.LaneKind {
	return policy.LaneKind{
		Name: "bucket", FreshS: 300, Told: []string{"bucket"}, Where: [][]string{{"endpoint", "bucket", "prefix"}},
		Secrets: policy.LaneSecrets{Form: policy.Credentials},
		Fields:  objects.Fields("the bucket's name", ""),
	}
}

// Ready finds nothing: whether the store answers is for the first look to see.
func (Kind) Ready(*policy.Lane) *policy.Trouble { return nil }

// Open makes the lane's client.
func (Kind) Open(o source.Opening) (source.Lane, error) {
	store, err := objects.Open(o)
	if err != nil {
		return nil, objects.Refuse(o.Name(), "", err)
	}
	return &Lane{name: o.Name(), lane: o.Lane, store: store, total: o.Guard.Timeouts.Total, keep: o.Keep, now: time.Now}, nil
}
