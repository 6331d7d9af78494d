// Command tinbell is the service, its client and its demo in one program.
package main

import (
	"os"
	"runtime/debug"

	"tinbell/internal/cli"
)

// collectAt is how far the heap may grow, in percent of what lives on it,
// before it is collected. Little lives on ours: at the usual 100 a fit spends a
// fifth of its time on collections. Above softLimit bytes it is collected as
// often as it must be to stay there.
const (
	collectAt = 400
	softLimit = 240 << 20
)

func main() {
	if os.Getenv("GOGC") == "" {
		debug.SetGCPercent(collectAt)
	}
	if os.Getenv("GOMEMLIMIT") == "" {
		debug.SetMemoryLimit(softLimit)
	}
	os.Exit(cli.Main(os.Args[1:], os.Stdout, os.Stderr))
}
