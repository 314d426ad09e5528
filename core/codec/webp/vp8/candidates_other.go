//go:build !amd64

package vp8

func (t *candidates) scoreAll() { t.score() }
