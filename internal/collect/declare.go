package collect

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"tinbell/core/timeline"
	"tinbell/internal/collect/warehouse"
	"tinbell/internal/record"
	"tinbell/internal/store"
)

// ParsePeriod reads durations as people write them: 90s, 15m, 1h, 30d, 8w, 1mo, 1y. A
// month counts as 30 days and a year as 365; as the period of a metric they, and a week,
// are those of the calendar.
func ParsePeriod(text string) (time.Duration, error) {
	units := map[string]time.Duration{"s": time.Second, "m": time.Minute, "h": time.Hour, "d": 24 * time.Hour,
		"w": timeline.Week, "mo": timeline.Month, "y": timeline.Year}
	number := strings.TrimRight(text, "smhdwoy")
	if unit, known := units[text[len(number):]]; known {
		if v, err := strconv.ParseFloat(number, 64); err == nil && v >= 0 && v*float64(unit) < 9e18 {
			return time.Duration(v * float64(unit)), nil
		}
	}
	return 0, record.Invalid{Field: "duration", Given: text, Allowed: "a number and a unit: 90s, 15m, 1h, 30d, 8w, 1mo, 1y"}
}

// Declare makes a pushed metric, and its dataset if that is new.
func (c *Collector) Declare(ctx context.Context, d Declaration) (record.Metric, error) {
	return c.declareIn(ctx, c.store, d)
}

// declareIn is Declare in a store that may be a transaction's. Metric and dataset
// are made in one; two who declare the same dataset at once get the same.
func (c *Collector) declareIn(ctx context.Context, s *store.Store, d Declaration) (m record.Metric, err error) {
	period, err := ParsePeriod(d.Period)
	if err != nil {
		return m, err
	}
	if d.Zone == "" {
		d.Zone = "UTC"
	}
	if d.StartsAt != nil && d.StartsAt.Before(record.Furthest(c.now())) {
		return m, record.Invalid{Field: "starts_at", Given: d.StartsAt.Format(time.RFC3339), Allowed: "a time of the last 25 years"}
	}
	err = s.InTx(ctx, func(tx pgx.Tx) error {
		in := s.In(tx)
		dataset, err := datasetFor(ctx, tx, in, d)
		if err != nil {
			return err
		}
		m, _, err = c.TryOn(ctx, record.Metric{
			DatasetID: dataset.ID, Dataset: dataset.Name, Name: d.Metric, Measure: d.Measure, Kind: d.Kind, StartsAt: d.StartsAt,
			Unit: d.Unit, PeriodSeconds: int64(period.Seconds()), Zone: d.Zone, OTLPName: d.OTLP, SegmentBy: d.SegmentBy,
			MaxSegments: d.MaxSegments,
		}, record.Source{}, dataset)
		if err != nil {
			return err
		}
		if m.ID, err = in.AddMetric(ctx, m); err != nil {
			return err
		}
		m, err = in.Metric(ctx, m.Name)
		return err
	})
	return m, err
}

// PushedSource is the source of what is pushed.
const PushedSource = "pushed"

// datasetFor gives the dataset that a declaration names, making it if it is new.
func datasetFor(ctx context.Context, tx pgx.Tx, in *store.Store, d Declaration) (record.Dataset, error) {
	if err := store.LockName(ctx, tx, "dataset", d.Dataset); err != nil {
		return record.Dataset{}, err
	}
	v, err := in.Dataset(ctx, d.Dataset)
	if missing := (record.NotFound{}); !errors.As(err, &missing) {
		return v, err
	}
	source, err := store.EnsureSource(ctx, tx, record.Source{Name: PushedSource, Kind: "push", Login: []byte{}})
	if err != nil {
		return v, err
	}
	v = record.Dataset{SourceID: source, Namespace: d.Namespace, Name: d.Dataset, Owner: d.Owner, Zone: d.Zone}
	if v.Namespace == "" {
		v.Namespace = PushedSource
	}
	v.ID, err = in.AddDataset(ctx, v)
	return v, err
}

// AddMetric checks a metric and stores it. A collected one is tried first, so
// that a wrong column or table is told before anything is kept.
func (c *Collector) AddMetric(ctx context.Context, m record.Metric) (record.Metric, error) {
	m, _, err := c.Try(ctx, m)
	if err != nil {
		return m, err
	}
	if !m.Pushed() {
		now := c.now()
		m.NextAt = &now
	}
	if m.ID, err = c.store.AddMetric(ctx, m); err != nil {
		return m, err
	}
	return c.store.Metric(ctx, m.Name)
}

