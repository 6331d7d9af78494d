package grouping

import (
	"fmt"
	"testing"

	"tinbell/internal/benchmark/corpus"
)

func TestPrint(t *testing.T) {
	for _, dense := range []bool{false, true} {
		seeds := []uint64{}
		for i := range 30 {
			seeds = append(seeds, uint64(9000+i))
		}
		a, b, err := Run(seeds, dense, nil)
		if err != nil {
			t.Fatal(err)
		}
		for _, s := range []Score{a, b} {
			fmt.Printf("dense %-5t %-9s faults %3d alerts %4d false %3d groups %3d msgs %.2f purity %.3f hidden %.3f origin %.3f seg %.3f corr %.2f\n", dense, s.Rule, s.Faults, s.Alerts, s.False, s.Groups, s.Messages, s.Purity, s.Hidden, s.Origin, s.Segment, s.Corrections)
		}
	}
}

func TestLaundry(t *testing.T) {
	c, err := corpus.Read("/work/shared/corpora/laundry")
	if err != nil {
		t.Skip()
	}
	a, b, err := Labelled(c, corpus.Order{})
	for _, s := range []Score{a, b} {
		fmt.Printf("laundry %-9s faults %3d alerts %4d false %3d groups %3d msgs %.2f purity %.3f hidden %.3f origin %.3f seg %.3f corr %.2f\n", s.Rule, s.Faults, s.Alerts, s.False, s.Groups, s.Messages, s.Purity, s.Hidden, s.Origin, s.Segment, s.Corrections)
	}
	_ = err
}
