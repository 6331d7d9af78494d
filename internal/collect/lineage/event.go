// Package lineage reads OpenLineage events: runs of jobs, what they read and
// wrote, and the columns of it. It knows nothing of storage.
package lineage

import (
	"encoding/json"
	"strings"
	"time"

	"tinbell/internal/record"
)

// wire is the part of the specification's JSON that is read; everything else is
// passed over.
type wire struct {
	EventType string    `json:"eventType"`
	EventTime time.Time `json:"eventTime"`
	Run       *struct {
		RunID  string `json:"runId"`
		Facets struct {
			Parent struct {
				Run struct {
					RunID string `json:"runId"`
				} `json:"run"`
			} `json:"parent"`
			Error struct {
				Message string `json:"message"`
			} `json:"errorMessage"`
		} `json:"facets"`
	} `json:"run"`
	Job *struct {
		Namespace string `json:"namespace"`
		Name      string `json:"name"`
	} `json:"job"`
	Inputs  []wireDataset `json:"inputs"`
	Outputs []wireDataset `json:"outputs"`
	Dataset *wireDataset  `json:"dataset"`
}

type wireDataset struct {
	Namespace string `json:"namespace"`
	Name      string `json:"name"`
	Facets    struct {
		Schema struct {
			Fields []struct {
				Name string `json:"name"`
				Type string `json:"type"`
			} `json:"fields"`
		} `json:"schema"`
	} `json:"facets"`
	InputFacets struct {
		Statistics counts `json:"inputStatistics"`
		Quality    struct {
			Rows  *int64 `json:"rowCount"`
			Bytes *int64 `json:"bytes"`
		} `json:"dataQualityMetrics"`
	} `json:"inputFacets"`
	OutputFacets struct {
		Statistics counts `json:"outputStatistics"`
	} `json:"outputFacets"`
}

type counts struct {
	Rows  *int64 `json:"rowCount"`
	Bytes *int64 `json:"size"`
}

var states = map[string]string{"START": "running", "RUNNING": "running", "OTHER": "running", "": "running",
	"COMPLETE": "complete", "FAIL": "failed", "ABORT": "aborted"}

// Parse reads one event.
func Parse(body []byte) (record.RunEvent, error) {
	var w wire
	if err := json.Unmarshal(body, &w); err != nil {
		return record.RunEvent{}, record.Invalid{Field: "event", Given: "", Allowed: "an OpenLineage event as JSON: " +
			strings.TrimPrefix(err.Error(), "json: ")}
	}
	state, known := states[strings.ToUpper(w.EventType)]
	switch {
	case w.EventTime.IsZero():
		return record.RunEvent{}, record.Invalid{Field: "eventTime", Given: "", Allowed: "RFC 3339, for example 2026-06-18T09:00:00Z"}
	case !known:
		return record.RunEvent{}, record.Invalid{Field: "eventType", Given: w.EventType,
			Allowed: "START, RUNNING, COMPLETE, FAIL, ABORT or OTHER"}
	case w.Dataset == nil && (w.Job == nil || w.Job.Name == "" || w.Job.Namespace == ""):
		return record.RunEvent{}, record.Invalid{Field: "job", Given: "", Allowed: "a job with namespace and name"}
	case w.Run != nil && !uuid(w.Run.RunID):
		return record.RunEvent{}, record.Invalid{Field: "run.runId", Given: w.Run.RunID, Allowed: "a UUID, as the specification says"}
	}
	e := record.RunEvent{Time: w.EventTime.UTC(), State: state, Begins: strings.EqualFold(w.EventType, "START")}
	if w.Job != nil {
		e.Job = record.Place{Namespace: w.Job.Namespace, Name: w.Job.Name}
	}
	if w.Run != nil {
		e.Run, e.Message = w.Run.RunID, w.Run.Facets.Error.Message
		if parent := w.Run.Facets.Parent.Run.RunID; uuid(parent) {
			e.Parent = parent
		}
	}
	for i, list := range [][]wireDataset{w.Inputs, w.Outputs} {
		for _, d := range list {
			one, err := dataset(d, i == 1)
			if err != nil {
				return e, err
			}
			e.Datasets = append(e.Datasets, one)
		}
	}
	if w.Dataset != nil {
		one, err := dataset(*w.Dataset, false)
		if err != nil {
			return e, err
		}
		e.Datasets = append(e.Datasets, one)
	}
	return e, nil
}

func dataset(w wireDataset, output bool) (record.RunDataset, error) {
	if w.Namespace == "" || w.Name == "" {
		return record.RunDataset{}, record.Invalid{Field: "dataset", Given: w.Namespace + " " + w.Name, Allowed: "a namespace and a name"}
	}
	d := record.RunDataset{Place: record.Place{Namespace: w.Namespace, Name: w.Name}, Output: output}
	for _, c := range []counts{w.OutputFacets.Statistics, w.InputFacets.Statistics, counts(w.InputFacets.Quality)} {
		if d.Rows == nil {
			d.Rows = natural(c.Rows)
		}
		if d.Bytes == nil {
			d.Bytes = natural(c.Bytes)
		}
	}
	for _, f := range w.Facets.Schema.Fields {
		d.Columns = append(d.Columns, record.Column{Name: f.Name, Type: f.Type, Nullable: true})
	}
	return d, nil
}

// natural passes over counts that cannot be.
func natural(n *int64) *int64 {
	if n == nil || *n < 0 {
		return nil
	}
	return n
}

func uuid(text string) bool {
	if len(text) != 36 {
		return false
	}
	for i, c := range text {
		if dash := i == 8 || i == 13 || i == 18 || i == 23; dash != (c == '-') ||
			!dash && !strings.ContainsRune("0123456789abcdefABCDEF", c) {
			return false
		}
	}
	return true
}