// ChangeMetric puts a metric's new settings in force, after trying them; what it
// measures stays.
func (c *Collector) ChangeMetric(ctx context.Context, m record.Metric) (record.Metric, error) {
	m, _, err := c.Try(ctx, m)
	if err != nil {
		return m, err
	}
	if !m.Pushed() {
		now := c.now()
		m.NextAt = &now
	}
	if err := c.store.InTx(ctx, func(tx pgx.Tx) error { return store.SetMetric(ctx, tx, m) }); err != nil {
		return m, err
	}
	return c.store.Metric(ctx, m.Name)
}

// RenameMetric changes what a metric is called; its samples and monitors stay with it. One
// that is pushed goes on taking the OTLP metric of its old name.
func (c *Collector) RenameMetric(ctx context.Context, m record.Metric, name string) (record.Metric, error) {
	if err := record.CheckName("name", name); err != nil {
		return m, err
	}
	switch {
	case strings.TrimSpace(name) == "":
		return m, record.Invalid{Field: "name", Given: name, Allowed: "a name of its own, for example boarding-rows"}
	case m.Comparison != "":
		return m, record.Invalid{Field: "name", Given: name, Allowed: m.Name + ": it is written by the comparison " + m.Comparison}
	case m.Measure == record.MeasureApart:
		return m, record.Invalid{Field: "name", Given: name, Allowed: m.Name + ": it is written by the reconciliation of that name"}
	}
	if err := c.store.RenameMetric(ctx, m.ID, name); err != nil {
		return m, err
	}
	return c.store.Metric(ctx, name)
}

// CheckTable refuses a dataset whose table or load column a warehouse does not have, and
// keeps how that column holds time.
func (c *Collector) CheckTable(ctx context.Context, v *record.Dataset, source record.Source) error {
	if v.LoadedType = ""; source.Kind != record.SourcePostgreSQL {
		return nil
	}
	look, err := c.warehouses.Look(ctx, source, v.Name)
	if err != nil {
		offered, failed := c.warehouses.Offer(ctx, source)
		if failed != nil {
			return record.Invalid{Field: "source", Given: source.Name, Allowed: "a warehouse that answers; it said: " +
				warehouse.Words(err)}
		}
		if slices.ContainsFunc(offered, func(o warehouse.Offered) bool { return o.Name == v.Name }) {
			return record.Invalid{Field: "name", Given: v.Name, Allowed: "a table that can be read; the warehouse said: " +
				warehouse.Words(err)}
		}
		return record.Invalid{Field: "name", Given: v.Name, Allowed: "a table that the login of " + source.Name + " may read: " +
			nearest(v.Name, offered)}
	}
	if v.LoadedBy == "" {
		return nil
	}
	var times []string
	for _, column := range look.Columns {
		kind, ok := warehouse.TimeType(column.Type)
		if ok {
			times = append(times, column.Name)
		}
		if column.Name == v.LoadedBy {
			v.LoadedType = kind
		}
	}
	if v.LoadedType == "" {
		return record.Invalid{Field: "loaded_by", Given: v.LoadedBy, Allowed: "a column of " + v.Name + " that holds a time: " +
			cmp.Or(strings.Join(times, ", "), "it has none")}
	}
	return nil
}

// nearest names up to eight tables, those that share most with a name first.
func nearest(name string, offered []warehouse.Offered) string {
	if len(offered) == 0 {
		return "none at all; grant it select"
	}
	shared := func(other string) int {
		n := 0
		for _, part := range strings.FieldsFunc(strings.ToLower(name), func(r rune) bool { return r == '.' || r == '_' }) {
			if strings.Contains(strings.ToLower(other), part) {
				n += len(part)
			}
		}
		return n
	}
	slices.SortStableFunc(offered, func(a, b warehouse.Offered) int { return shared(b.Name) - shared(a.Name) })
	var names []string
	for _, o := range offered[:min(len(offered), 8)] {
		names = append(names, o.Name)
	}
	if more := len(offered) - len(names); more > 0 {
		return strings.Join(names, ", ") + fmt.Sprintf(" and %d more", more)
	}
	return strings.Join(names, ", ")
}

// Tried is what a metric would be, found out without keeping anything.
type Tried struct {
	SQL      string `json:"sql"`
	Segments int    `json:"segments" doc:"how many there are, of the last 28 days"`
	Message  string `json:"message" doc:"what to know before it is kept"`
}

