package compare

import (
	"fmt"
	"math"

	"tinbell/core/drift"
	"tinbell/internal/record"
	"tinbell/internal/words"
)

// apartByChance is how often clean rows are told apart beyond the limit of
// separability: three standard deviations.
const apartByChance = 0.00135

// conclude comes to one verdict for a period.
func conclude(found *record.DriftResult, features []record.Feature, s record.ComparisonSettings) {
	w := record.WholeVerdict{State: record.NotJudged, Assured: s.Independent || found.Reference.Blocks >= drift.MinBlocks, Gone: record.Strings{}}
	for _, f := range features {
		if f.Why == onlyBefore {
			w.Gone = append(w.Gone, f.Name)
		}
	}
	accept, kept := acceptOf(s.Accept), 1.0
	judged := 0
	for _, f := range found.Features {
		if f.State == drift.Over || f.State == drift.AsExpected {
			judged++
			kept *= 1 - accept
		}
	}
	over := found.Over > 0
	if found.Separability != nil {
		kept *= 1 - apartByChance
		over = over || found.Separability.Score > found.Separability.Limit
	}
	if len(found.Pairs) > 0 {
		kept *= 1 - accept
		over = over || found.Pairs[0].Beyond > found.Pairs[0].Limit
	}
	switch {
	case over:
		w.State = drift.Over
	case judged > 0:
		w.State = drift.AsExpected
	}
	w.Stated = math.Round((1-kept)*1e6) / 1e6
	found.Whole = w
}

// promise says what a whole verdict may be trusted in.
func promise(w record.WholeVerdict) string {
	if w.State == record.NotJudged || w.State == "" {
		return ""
	}
	if !w.Assured {
		return fmt.Sprintf("No days tell how much the reference differs by itself: that %s of clean periods at most are over in any way holds only if rows are independent", words.Percent(w.Stated))
	}
	return fmt.Sprintf("Of clean periods at most %s are over in any way", words.Percent(w.Stated))
}
