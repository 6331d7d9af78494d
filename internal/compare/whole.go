package compare

import (
	"fmt"
	"math"

	"tinbell/core/drift"
	"tinbell/internal/record"
	"tinbell/internal/words"
)

// conclude comes to one verdict for a period.
func conclude(found *record.DriftResult, features []record.Feature, s record.ComparisonSettings) {
	w := record.WholeVerdict{State: record.NotJudged, Assured: s.Independent || found.Reference.Blocks >= drift.MinBlocks,
		Gone: record.Strings{}}
	for _, f := range features {
		if f.Why == onlyBefore {
			w.Gone = append(w.Gone, f.Name)
		}
	}
	judged := 0
	for _, f := range found.Features {
		if f.State == drift.Over || f.State == drift.AsExpected {
			judged++
		}
	}
	over := found.Over > 0
	if found.Separability != nil {
		over = over || found.Separability.Score > found.Separability.Limit
	}
	if len(found.Pairs) > 0 {
		over = over || found.Pairs[0].Beyond > found.Pairs[0].Limit
	}
	switch {
	case over:
		w.State = drift.Over
	case judged > 0:
		w.State = drift.AsExpected
	}
	stated := drift.JointShare(acceptOf(s.Accept), judged, found.Separability != nil, len(found.Pairs) > 0)
	w.Stated = math.Round(stated*1e6) / 1e6
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
