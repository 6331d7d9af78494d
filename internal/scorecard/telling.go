package scorecard

import (
	"context"
	"slices"
	"time"

	"tinbell/core/score"
)

// Telling says how many messages people got over a stretch of the past, one an
// alert, and how many with alerts of one cause told as one.
type Telling struct {
	From         time.Time         `json:"from"`
	To           time.Time         `json:"to"`
	Incidents    int               `json:"incidents" doc:"that were told"`
	Alerts       int               `json:"alerts" doc:"about incidents"`
	Groups       int               `json:"groups" doc:"about incidents"`
	FalseAlerts  int               `json:"false_alerts" doc:"about no incident"`
	FalseGroups  int               `json:"false_groups"`
	Worst        []IncidentTelling `json:"worst" doc:"incidents by how many alerts they had, most first"`
	LargestGroup int               `json:"largest_group" doc:"alerts"`
}

// IncidentTelling is how often one incident was told.
type IncidentTelling struct {
	Reference string `json:"reference"`
	Title     string `json:"title"`
	Alerts    int    `json:"alerts"`
	Groups    int    `json:"groups"`
}

// Telling compares alerts with the groups they are told in. An alert is about an
// incident if it was raised at its time on any measure of its dataset, or on what
// is made from that, two steps along the lineage. A zero from starts
// with the first alert.
func (d *Desk) Telling(ctx context.Context, from, to time.Time) (Telling, error) {
	v := Telling{From: from, To: to, Worst: []IncidentTelling{}}
	if to.IsZero() {
		v.To = d.now().Add(time.Second)
	}
	alerts, err := d.store.Scored(ctx, from, v.To)
	if err != nil {
		return v, err
	}
	if from.IsZero() {
		if v.From, err = d.start(ctx, v.To); err != nil {
			return v, err
		}
	}
	incidents, err := d.store.Incidents(ctx, "", v.From, v.To)
	if err != nil {
		return v, err
	}
	for i := range incidents {
		incidents[i].Measure, incidents[i].Downstream = "", true // whatever it set off
	}
	reach, err := d.reach(ctx, incidents)
	if err != nil {
		return v, err
	}
	cases, all := casesOf(incidents, alerts, reach), make([]score.Alert, len(alerts))
	size := map[int64]int{}
	for i, a := range alerts {
		if all[i] = a.Alert; a.Group != 0 {
			size[a.Group]++
			v.LargestGroup = max(v.LargestGroup, size[a.Group])
		}
	}
	about := map[int]map[int64]bool{} // alerts of incidents, and their groups
	told := map[int64]bool{}
	hit := make([]bool, len(alerts))
	for j, incident := range incidents {
		one := score.Match(all, cases[j:j+1], v.To.Unix())
		t := IncidentTelling{Reference: incident.Reference, Title: incident.Title}
		about[j] = map[int64]bool{}
		for i, outcome := range one.Outcomes {
			if outcome != score.Hit && outcome != score.Repeat {
				continue
			}
			t.Alerts++
			hit[i] = true
			if g := alerts[i].Group; g != 0 {
				about[j][g], told[g] = true, true
			}
		}
		if t.Groups = len(about[j]); t.Alerts > 0 {
			v.Incidents++
			v.Worst = append(v.Worst, t)
		}
	}
	wrong := map[int64]bool{}
	for i, a := range alerts {
		switch {
		case hit[i]:
			v.Alerts++
		case !a.Planned:
			v.FalseAlerts++
			if a.Group != 0 && !told[a.Group] {
				wrong[a.Group] = true
			}
		}
	}
	v.Groups, v.FalseGroups = len(told), len(wrong)
	slices.SortStableFunc(v.Worst, func(a, b IncidentTelling) int { return b.Alerts - a.Alerts })
	return v, nil
}
