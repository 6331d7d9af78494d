package record

import (
	"database/sql/driver"
	"encoding/json"
	"time"

	"tinbell/core/drift"
)

// Comparison is a drift comparison: what of a dataset is compared with which
// reference, period by period.
type Comparison struct {
	ID         int64              `db:"id" json:"id"`
	DatasetID  int64              `db:"dataset_id" json:"-"`
	Dataset    string             `db:"dataset" json:"dataset"`
	Zone       string             `db:"zone" json:"zone"`
	Name       string             `db:"name" json:"name"`
	Owner      string             `db:"owner" json:"owner"`
	Settings   ComparisonSettings `db:"settings" json:"settings"`
	Features   Features           `db:"features" json:"features" doc:"what is compared, as its columns were found"`
	Layouts    Layouts            `db:"layouts" json:"-"`
	Referred   Referred           `db:"referred" json:"referred"`
	Revision   int                `db:"revision" json:"-"`
	CountedTo  *time.Time         `db:"counted_to" json:"-"` // by a run under way, or cut off
	TaskID     int64              `db:"task_id" json:"task_id" doc:"that a run under way reports to; 0 if there is none"`
	State      string             `db:"state" json:"state" enum:"new,ready,failed"`
	Message    string             `db:"message" json:"message"`
	ComputedTo *time.Time         `db:"computed_to" json:"computed_to" doc:"end of the last period that was judged"`
	RunAt      *time.Time         `db:"run_at" json:"run_at"`
	NextAt     *time.Time         `db:"next_at" json:"next_at"`
	CreatedAt  time.Time          `db:"created_at" json:"created_at"`

	FailingSince *time.Time `db:"failing_since" json:"failing_since" doc:"since when it cannot be computed"`
}

// MeasureDrift is the figure of a comparison that is watched: how far a feature, or
// one of the others below, is on the way to its limit, 1 being the limit.
const (
	MeasureDrift  = "drift"
	DriftTogether = "(all features together)"
	DriftPair     = "(two features together)"
	DriftRanking  = "(ranking of what came true)"
)

// ComparisonSettings are what a person says of a comparison.
type ComparisonSettings struct {
	Query      string `json:"query,omitempty" doc:"SQL whose rows are compared instead of the dataset's own"`
	TimeColumn string `json:"time_column,omitempty" doc:"of each row; files without one are taken by when they landed"`
	Period     string `json:"period" enum:"day,week,month" default:"week"`

	ReferenceFrom    string `json:"reference_from,omitempty" format:"date" doc:"first day of the reference; with none given, the first 28 days with rows"`
	ReferenceTo      string `json:"reference_to,omitempty" format:"date" doc:"its last day"`
	ReferenceDays    int    `json:"reference_days,omitempty" minimum:"0" doc:"a moving reference instead: so many days before each period"`
	ReferenceDataset string `json:"reference_dataset,omitempty" doc:"the reference is of this table, of the same warehouse, or these files"`
	ReferenceQuery   string `json:"reference_query,omitempty" doc:"or of this SQL"`

	Features    Strings `json:"features,omitempty" doc:"columns that are compared; all that can be if left out"`
	LeaveOut    Strings `json:"leave_out,omitempty" doc:"columns that are not"`
	Independent bool    `json:"independent,omitempty" doc:"rows are independent of each other: limits follow from sampling alone, whatever days differ by"`
	Accept      float64 `json:"accept,omitempty" doc:"share of clean features and periods that may be flagged; 0.001 if left out"`
	SampleRows  int     `json:"sample_rows,omitempty" doc:"rows a side that the classifier is given; 3000 if left out"`
	Seed        uint64  `json:"seed,omitempty" doc:"of the sample and the classifier"`

	Score     string  `json:"score,omitempty" doc:"column with a model's score"`
	Version   string  `json:"version,omitempty" doc:"column with the model's version"`
	Outcome   string  `json:"outcome,omitempty" doc:"column that tells what came true: true or false, 1 or 0, null while unknown"`
	Key       string  `json:"key,omitempty" doc:"column that tells which rows of two versions are the same case"`
	Threshold float64 `json:"threshold,omitempty" doc:"score from which a row counts as positive; 0.5 if left out"`
}

// Elsewhere tells that the reference is of other rows than the periods.
func (s ComparisonSettings) Elsewhere() bool {
	return s.ReferenceDataset != "" || s.ReferenceQuery != ""
}

func (s ComparisonSettings) Value() (driver.Value, error) { return jsonValue(s) }
func (s *ComparisonSettings) Scan(v any) error            { return scanJSON(v, s) }

func jsonValue(v any) (driver.Value, error) {
	b, err := json.Marshal(v)
	return string(b), err
}

// Feature is a column that is compared.
type Feature struct {
	Name string     `json:"name"`
	Kind drift.Kind `json:"kind" enum:"number,category,boolean,time"`
	Role string     `json:"role,omitempty" enum:"score,," doc:"score: the model's answer, which the classifier does not see"`
	Why  string     `json:"why,omitempty" doc:"why it is not compared; empty if it is"`
}

