// Package corpus judges anybody's labelled history: series with their samples,
// the incidents that are known of them and the events that were announced, in
// plain CSV files. It walks forward through the samples as the service would
// have, and counts what would have been told against what is known.
package corpus

import (
	"compress/gzip"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"math"
	"os"
	"path/filepath"
	"sort"
	"strconv"
	"strings"
	"time"

	"tinbell/core/timeline"
)

// Corpus is a folder's labelled history.
type Corpus struct {
	Name      string
	Series    []Series
	Incidents []Incident
	Events    []Event
	Impacts   []Impact
	Lineage   []Step
}

// Step says that one dataset is made from another, which shows in it so many
// seconds later; 0 where that is not known.
type Step struct {
	Upstream, Downstream string
	Lag                  int64
}

// Series is one series and its samples, dense from the first to the last.
type Series struct {
	ID, Dataset, Metric, Slice string
	Kind                       timeline.Kind
	Grid                       timeline.Grid
	First, Split, End          int64 // Unix seconds; judged from Split to End
	Labelled                   int64 // incidents that begin before are known as labels
	History                    []timeline.Sample
}

// Step is the length of a period in seconds.
func (s *Series) Step() int64 { return int64(s.Grid.Period.Seconds()) }

// Incident is a known fault [Start, End) of a series, or, where Series is empty,
// of a dataset or of one of its slices.
type Incident struct {
	ID, Series, Dataset, Slice string
	Start, End                 int64
	Kind                       string
	Neutral                    bool // a change that is no fault: neither true nor false
}

// covers tells whether an alert on the series may be about the incident.
func (i *Incident) covers(s *Series) bool {
	if i.Series != "" {
		return i.Series == s.ID
	}
	return i.Dataset == s.Dataset && (i.Slice == "" || s.Slice == "" || s.Slice == i.Slice)
}

// Event was known ahead and is no fault; empty fields stand for all.
type Event struct {
	Name, Dataset, Slice string
	Start, End           int64
}

func (e *Event) covers(s *Series) bool {
	return e.Dataset == "" || e.Dataset == s.Dataset && (e.Slice == "" || s.Slice == "" || s.Slice == e.Slice)
}

// Impact is where an incident shows downstream of its own dataset.
type Impact struct {
	Incident, Dataset, Slice string
	Start, End               int64
}

// Read reads series.csv, samples.csv or samples.csv.gz, incidents.csv and, where
// they are there, events.csv and impact.csv. Errors name file, line and column.
func Read(folder string) (*Corpus, error) {
	c := &Corpus{Name: filepath.Base(filepath.Clean(folder))}
	if err := c.readSeries(folder); err != nil {
		return nil, err
	}
	if err := c.readSamples(folder); err != nil {
		return nil, err
	}
	err := read(folder, "incidents.csv", []string{"incident_id", "series_id", "dataset", "slice", "start", "end", "fault_kind",
		"severity"}, func(r *row) error {
		i := Incident{ID: r.text("incident_id"), Series: r.text("series_id"), Dataset: r.text("dataset"), Slice: r.text("slice"),
			Start: r.time("start"), End: r.time("end"), Kind: r.text("fault_kind")}
		i.Neutral = i.Kind == "known_change" || r.text("severity") == "info"
		if r.err == nil && i.Series == "" && i.Dataset == "" {
			return errors.New("an incident names a series_id or a dataset")
		}
		c.Incidents = append(c.Incidents, i)
		return r.err
	})
	if err != nil {
		return nil, err
	}
	err = read(folder, "events.csv", []string{"name", "start", "end", "dataset", "slice"}, func(r *row) error {
		c.Events = append(c.Events, Event{r.text("name"), r.text("dataset"), r.text("slice"), r.time("start"), r.time("end")})
		return r.err
	})
	if err != nil && !errors.Is(err, os.ErrNotExist) {
		return nil, err
	}
	err = read(folder, "impact.csv", []string{"incident_id", "dataset", "slice", "start", "end"}, func(r *row) error {
		c.Impacts = append(c.Impacts, Impact{r.text("incident_id"), r.text("dataset"), r.text("slice"), r.time("start"), r.time("end")})
		return r.err
	})
	if err != nil && !errors.Is(err, os.ErrNotExist) {
		return nil, err
	}
	err = read(folder, "lineage.csv", []string{"upstream", "downstream", "lag_seconds"}, func(r *row) error {
		lag := int64(0)
		if text := r.text("lag_seconds"); text != "" {
			var err error
			if lag, err = strconv.ParseInt(text, 10, 64); err != nil || lag < 0 {
				return fmt.Errorf("lag_seconds %q is not a whole number from 0", text)
			}
		}
		c.Lineage = append(c.Lineage, Step{r.text("upstream"), r.text("downstream"), lag})
		return r.err
	})
	if err != nil && !errors.Is(err, os.ErrNotExist) {
		return nil, err
	}
	return c, nil
}

