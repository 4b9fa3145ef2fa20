// Command kestite is the whole product in one binary: the server, the agent
// that measures, the demo, and the tools that work on files alone.
package main

import (
	"errors"
	"fmt"
	"os"

	"kestite/cmd/kestite/cli"
)

func main() {
	err := cli.Root().Execute()
	if err == nil {
		return
	}
	var quiet *cli.Quiet
	if errors.As(err, &quiet) {
		os.Exit(1)
	}
	fmt.Fprintln(os.Stderr, "kestite:", err)
	var refused *cli.Refused
	if errors.As(err, &refused) {
		os.Exit(2)
	}
	os.Exit(1)
}
