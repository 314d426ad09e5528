//go:build !race

package app

const racing = false
