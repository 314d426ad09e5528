// Command write makes the pictures of docs/parameters.md anew: `make examples`.
package main

import (
	"fmt"
	"os"

	"echolane/demo/examples"
)

func main() {
	if err := examples.Write("docs"); err != nil {
		fmt.Fprintln(os.Stderr, "examples:", err)
		os.Exit(1)
	}
}
