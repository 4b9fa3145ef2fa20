// Command kestite is the whole product in one binary: the server, the agent
// that measures, the demo, and the tools that work on files alone.
package main

import (
	"os"

	"kestite/cmd/kestite/cli"
)

func main() { os.Exit(cli.Run(os.Args[1:], os.Stdin, os.Stdout, os.Stderr)) }
