// Package web is what a site's own pages load: the module that writes addresses, and the element that asks for what fits.
package web

import "embed"

// Files are served under /-/web/.
//
//go:embed *.js *.css *.d.ts
var Files embed.FS
