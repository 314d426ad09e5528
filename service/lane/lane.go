// Package lane lists the kinds of lane. Each is a package of its own, and one line here.
package lane

import (
	"echolane/service/lane/blank"
	"echolane/service/lane/bucket"
	"echolane/service/lane/folder"
	"echolane/service/lane/upload"
	"echolane/service/lane/web"
	"echolane/service/source"
)

//go:generate go run echolane/internal/language -C ../..

// Kinds are all kinds of lane.
var Kinds = source.Kinds{
	folder.Kind{},
	web.Kind{},
	bucket.Kind{},
	upload.Kind{},
	blank.Kind{},
}

// Described is what the settings of lanes of these kinds are.
var Described = Kinds.Describe()
