// Command echolane-worker is a render worker and nothing else: it starts sooner than the service's own program, and holds less
// that a hostile source could turn to its use. The service starts it where the two were built together.
package main

import (
	"fmt"
	"os"

	"echolane/service/workshop"
)

func main() {
	if !workshop.IsWorker() {
		fmt.Fprintln(os.Stderr, "echolane-worker isn't for people: echolane starts it where it renders")
		os.Exit(2)
	}
	if err := workshop.Work(); err != nil {
		fmt.Fprintln(os.Stderr, "render worker:", err)
		os.Exit(1)
	}
}