// Try completes a metric and checks it, a collected one against its table, and
// keeps nothing.
func (c *Collector) Try(ctx context.Context, m record.Metric) (record.Metric, Tried, error) {
	p := probe{}
	if !m.Pushed() {
		var err error
		if p, err = c.probeOf(ctx, m); err != nil {
			return m, Tried{}, err
		}
	}
	return c.TryOn(ctx, m, p.source, p.dataset)
}

// TryOn is Try on a dataset that need not be kept yet.
func (c *Collector) TryOn(ctx context.Context, m record.Metric, source record.Source, dataset record.Dataset) (record.Metric,
	Tried, error) {
	if err := record.CheckName("name", m.Name); err != nil {
		return m, Tried{}, err
	}
	if err := record.CheckName("dataset", m.Dataset); err != nil {
		return m, Tried{}, err
	}
	if strings.TrimSpace(m.Name) == "" {
		return m, Tried{}, record.Invalid{Field: "name", Given: m.Name, Allowed: "a name of its own, for example boarding-rows"}
	}
	var err error
	if m.Tags, err = record.CheckTags(m.Tags); err != nil {
		return m, Tried{}, err
	}
	if !m.Kind.Valid() {
		return m, Tried{}, record.Invalid{Field: "kind", Given: string(m.Kind), Allowed: "count, share, value or duration"}
	}
	if m.MaxSegments == 0 {
		m.MaxSegments = 500
	}
	if m.TimeType == "" {
		m.TimeType = "timestamptz"
	}
	grid, err := m.Grid()
	if err != nil {
		return m, Tried{}, record.Invalid{Field: "period or zone", Given: fmt.Sprintf("%d s, %s", m.PeriodSeconds, m.Zone),
			Allowed: err.Error()}
	}
	if m.Pushed() {
		return m, Tried{}, nil
	}
	if m.Cron != "" {
		if _, err := ParseCron(m.Cron); err != nil {
			return m, Tried{}, err
		}
	}
	if err := checkMeasure(m); err != nil {
		return m, Tried{}, err
	}
	return c.tryTable(ctx, m, grid, probe{source, dataset})
}

// checkMeasure checks that a measure has what it needs.
func checkMeasure(m record.Metric) error {
	measure, known := record.MeasureNamed(m.Measure)
	switch {
	case !known:
		_, err := warehouse.Build([]record.Metric{m}, warehouse.LoadColumn{})
		return err
	case measure.Column && m.Column == "":
		return record.Invalid{Field: "column", Given: "", Allowed: m.Measure + " needs the column that it is taken of"}
	case m.Measure == record.MeasureQuantile && (m.Quantile < 0 || m.Quantile > 1):
		return record.Invalid{Field: "quantile", Given: fmt.Sprint(m.Quantile), Allowed: "0 to 1; 0.5 is the median"}
	case m.Measure == record.MeasureValueShare && m.Matches == "":
		return record.Invalid{Field: "matches", Given: "", Allowed: "value_share needs the value whose share is taken"}
	case m.Measure == record.MeasureExpression && strings.TrimSpace(m.Expression) == "":
		return record.Invalid{Field: "expression", Given: "", Allowed: "an SQL aggregate, for example sum(fare_minor) / 100.0"}
	case m.Measure == record.MeasureTableBytes && len(m.SegmentBy) > 0:
		return record.Invalid{Field: "segment_by", Given: strings.Join(m.SegmentBy, ", "),
			Allowed: "nothing: the size of a table is one figure"}
	}
	return nil
}

