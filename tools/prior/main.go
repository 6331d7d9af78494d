// Command prior fits the weights that the false-alarm filter starts from and
// prints them as Go: go run ./tools/prior > core/filter/prior.go
package main

import (
	"fmt"
	"os"

	"tinbell/core/filter"
	"tinbell/internal/benchmark"
)

func main() {
	var seeds, cuts []uint64
	for i := range uint64(24) {
		seeds, cuts = append(seeds, 9000+i), append(cuts, 9500+i)
	}
	p, err := benchmark.PriorOf(seeds, cuts, 6, func(done, total int) { fmt.Fprintf(os.Stderr, "\r%d of %d fleets ", done, total) })
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	fmt.Println("package filter\n\n// ShippedPrior is what the filter starts from before anybody has labelled\n// anything: fitted by tools/prior on made-up fleets.\nvar ShippedPrior = Prior{\n\tWeights: Weights{")
	for i, w := range p.Weights {
		fmt.Printf("\t\t%.3f, // %s\n", w, filter.Features[i])
	}
	fmt.Println("\t},\n\tCuts: [][2]float64{")
	for _, c := range p.Cuts {
		fmt.Printf("\t\t{%g, %g},\n", c[0], c[1])
	}
	fmt.Println("\t},\n}")
}
