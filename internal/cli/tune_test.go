package cli

import (
	"testing"

	"tinbell/internal/record"
)

// A proposal that finds an incident at the price of more alerts says so, and not
// that it spares a number below zero.
func TestAProposalThatAddsAlertsSaysSo(t *testing.T) {
	for spared, want := range map[float64]string{
		3.2:  "about 3 of 4 alerts",
		-0.2: "about 0 of 4 alerts",
		-2:   "none, about 2 more than 4",
	} {
		if got := spares(record.Gain{Spared: spared, Before: 4}); got != want {
			t.Errorf("%g spared: %q, want %q", spared, got, want)
		}
	}
}
