// Package console holds the built console, so that one binary serves it.
package console

import "embed"

// Files is what `npm run build` made, below dist.
//
//go:embed all:dist
var Files embed.FS