// Cause gives which incident an alert is about: the number of the one that its
// series lies in or, where none does, whose impact reaches it; -1 if none.
func (c *Corpus) Cause(r Rang) int {
	end := r.Alert.End
	if r.Alert.Closed == 0 {
		end = r.Series.End
	}
	slack := 3 * r.Series.Step()
	near := func(from, to int64) bool { return r.Alert.Since <= to+slack && max(end, r.Alert.Raised) >= from }
	best, apart := -1, int64(math.MaxInt64)
	take := func(k int, from int64) {
		if d := max(from-r.Alert.Since, r.Alert.Since-from); d < apart {
			best, apart = k, d
		}
	}
	for k := range c.Incidents {
		if i := &c.Incidents[k]; !i.Neutral && i.covers(r.Series) && near(i.Start, i.End) {
			take(k, i.Start)
		}
	}
	if best >= 0 {
		return best
	}
	for _, x := range c.Impacts {
		if x.Dataset != r.Series.Dataset || x.Slice != "" && r.Series.Slice != "" && x.Slice != r.Series.Slice || !near(x.Start, x.End) {
			continue
		}
		for k := range c.Incidents {
			if c.Incidents[k].ID == x.Incident {
				take(k, x.Start)
			}
		}
	}
	return best
}

var kinds = map[string]timeline.Kind{"count": timeline.Count, "ratio": timeline.Share, "value": timeline.Value,
	"lateness": timeline.Duration}

func (c *Corpus) readSeries(folder string) error {
	seen := map[string]bool{}
	err := read(folder, "series.csv", []string{"series_id", "dataset", "metric", "slice", "kind", "step_seconds", "time_zone",
		"first_at", "split_at", "last_at"}, func(r *row) error {
		s := Series{ID: r.text("series_id"), Dataset: r.text("dataset"), Metric: r.text("metric"), Slice: r.text("slice"),
			First: r.time("first_at"), Split: r.time("split_at"), End: r.time("last_at")}
		s.Labelled = s.Split
		if r.err != nil {
			return r.err
		}
		if s.ID == "" || seen[s.ID] {
			return fmt.Errorf("series_id %q: each series has one of its own", s.ID)
		}
		seen[s.ID] = true
		kind, known := kinds[r.text("kind")]
		if !known {
			return fmt.Errorf("kind %q: allowed are count, ratio, value and lateness", r.text("kind"))
		}
		zone, err := time.LoadLocation(r.text("time_zone"))
		if err != nil {
			return fmt.Errorf("time_zone %q is not in the time zone database", r.text("time_zone"))
		}
		seconds, err := strconv.Atoi(r.text("step_seconds"))
		if err != nil {
			return fmt.Errorf("step_seconds %q is not a whole number", r.text("step_seconds"))
		}
		if s.Grid, err = timeline.NewGrid(time.Duration(seconds)*time.Second, zone); err != nil {
			return err
		}
		s.Kind, s.End = kind, s.End+int64(seconds)
		if s.Grid.Long() {
			s.End = s.Grid.Next(time.Unix(s.End-int64(seconds), 0)).Unix()
		}
		c.Series = append(c.Series, s)
		return nil
	})
	if err == nil && len(c.Series) == 0 {
		return fmt.Errorf("%s has no series", filepath.Join(folder, "series.csv"))
	}
	return err
}

