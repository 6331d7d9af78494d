package cli

import (
	"fmt"
	"strings"

	"tinbell/core/detect"
)

// kinship says what the series of a monitor together tell of the limits of each.
func kinship(k detect.Kinship) (sentences []string) {
	var worth []string
	for _, t := range []struct {
		what string
		detect.KinTail
	}{{"dips", k.Low}, {"rises", k.High}, {"silences", k.Silence}, {"missing stretches", k.Missing}, {"frozen stretches", k.Stuck}} {
		if t.Worth > 0 {
			worth = append(worth, fmt.Sprintf("%.0f %s", t.Worth, t.what))
		}
	}
	if len(worth) > 0 {
		sentences = append(sentences, "How the largest fall off is alike in its series: each leans on the others' as on "+
			strings.Join(worth, ", ")+" of its own.")
	}
	if k.Young > 0 {
		sentences = append(sentences, fmt.Sprintf(
			"A series without a past has limits %.0f %% higher: so much farther went its series in weeks they were not fitted to.", 100*k.Young))
	}
	return sentences
}
