package improve

import (
	"sort"
	"time"

	"tinbell/core/score"
	"tinbell/internal/record"
)

// Groupings are what a scorecard can be broken down by.
var Groupings = []string{"dataset", "measure", "segment", "owner", "month"}

// grouped scores alerts by what they have in common, worst precision first;
// months in order. An incident belongs to the groups that it covers: its own
// dataset and month, its measure and segment where it names them, the owners of
// its dataset.
func grouped(alerts []record.Alert, incidents []record.Incident, cases []score.Incident, by string, weeks float64, to time.Time) []Card {
	parts := map[string][]record.Alert{}
	owners := map[string]map[string]bool{}
	sizes := map[string]int{}
	for i := range alerts {
		sizes[keyOf(&alerts[i], by)]++
	}
	for i := range alerts {
		a := &alerts[i]
		key := keyOf(a, by)
		if parts[key] == nil {
			parts[key] = make([]record.Alert, 0, sizes[key])
		}
		parts[key] = append(parts[key], *a)
		if owners[a.Dataset] == nil {
			owners[a.Dataset] = map[string]bool{}
		}
		owners[a.Dataset][a.Owner] = true
	}
	own := map[string][]score.Incident{}
	for j, i := range incidents {
		for _, key := range keysOf(i, by, owners) {
			own[key] = append(own[key], cases[j])
			if _, there := parts[key]; !there {
				parts[key] = nil
			}
		}
	}
	if by == "month" {
		weeks = 365.25 / 12 / 7
	}
	list := []Card{}
	for key, part := range parts {
		c := sum(part, score.Match(scores(part), own[key], to.Unix()), weeks, false)
		c.Name = key
		list = append(list, c)
	}
	sort.Slice(list, func(i, j int) bool {
		if by == "month" || !worse(list[i], list[j]) && !worse(list[j], list[i]) {
			return list[i].Name < list[j].Name
		}
		return worse(list[i], list[j])
	})
	return list
}

func keyOf(a *record.Alert, by string) string {
	switch by {
	case "dataset":
		return a.Dataset
	case "measure":
		return a.Measure
	case "segment":
		return a.Segment
	case "owner":
		return a.Owner
	}
	return monthOf(a.RaisedAt, a.Zone)
}

func keysOf(i record.Incident, by string, owners map[string]map[string]bool) []string {
	switch by {
	case "dataset":
		return []string{i.Dataset}
	case "measure":
		return some(i.Measure)
	case "segment":
		return some(i.Segment)
	case "owner":
		var list []string
		for owner := range owners[i.Dataset] {
			list = append(list, owner)
		}
		return list
	}
	return []string{monthOf(i.StartedAt, i.Zone)}
}

func some(name string) []string {
	if name == "" {
		return nil
	}
	return []string{name}
}

func monthOf(at time.Time, name string) string {
	zone, err := time.LoadLocation(name)
	if err != nil {
		zone = time.UTC
	}
	return at.In(zone).Format("2006-01")
}
