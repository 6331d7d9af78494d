package scorecard

import (
	"tinbell/core/score"
	"tinbell/internal/record"
	"tinbell/internal/wire"
)

// Figure is an estimate with its 95 % interval; null where nothing is known.
type Figure struct {
	Estimate *float64 `json:"estimate"`
	Low      *float64 `json:"low"`
	High     *float64 `json:"high"`
	K        int      `json:"k" doc:"counted"`
	N        int      `json:"n" doc:"out of"`
}

func figure(v score.Interval) Figure {
	return Figure{wire.Finite(v.Estimate), wire.Finite(v.Low), wire.Finite(v.High), v.K, v.N}
}

// Card is the score of one monitor, or of all together.
type Card struct {
	Name          string   `json:"name" doc:"of a group: the dataset, measure, segment, owner, tag, rule, channel or month"`
	Monitor       string   `json:"monitor" doc:"empty for all together"`
	Dataset       string   `json:"dataset"`
	Owner         string   `json:"owner"`
	Measure       string   `json:"measure"`
	Alerts        int      `json:"alerts"`
	Labelled      int      `json:"labelled"`
	Faults        int      `json:"faults"`
	Noise         int      `json:"noise"`
	Planned       int      `json:"planned"`
	Unlabelled    int      `json:"unlabelled"`
	Precision     Figure   `json:"precision" doc:"faults among alerts labelled fault or noise"`
	Lowest        *float64 `json:"precision_if_all_noise" doc:"if every unlabelled alert were noise"`
	Highest       *float64 `json:"precision_if_all_faults" doc:"if every unlabelled alert were a fault"`
	Catalogue     Figure   `json:"precision_catalogue" doc:"alerts that match an incident, labels set aside; repeats not counted"`
	Recall        Figure   `json:"recall" doc:"of known incidents"`
	F1            *float64 `json:"f1"`
	DelaySeconds  Figure   `json:"delay_seconds" doc:"median time to detect"`
	FalseWeekly   Figure   `json:"false_alarms_per_week" doc:"labelled noise; in a replay, alerts that match no incident"`
	FalseMost     *float64 `json:"false_alarms_per_week_if_all_noise" doc:"if every unlabelled alert that matches no incident were noise"`
	StatedSeconds int64    `json:"stated_seconds" doc:"return period the monitor is set to"`
	Achieved      Achieved `json:"achieved" doc:"how often it has cried wolf so far, to stand beside stated_seconds"`
}

// Achieved is the time between false alarms so far, one disturbance counted
// once, with its 95 % interval.
type Achieved struct {
	Groups     int      `json:"groups" doc:"false alarms, those of one disturbance counted once"`
	Seconds    *float64 `json:"seconds" doc:"time between them; null if there was none"`
	Shortest   *float64 `json:"shortest_seconds" doc:"95 % sure that it is not shorter"`
	Longest    *float64 `json:"longest_seconds" doc:"… not longer; null if there was none"`
	GroupsMost int      `json:"groups_if_all_noise" doc:"if every unlabelled alert that matches no incident were noise"`
	Least      *float64 `json:"seconds_if_all_noise" doc:"time between them then; null if there were none"`
}

// CardOf is the card of a monitor.
func CardOf(m record.Monitor, measure string, s score.Sums) Card {
	c := All(s)
	c.Monitor, c.Dataset, c.Owner, c.Measure, c.StatedSeconds = m.Name, m.Dataset, m.Owner, measure, m.Settings.WarnSeconds
	return c
}

// All is the card of several monitors together.
func All(s score.Sums) Card {
	return Card{Alerts: s.Alerts, Labelled: s.Faults + s.Noise + s.Planned, Faults: s.Faults, Noise: s.Noise, Planned: s.Planned,
		Unlabelled: s.Unlabelled, Precision: figure(s.Precision), Lowest: wire.Finite(s.Lowest), Highest: wire.Finite(s.Highest),
		Catalogue: figure(s.Catalogue), Recall: figure(s.Recall), F1: wire.Finite(s.F1), DelaySeconds: figure(s.Delay),
		FalseWeekly: figure(s.FalseWeekly), FalseMost: wire.Finite(s.FalseMost),
		Achieved: Achieved{Groups: s.Achieved.Groups, Seconds: wire.Finite(s.Achieved.Between), Shortest: wire.Finite(s.Achieved.Shortest),
			Longest: wire.Finite(s.Achieved.Longest), GroupsMost: s.AtWorst.Groups, Least: wire.Finite(s.AtWorst.Between)}}
}
