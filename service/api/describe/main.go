// Command describe writes what is made from the API's operations: `go generate ./service/api`.
package main

import (
	"fmt"
	"os"

	"echolane/service/api"
)

func main() {
	for file, text := range api.Made {
		data, err := text()
		if err == nil {
			err = os.WriteFile(file, data, 0o644)
		}
		if err != nil {
			fmt.Fprintf(os.Stderr, "describe: %s: %v\n", file, err)
			os.Exit(1)
		}
	}
}