// tryTable looks at a metric's table, finds out how its time column holds time,
// counts its segments and runs the probe on one period.
func (c *Collector) tryTable(ctx context.Context, m record.Metric, grid timeline.Grid, p probe) (record.Metric, Tried, error) {
	if measure, _ := record.MeasureNamed(m.Measure); p.source.Kind == "folder" {
		if m.TimeColumn == "" {
			m.TimeColumn = record.LandedAt
		}
		if measure.Of == record.OfTable || m.TimeColumn != record.LandedAt || m.RowFilter != "" {
			return m, Tried{}, record.Invalid{Field: "measure", Given: m.Measure,
				Allowed: "of files: rows, freshness, deliveries, bytes or bytes_per_row, without time column or row filter"}
		}
		return m, Tried{}, TryFolder(p.source.Address)
	} else if measure.Of == record.OfFiles {
		return m, Tried{}, record.Invalid{Field: "measure", Given: m.Measure,
			Allowed: "a measure of tables: files are landed in a folder, and " + m.Dataset + " is in " + p.source.Name}
	}
	if p.source.Kind != "postgresql" {
		return m, Tried{}, record.Invalid{Field: "dataset", Given: m.Dataset, Allowed: "a table of a warehouse; this one is " +
			p.source.Kind + ", so its metrics are declared and pushed"}
	}
	answered := func(err error) error {
		if wrong := (record.Invalid{}); errors.As(err, &wrong) {
			return wrong
		}
		return record.Invalid{Field: "metric", Given: m.Name, Allowed: "the warehouse answered: " + warehouse.Words(err)}
	}
	look, err := c.warehouses.Look(ctx, p.source, p.dataset.Name)
	if err != nil {
		return m, Tried{}, answered(err)
	}
	types := map[string]string{}
	var times []string
	for _, column := range look.Columns {
		types[column.Name] = column.Type
		if _, ok := warehouse.TimeType(column.Type); ok {
			times = append(times, column.Name)
		}
	}
	if kind, there := types[m.TimeColumn]; there && !m.Snapshot() {
		var ok bool
		if m.TimeType, ok = warehouse.TimeType(kind); !ok {
			return m, Tried{}, record.Invalid{Field: "time_column", Given: m.TimeColumn + ", which is " + kind,
				Allowed: "a column of type timestamp with time zone, timestamp or date (" + orNone(times) +
					"); text can be cast in a view and the view measured"}
		}
		if m.TimeType == "date" && m.PeriodSeconds < 86400 {
			return m, Tried{}, record.Invalid{Field: "period", Given: fmt.Sprintf("%d s", m.PeriodSeconds),
				Allowed: "24h: " + m.TimeColumn + " is a date"}
		}
	}
	if m.Measure == record.MeasureFreshness && m.TimeColumn == "" {
		return m, Tried{}, record.Invalid{Field: "time_column", Given: "",
			Allowed: "freshness needs the column that holds each row's event time"}
	}
	end := c.settledEnd(m, grid)
	var tried Tried
	if len(m.SegmentBy) > 0 {
		largest, n, err := c.warehouses.Segments(ctx, p.source, m, lately(grid, end), end, m.MaxSegments)
		if err != nil {
			return m, tried, answered(err)
		}
		if tried.Segments = n; n > m.MaxSegments {
			m.KeptSegments = largest
			tried.Message = fmt.Sprintf("%d segments: the %d largest are measured one by one, the others together as %s; segment by a column with fewer values, or raise max_segments", n, m.MaxSegments, record.OtherSegment)
			m.Message = tried.Message
		}
	}
	q, err := warehouse.Build([]record.Metric{m}, warehouse.LoadColumnOf(p.dataset))
	if err != nil {
		return m, tried, err
	}
	tried.SQL = q.SQL
	if _, err := c.warehouses.Ask(ctx, p.source, q, grid.Add(end, -1), end); err != nil {
		return m, tried, answered(err)
	}
	return m, tried, nil
}

// lately is from when on segments are counted by their size: four weeks, or a period.
func lately(g timeline.Grid, end time.Time) time.Time {
	return timeline.Earlier(end.AddDate(0, 0, -28), g.Add(end, -1))
}

func orNone(list []string) string {
	if len(list) == 0 {
		return "this table has none; without a time column it is measured as it stands"
	}
	return "here: " + strings.Join(list, ", ")
}

// KindOf is the kind of value a warehouse measure gives.
func KindOf(measure string) timeline.Kind {
	if m, known := record.MeasureNamed(measure); known {
		return m.Kind
	}
	return timeline.Value
}

// SQL is what a collected metric asks the warehouse.
func (c *Collector) SQL(ctx context.Context, name string) (string, error) {
	m, err := c.store.Metric(ctx, name)
	if err != nil {
		return "", err
	}
	if m.Pushed() {
		return "", record.Invalid{Field: "metric", Given: name, Allowed: "a metric collected from a warehouse; this one is pushed"}
	}
	p, err := c.probeOf(ctx, m)
	if err != nil {
		return "", err
	}
	q, err := warehouse.Build([]record.Metric{m}, warehouse.LoadColumnOf(p.dataset))
	return q.SQL, err
}
