package record

import (
	"database/sql/driver"
	"encoding/json"
	"time"

	"tinbell/core/detect"
	"tinbell/core/filter"
	"tinbell/core/score"
	"tinbell/core/timeline"
)

// Looks are an alert's evidence at the ages at which it is looked at.
type Looks = List[detect.Evidence]

// FilterState is what the filter of false alarms does.
type FilterState string

const (
	FilterOff    FilterState = "off"
	FilterShadow FilterState = "shadow" // it says what it would hold back, and holds nothing
	FilterActive FilterState = "active"
)

// Held is what the filter did to an alert; empty: nothing.
type Held string

const (
	HeldShadow Held = "shadow" // it would have been held back
	HeldBack   Held = "held"
)

// Model is the filter as it was learned, with what people said of each series
// and monitor beside what was expected.
type Model struct {
	filter.Filter
	Series   map[int64]filter.Surprise `json:"series"`
	Monitors map[int64]filter.Surprise `json:"monitors"`
}

func (m Model) Value() (driver.Value, error) {
	b, err := json.Marshal(m)
	return string(b), err
}

func (m *Model) Scan(v any) error { return scanJSON(v, m) }

// Learning is how the service learns from labels.
type Learning struct {
	State     FilterState `db:"state" json:"state" enum:"off,shadow,active" doc:"of the filter of false alarms"`
	Limit     float64     `db:"limit_lost" json:"limit" doc:"share of faults that may be lost, by tuning and by the filter each"`
	Nightly   bool        `db:"nightly" json:"nightly" doc:"tuning runs by itself once a night"`
	TunedAt   *time.Time  `db:"tuned_at" json:"tuned_at"`
	Model     *Model      `db:"model" json:"-"`
	LearnedAt *time.Time  `db:"learned_at" json:"learned_at"`
	ChangedBy string      `db:"changed_by" json:"changed_by"`
	ChangedAt time.Time   `db:"changed_at" json:"changed_at"`
}

// Stretch is a verdict on a stretch of a series where no alert was.
type Stretch struct {
	ID       int64         `db:"id" json:"id"`
	SeriesID int64         `db:"series_id" json:"series_id"`
	From     time.Time     `db:"from_at" json:"from"`
	To       time.Time     `db:"to_at" json:"to"`
	Verdict  score.Verdict `db:"verdict" json:"verdict" enum:"fault,noise,planned"`
	Cause    string        `db:"cause" json:"cause"`
	Note     string        `db:"note" json:"note"`
	Author   string        `db:"author" json:"author"`
	At       time.Time     `db:"at" json:"at"`
	Incident string        `db:"incident" json:"incident" doc:"reference of the incident that a fault became"`
}

// MonitorVersion is what a monitor was set to from a time on.
type MonitorVersion struct {
	Version  int       `db:"version" json:"version"`
	Settings Settings  `db:"settings" json:"settings"`
	Paused   bool      `db:"paused" json:"paused"`
	Author   string    `db:"author" json:"author"`
	Reason   string    `db:"reason" json:"reason"`
	At       time.Time `db:"at" json:"at"`
}

// Gain is what a proposal is worth: as the search saw it, and measured on blocks
// of time that the search had not seen.
type Gain struct {
	From        time.Time `json:"from"`
	To          time.Time `json:"to"`
	Changes     []string  `json:"changes" doc:"in words"`
	Spared      float64   `json:"spared" doc:"false alarms fewer over the whole stretch, as expected"`
	Lost        float64   `json:"lost" doc:"faults fewer, as expected"`
	Before      int       `json:"alerts_before"`
	After       int       `json:"alerts_after"`
	Noise       int       `json:"noise" doc:"known false alarms in the blocks that were held out"`
	NoiseSpared int       `json:"noise_spared"`
	Faults      int       `json:"faults" doc:"known faults that today's settings told there"`
	FaultsLost  int       `json:"faults_lost"`
	SparedLow   float64   `json:"spared_low" doc:"share of known false alarms spared there, 95 % interval"`
	SparedHigh  float64   `json:"spared_high"`
	LostHigh    float64   `json:"lost_high" doc:"share of known faults lost there, upper 95 % bound"`
	Gained      []string  `json:"incidents_gained" doc:"references"`
}

func (g Gain) Value() (driver.Value, error) {
	b, err := json.Marshal(g)
	return string(b), err
}

func (g *Gain) Scan(v any) error { return scanJSON(v, g) }

// ProposalState is what became of a proposal.
type ProposalState string

const (
	ProposalOpen     ProposalState = "open"
	ProposalAccepted ProposalState = "accepted"
	ProposalRejected ProposalState = "rejected"
	ProposalOutdated ProposalState = "outdated" // newer ones came
)

// Proposal is a setting that tuning proposes for a monitor.
type Proposal struct {
	ID        int64         `db:"id" json:"id"`
	MonitorID int64         `db:"monitor_id" json:"-"`
	Monitor   string        `db:"monitor" json:"monitor"`
	Dataset   string        `db:"dataset" json:"dataset"`
	Version   int           `db:"version" json:"version" doc:"of the monitor that it would replace"`
	Settings  Settings      `db:"settings" json:"settings"`
	Gain      Gain          `db:"gain" json:"gain"`
	MadeAt    time.Time     `db:"made_at" json:"made_at"`
	State     ProposalState `db:"state" json:"state" enum:"open,accepted,rejected,outdated"`
	DecidedBy string        `db:"decided_by" json:"decided_by"`
	DecidedAt *time.Time    `db:"decided_at" json:"decided_at"`
	Note      string        `db:"note" json:"note"`
}

// Case is the alert as the filter sees it: kind is its metric's, series how many
// series its monitor has.
func (a Alert) Case(kind timeline.Kind, s Settings, series int) filter.Case {
	direction := map[string]detect.Direction{"low": detect.Low, "high": detect.High}[a.Direction]
	return filter.Case{
		Budget: detect.Budget(time.Duration(s.WarnSeconds)*time.Second, series), Kind: kind, Cause: detect.Cause(a.Cause),
		Direction: direction,
		Looks:     a.Looks, Recent: a.Recent, Company: a.Company,
	}
}

// Chance is what the model makes of a case of a series and monitor.
func (m *Model) Chance(c filter.Case, series, monitor int64) (chance float64, holds bool) {
	c.Series, c.Monitor = m.Series[series], m.Monitors[monitor]
	return m.Probability(&c), m.Holds(&c)
}
