// Command draw draws the catalogue that tests and benchmarks share, where it isn't there yet. Otherwise the first that needs it does,
// and under the race detector that takes ten times as long.
package main

import (
	"fmt"
	"os"

	"echolane/demo/pictures"
)

func main() {
	if _, err := pictures.Shared(); err != nil {
		fmt.Fprintln(os.Stderr, "draw the catalogue:", err)
		os.Exit(1)
	}
}
