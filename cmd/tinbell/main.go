// Command tinbell is the service, its client and its demo in one program.
package main

import (
	"os"

	"tinbell/internal/cli"
)

func main() { os.Exit(cli.Main(os.Args[1:], os.Stdout, os.Stderr)) }