func (c *Corpus) readSamples(folder string) error {
	values := map[string][]timeline.Sample{}
	for _, s := range c.Series {
		values[s.ID] = nil
	}
	file := "samples.csv.gz"
	if _, err := os.Stat(filepath.Join(folder, file)); err != nil {
		file = "samples.csv"
	}
	err := read(folder, file, []string{"series_id", "at", "value"}, func(r *row) error {
		id := r.text("series_id")
		if _, known := values[id]; !known {
			return fmt.Errorf("series_id %q is not in series.csv", id)
		}
		value, err := strconv.ParseFloat(r.text("value"), 64)
		if err != nil || math.IsNaN(value) {
			return fmt.Errorf("value %q is not a number; a period that did not come has no line", r.text("value"))
		}
		values[id] = append(values[id], timeline.Sample{At: r.time("at"), Value: value})
		return r.err
	})
	if err != nil {
		return err
	}
	rows := map[[2]string]map[int64]float64{}
	for _, s := range c.Series {
		if s.Kind == timeline.Count && s.Metric == "row_count" {
			at := make(map[int64]float64, len(values[s.ID]))
			for _, x := range values[s.ID] {
				at[x.At] = x.Value
			}
			rows[[2]string{s.Dataset, s.Slice}] = at
		}
	}
	for i := range c.Series {
		s := &c.Series[i]
		own := values[s.ID]
		sort.Slice(own, func(a, b int) bool { return own[a].At < own[b].At })
		for k := 1; k < len(own); k++ {
			if own[k].At == own[k-1].At {
				return fmt.Errorf("%s: series %s has two samples at %s", file, s.ID, time.Unix(own[k].At, 0).UTC().Format(time.RFC3339))
			}
		}
		s.History = timeline.DenseFrom(s.Grid, s.Grid.Floor(time.Unix(s.First, 0)), own, time.Unix(s.End, 0))
		if of := rows[[2]string{s.Dataset, s.Slice}]; of != nil && s.Kind != timeline.Count {
			for k := range s.History {
				x := &s.History[k]
				if n, came := of[x.At]; came && n > 0 {
					x.Rows = n
				} else if came {
					x.Rows = timeline.NoRows
				}
			}
		}
	}
	return nil
}

// row is a line of a file by the names of its columns; the first thing that
// cannot be read is kept.
type row struct {
	at     map[string]int
	fields []string
	err    error
}

func (r *row) text(column string) string { return strings.TrimSpace(r.fields[r.at[column]]) }

func (r *row) time(column string) int64 {
	t, err := time.Parse(time.RFC3339, r.text(column))
	if err != nil && r.err == nil {
		r.err = fmt.Errorf("%s %q is not a time such as 2024-05-01T06:00:00Z", column, r.text(column))
	}
	return t.Unix()
}

// read calls take for each line of a file that has all the columns.
func read(folder, name string, columns []string, take func(*row) error) error {
	path := filepath.Join(folder, name)
	f, err := os.Open(path)
	if err != nil {
		return err
	}
	defer f.Close()
	var in io.Reader = f
	if strings.HasSuffix(name, ".gz") {
		if in, err = gzip.NewReader(f); err != nil {
			return fmt.Errorf("%s: %w", path, err)
		}
	}
	lines := csv.NewReader(in)
	lines.ReuseRecord = true
	head, err := lines.Read()
	if err != nil {
		return fmt.Errorf("%s: no head line: %w", path, err)
	}
	r := row{at: map[string]int{}}
	for i, column := range head {
		r.at[strings.TrimSpace(column)] = i
	}
	for _, column := range columns {
		if _, there := r.at[column]; !there {
			return fmt.Errorf("%s: column %s is missing; it needs %s", path, column, strings.Join(columns, ", "))
		}
	}
	for {
		r.fields, err = lines.Read()
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return fmt.Errorf("%s: %w", path, err)
		}
		r.err = nil
		if err := take(&r); err != nil {
			line, _ := lines.FieldPos(0)
			return fmt.Errorf("%s, line %d: %w", path, line, err)
		}
	}
}
