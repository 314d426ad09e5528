// Command describe writes openapi.json from the API's operations: `go generate ./service/api`.
package main

import (
	"fmt"
	"os"

	"echolane/service/api"
)

func main() {
	text, err := api.Describe()
	if err == nil {
		err = os.WriteFile("openapi.json", append(text, '\n'), 0o644)
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, "describe:", err)
		os.Exit(1)
	}
}
