//go:build !amd64

package vp8

func (t *tries) all() { t.plain() }