// Features of a comparison.
type Features = List[Feature]

// Layouts of a comparison's features, in their order.
type Layouts = List[*drift.Layout]

// Referred is the stretch that a fixed reference turned out to be, and the
// separability that clean periods stay under, by their sampled rows, as it was
// measured on it.
type Referred struct {
	From   time.Time       `json:"from"`
	To     time.Time       `json:"to"`
	Limits map[int]float64 `json:"limits,omitempty"`
	Pairs  []float64       `json:"pairs,omitempty"` // how much each pair of features wobbles
}

func (n Referred) Value() (driver.Value, error) { return jsonValue(n) }
func (n *Referred) Scan(v any) error            { return scanJSON(v, n) }

// DriftPeriod is what was found in one period of a comparison.
type DriftPeriod struct {
	Name         string      `db:"-" json:"name,omitempty" doc:"file, where each is a period"`
	ComparisonID int64       `db:"comparison_id" json:"-"`
	From         time.Time   `db:"from_at" json:"from"`
	To           time.Time   `db:"to_at" json:"to"`
	Found        DriftResult `db:"found" json:"found"`
	ComputedAt   time.Time   `db:"computed_at" json:"computed_at"`
}

// DriftResult is a period's figures.
type DriftResult struct {
	Rows         int64               `json:"rows"`
	Reference    DriftReference      `json:"reference" doc:"what it was compared with"`
	Features     []FeatureResult     `json:"features"`
	Over         int                 `json:"over" doc:"features over their limits"`
	Whole        WholeVerdict        `json:"whole" doc:"of all features, separability and pairs together"`
	Separability *drift.Separability `json:"separability,omitempty" doc:"importance is by classified"`
	Classified   []string            `json:"classified,omitempty" doc:"the features that the classifier saw"`
	Message      string              `json:"message,omitempty" doc:"why something was not judged"`
	Pairs        []PairResult        `json:"pairs,omitempty"`
	Models       []ModelResult       `json:"models,omitempty"`
	Versions     []VersionResult     `json:"versions,omitempty" doc:"each version against the one before"`
	Sample       SampleResult        `json:"sample"`
}

// WholeVerdict is one verdict for a period's rows: over if any feature, separability or
// a pair is beyond its limit.
type WholeVerdict struct {
	State   string  `json:"state" enum:"over,as expected,not judged"`
	Stated  float64 `json:"stated" doc:"share of clean periods that are over in any way, at most"`
	Assured bool    `json:"assured" doc:"that share is kept: enough blocks tell how the reference wobbles, or rows are said to be independent. Else it is kept only if they are"`
	Gone    Strings `json:"gone" doc:"columns of the reference that the period has not"`
}

// NotJudged is a whole of which nothing could be judged.
const NotJudged = "not judged"

// DriftReference is what a period was compared with.
type DriftReference struct {
	From   time.Time `json:"from"`
	To     time.Time `json:"to"`
	Rows   int64     `json:"rows"`
	Blocks int       `json:"blocks" doc:"days or spans that its wobble was learned from"`
}

// SampleResult says what the classifier saw; the rows themselves are not kept.
type SampleResult struct {
	Rows      int    `json:"rows"`
	Reference int    `json:"reference_rows"`
	Seed      uint64 `json:"seed"`
}

// FeatureResult is one feature in one period.
type FeatureResult struct {
	Feature string `json:"feature"`
	drift.Verdict
}

// PairResult is two features together in one period.
type PairResult struct {
	First      string   `json:"first"`
	Second     string   `json:"second"`
	FirstBins  []string `json:"first_bins"`
	SecondBins []string `json:"second_bins"`
	drift.Pair
}

// ModelResult is one version of a model in one period.
type ModelResult struct {
	Version      string             `json:"version"`
	Rows         int64              `json:"rows"`
	MissingInput float64            `json:"missing_input" doc:"share of rows that lack an input"`
	Above        float64            `json:"above" doc:"share of rows scored at or above the threshold"`
	Classes      map[string]float64 `json:"classes,omitempty" doc:"of answers that are categories: the share of each"`
	Scores       *drift.Verdict     `json:"scores,omitempty" doc:"against the reference's scores of the same version, or of all where it is new"`
	Same         bool               `json:"same" doc:"the reference holds this version"`
	Quality      *drift.Quality     `json:"quality,omitempty" doc:"where outcomes are known"`
	Concept      *drift.Difference  `json:"concept,omitempty" doc:"ranking quality less the reference's"`
}

// VersionResult is one version of a model against another.
type VersionResult struct {
	A string `json:"a"`
	B string `json:"b"`
	drift.Compared
}

func (r DriftResult) Value() (driver.Value, error) { return jsonValue(r) }
func (r *DriftResult) Scan(v any) error            { return scanJSON(v, r) }
