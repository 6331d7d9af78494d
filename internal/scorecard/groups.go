package scorecard

import (
	"maps"
	"slices"
	"sort"
	"time"

	"tinbell/core/score"
	"tinbell/internal/record"
	"tinbell/internal/store"
)

// Groupings are what a scorecard can be broken down by.
var Groupings = []string{"dataset", "measure", "segment", "owner", "tag", "rule", "channel", "month"}

// grouping scores alerts by what they have in common.
type grouping struct {
	by   string
	told map[int64][]string // channels that heard of a group of alerts
}

// cards are the scores of the groups, worst precision first; months in order. An alert
// with several tags, or told on several channels, counts under each. An incident belongs
// to the groups that it covers: its own dataset and month, its measure and segment where
// it names them, the owners and tags of its dataset's alerts and the channels that they
// were told on, from the first on; to a rule any, for none is there to see one sort of
// incident alone.
func (g grouping) cards(alerts []store.Scored, incidents []record.Incident, cases []score.Incident, weeks float64, to time.Time) []Card {
	parts := map[string][]score.Alert{}
	ofDataset := map[string]map[string]bool{}
	since := map[string]int64{} // a channel is told
	for i := range alerts {
		a := &alerts[i]
		for _, key := range g.keysOf(a) {
			parts[key] = append(parts[key], a.Alert)
			if first, there := since[key]; !there || a.Start < first {
				since[key] = a.Start
			}
			if ofDataset[a.Of.Dataset] == nil {
				ofDataset[a.Of.Dataset] = map[string]bool{}
			}
			ofDataset[a.Of.Dataset][key] = true
		}
	}
	rules := slices.Collect(maps.Keys(parts))
	own := map[string][]score.Incident{}
	for j, i := range incidents {
		for _, key := range g.covering(i, ofDataset, rules) {
			if g.by == "channel" && i.StartedAt.Unix() < since[key] {
				continue
			}
			own[key] = append(own[key], cases[j])
			if _, there := parts[key]; !there {
				parts[key] = nil
			}
		}
	}
	if g.by == "month" {
		weeks = 365.25 / 12 / 7
	}
	list := []Card{}
	for key, part := range parts {
		c := All(score.Sum(part, score.Match(part, own[key], to.Unix()), weeks, false))
		c.Name = key
		list = append(list, c)
	}
	sort.Slice(list, func(i, j int) bool {
		if g.by == "month" || !worse(list[i], list[j]) && !worse(list[j], list[i]) {
			return list[i].Name < list[j].Name
		}
		return worse(list[i], list[j])
	})
	return list
}

// keysOf names the groups that an alert counts under.
func (g grouping) keysOf(a *store.Scored) []string {
	switch g.by {
	case "dataset":
		return []string{a.Of.Dataset}
	case "measure":
		return []string{a.Of.Measure}
	case "segment":
		return []string{a.Of.Segment}
	case "owner":
		return []string{a.Of.Owner}
	case "rule":
		return []string{string(a.Cause)}
	case "tag":
		if len(a.Of.Tags) == 0 {
			return []string{"(no tag)"}
		}
		return a.Of.Tags
	case "channel":
		if len(g.told[a.Group]) > 0 {
			return g.told[a.Group]
		}
		return []string{"(told to nobody)"}
	}
	return []string{monthOf(a.RaisedAt(), a.Of.Zone)}
}

// covering names the groups that an incident counts under.
func (g grouping) covering(i record.Incident, ofDataset map[string]map[string]bool, all []string) []string {
	switch g.by {
	case "dataset":
		return i.Datasets()
	case "measure":
		return some(i.Measure)
	case "segment":
		return some(i.Segment)
	case "rule":
		return all
	case "month":
		return []string{monthOf(i.StartedAt, i.Zone)}
	}
	keys := map[string]bool{}
	for _, name := range i.Datasets() {
		maps.Copy(keys, ofDataset[name])
	}
	return slices.Collect(maps.Keys(keys))
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
