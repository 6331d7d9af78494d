// Command tinbell is the service, its client and its demo in one program.
package main

import (
	"os"
	"runtime/debug"

	"tinbell/internal/cli"
)

// collectAt is how far the heap may grow, in percent of what lives on it,
// before it is collected. Little lives on ours: at the usual 100 a fit spends a
// fifth of its time on collections.
const collectAt = 400

func main() {
	if os.Getenv("GOGC") == "" {
		debug.SetGCPercent(collectAt)
	}
	os.Exit(cli.Main(os.Args[1:], os.Stdout, os.Stderr))
}
