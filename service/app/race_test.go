//go:build race

package app

// racing: the race detector takes several times the memory.
const racing = true
