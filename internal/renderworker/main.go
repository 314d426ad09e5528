// Command renderworker is a render worker and nothing else, for tests: it is built without what slows their own code down.
package main

import (
	"fmt"
	"os"

	"echolane/service/workshop"
)

func main() {
	if err := workshop.Work(); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}
