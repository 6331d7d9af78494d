package record

import (
	"database/sql/driver"
	"encoding/json"
	"slices"
	"time"

	"tinbell/core/detect"
	"tinbell/core/replay"
)

// Budget is how a monitor keeps its budget: on the last third of its past, judged
// with limits from what lay before, and in what it has told since.
type Budget struct {
	At     time.Time      `json:"at"`
	From   time.Time      `json:"from" doc:"of the part of the past"`
	To     time.Time      `json:"to"`
	Series int            `json:"series" doc:"how many were tried"`
	Rules  []BudgetRule   `json:"rules"`
	Kin    detect.Kinship `json:"kin" doc:"what the series together say of each: limits of each follow from it and from its own past"`
}

// BudgetRule is what one rule did. Only what a rule rang or may spend is listed.
type BudgetRule struct {
	Rule     string  `json:"rule" enum:"deviation,silence,missing,stuck,step,overdue"`
	Stated   float64 `json:"stated" doc:"false alarms, on that part of the past"`
	Rung     int     `json:"rung" doc:"alarms there that no label calls a fault"`
	Since    float64 `json:"since" doc:"false alarms stated since it was learned"`
	Told     int     `json:"told" doc:"told since, without those that people call faults or planned"`
	Logs     float64 `json:"logs" doc:"sum of the logarithms of how far those of the past lay over the limit"`
	ToldLogs float64 `json:"told_logs" doc:"the same of those told since"`
	Factor   float64 `json:"factor" doc:"by how much the rule's limit is raised; 1: not at all"`
}

func (h Budget) Value() (driver.Value, error) {
	b, err := json.Marshal(h)
	return string(b), err
}

func (h *Budget) Scan(v any) error { return scanJSON(v, h) }

// Keep gives a rule with limits that keep the budget.
func (h *Budget) Keep(rule detect.Rule) detect.Rule {
	if h != nil {
		rule.Caution, rule.Kin = h.Caution(), h.Kin
	}
	return rule
}

// Caution is by how much the limits of each rule are raised.
func (h *Budget) Caution() (c detect.Caution) {
	if h == nil {
		return c
	}
	for _, r := range h.Rules {
		c = c.With(detect.Cause(r.Rule), r.Factor)
	}
	return c
}

// Settle computes each rule's factor from what it rang and told.
func (h *Budget) Settle() {
	for i := range h.Rules {
		r := &h.Rules[i]
		past := replay.Held{Rung: r.Rung + r.Told, Stated: r.Stated + r.Since, Logs: r.Logs + r.ToldLogs}
		r.Factor = past.Caution()
	}
}

// Rule gives what a rule did, made where there is nothing yet.
func (h *Budget) Rule(cause string) *BudgetRule {
	i := slices.IndexFunc(h.Rules, func(r BudgetRule) bool { return r.Rule == cause })
	if i < 0 {
		h.Rules = append(h.Rules, BudgetRule{Rule: cause, Factor: 1})
		i = len(h.Rules) - 1
	}
	return &h.Rules[i]
}
