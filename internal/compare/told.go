package compare

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"tinbell/core/drift"
	"tinbell/internal/record"
	"tinbell/internal/words"
)

// Told says what was found in a period: a sentence, and what to know besides.
func Told(found record.DriftResult) (sentence, detail string) { return tell(found, "") }

// tell is Told, with since when the most drifted feature has been over its limit:
// " since 2 Nov", or nothing.
func tell(found record.DriftResult, since string) (sentence, detail string) {
	var over []record.FeatureResult
	judged := 0
	for _, f := range found.Features {
		if f.State == drift.Over {
			over = append(over, f)
		}
		if f.State == drift.Over || f.State == drift.AsExpected {
			judged++
		}
	}
	slices.SortStableFunc(over, func(a, b record.FeatureResult) int { return cmp.Compare(b.Ratio, a.Ratio) })
	many := words.Plural(len(found.Features), "feature")
	pair := len(found.Pairs) > 0 && found.Pairs[0].Beyond > found.Pairs[0].Limit
	apart := found.Separability != nil && found.Separability.Score > found.Separability.Limit
	switch {
	case judged == 0:
		sentence = "Too few rows to judge any of " + many
	case len(over) == 0 && apart:
		sentence = fmt.Sprintf("None of %s has drifted by itself, but together they have: the rows can be told from the reference's", many)
	case len(over) == 0 && pair:
		sentence = fmt.Sprintf("None of %s has drifted by itself, but %s and %s go together in another way", many,
			found.Pairs[0].First, found.Pairs[0].Second)
	case len(over) == 0:
		sentence = "None of " + many + " has drifted"
	case len(over) == 1:
		sentence = fmt.Sprintf("One of %s has drifted%s: %s", many, since, over[0].Feature)
	case len(over) == 2 && len(found.Features) == 2:
		sentence = fmt.Sprintf("Both features have drifted%s; %s most", since, over[0].Feature)
	case len(over) == len(found.Features):
		sentence = fmt.Sprintf("All %s have drifted%s; %s most", many, since, over[0].Feature)
	default:
		sentence = fmt.Sprintf("%s of %s have drifted%s; %s most", words.Opening(len(over)), many, since, over[0].Feature)
	}
	var parts []string
	if s := found.Separability; s != nil {
		side := "under"
		if s.Score > s.Limit {
			side = "over"
		}
		parts = append(parts, fmt.Sprintf("Separability is %.2f (%.2f to %.2f), %s its limit of %.2f", s.Score, s.Low, s.High,
			side, s.Limit))
	} else if found.Message != "" {
		parts = append(parts, found.Message)
	}
	if len(over) > 0 {
		parts = append(parts, Moved(over[0]))
	}
	if pair && (len(over) > 0 || apart) {
		parts = append(parts, fmt.Sprintf("%s and %s go together in another way", found.Pairs[0].First, found.Pairs[0].Second))
	}
	for _, m := range found.Models {
		if m.Concept != nil && m.Concept.High < 0 {
			parts = append(parts, fmt.Sprintf("%s ranks worse than in the reference: AUC %.2f, %.2f less", orUnnamed(m.Version),
				m.Quality.AUC, -m.Concept.Value))
		}
	}
	for _, name := range found.Whole.Gone {
		parts = append(parts, name+" is not there any more")
	}
	if said := promise(found.Whole); said != "" {
		parts = append(parts, said)
	}
	if len(parts) > 0 {
		detail = strings.Join(parts, ". ") + "."
	}
	return sentence, detail
}

func orUnnamed(version string) string {
	if version == "" {
		return "the model"
	}
	return version
}

// Moved says how a feature that is over its limit has changed.
func Moved(f record.FeatureResult) string {
	m, _ := f.Measure(f.By)
	switch f.By {
	case drift.MeasureMissing:
		if f.Unreadable*2 > int64(m.Value*float64(f.Period.Rows)) {
			return fmt.Sprintf("%s cannot be read as what it was in %d of %d rows", f.Feature, f.Unreadable, f.Period.Rows)
		}
		return fmt.Sprintf("%s is missing in %s of rows, at most %s were due", f.Feature, words.Percent(m.Value), words.Percent(m.Limit))
	case drift.MeasurePresent:
		return fmt.Sprintf("%s is missing more seldom than before", f.Feature)
	case drift.MeasureNew:
		return fmt.Sprintf("%s has new values in %s of rows (%s)", f.Feature, words.Percent(m.Value),
			strings.Join(f.New[:min(3, len(f.New))], ", "))
	case drift.MeasureShare:
		return fmt.Sprintf("%s: the share of %s moved by %s, at most %s were due", f.Feature, m.Of, words.Percent(m.Value),
			words.Percent(m.Limit))
	case drift.MeasureOutside:
		return fmt.Sprintf("%s lies outside the reference's range in %d rows", f.Feature, f.Below+f.Above)
	}
	var parts []string
	for _, s := range []*drift.Shift{f.Gained, f.Lost} {
		if s != nil {
			parts = append(parts, fmt.Sprintf("%s %s of rows, %s before", where(*s), words.Percent(s.Is), words.Percent(s.Was)))
		}
	}
	if len(parts) == 0 {
		return fmt.Sprintf("%s: %s %.3g where %.3g is the limit", f.Feature, f.By, m.Value, m.Limit)
	}
	return f.Feature + ": " + strings.Join(parts, "; ")
}

// where names the values of a shift.
func where(s drift.Shift) string {
	switch {
	case s.Label == drift.Below:
		return "below " + words.Number(s.To) + " is"
	case s.Label == drift.Above:
		return "above " + words.Number(s.From) + " is"
	case s.Label != "":
		return s.Label + " is"
	}
	return fmt.Sprintf("%s to %s holds", words.Number(s.From), words.Number(s.To))
}

// Stands says how a feature stands in a period.
func Stands(f record.FeatureResult) string {
	switch f.State {
	case drift.Over:
		return Moved(f)
	case drift.AsExpected:
		return "as expected"
	}
	return f.Why
}
