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
	about := make([]map[int64]bool, len(incidents)) // the groups that tell of each
	told := map[int64]bool{}
	hit, of := make([]bool, len(alerts)), make([]int, len(incidents))
	for i, j := range score.Pairs(all, cases, v.To.Unix()) {
		hit[i] = true
		of[j]++
		if g := alerts[i].Group; g != 0 {
			if about[j] == nil {
				about[j] = map[int64]bool{}
			}
			about[j][g], told[g] = true, true
		}
	}
	for j, incident := range incidents {
		if of[j] > 0 {
			v.Incidents++
			v.Worst = append(v.Worst, IncidentTelling{Reference: incident.Reference, Title: incident.Title, Alerts: of[j], Groups: len(about[j])})
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
