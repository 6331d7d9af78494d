package diagnose

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"tinbell/internal/lineage"
	"tinbell/internal/record"
	"tinbell/internal/store"
	"tinbell/internal/words"
)

// Stages is the lineage around an alert: what is made from what, what is broken
// where, and what the jobs in between did.
type Stages struct {
	Nodes []Stage        `json:"nodes" doc:"upstream first"`
	Links []lineage.Link `json:"links"`
	First string         `json:"first" doc:"the stage at which it broke first"`
	Runs  []RunNote      `json:"runs" doc:"of jobs upstream that did other than usual"`
	Shape []ShapeNote    `json:"columns" doc:"columns that changed upstream in the week before"`
	Hit   []Hit          `json:"hit" doc:"what is made from it"`
}

// Stage is a dataset of the drawing.
type Stage struct {
	lineage.Node
	Since *time.Time `json:"since" doc:"of the first of its open alerts, or of those of the same group"`
	Owner string     `json:"owner"`
	Told  string     `json:"told" doc:"what is wrong with it"`
}

// RunNote is a run that was other than its job's usually are.
type RunNote struct {
	Job     string     `json:"job"`
	Dataset string     `json:"dataset" doc:"that it writes"`
	At      *time.Time `json:"at"`
	Says    string     `json:"says"`
}

// ShapeNote is a table whose columns changed.
type ShapeNote struct {
	Dataset string    `json:"dataset"`
	At      time.Time `json:"at"`
	Says    string    `json:"says"`
}

// Hit is a dataset downstream.
type Hit struct {
	Dataset string `json:"dataset"`
	Owner   string `json:"owner"`
	Broken  bool   `json:"broken" doc:"it has an open alert already"`
}

// stages draws what is around the alert's dataset.
func (d *Diagnoser) stages(ctx context.Context, q asked) (*Stages, error) {
	if q.Dataset == "" {
		return nil, none("it is about no dataset")
	}
	l, err := d.lineage.Around(ctx, q.dataset)
	if err != nil {
		return nil, err
	}
	s := &Stages{Links: l.Links, Runs: []RunNote{}, Shape: []ShapeNote{}, Hit: []Hit{}, Nodes: []Stage{}}
	if len(l.Nodes) < 2 && len(l.Links) == 0 {
		return nil, none("no run has told what it is made from")
	}
	around, err := d.store.Alerts(ctx, store.AlertFilter{From: q.from.Add(-4 * 24 * time.Hour), To: d.now(), Held: "told"})
	if err != nil {
		return nil, err
	}
	for _, n := range l.Nodes {
		stage := Stage{Node: n}
		if known, err := d.store.Dataset(ctx, n.Name); err == nil {
			stage.Owner = known.Owner
			if n.Depth <= 0 && len(s.Shape) < 5 {
				s.shapes(ctx, d.store, known, q)
			}
		}
		for _, a := range around {
			counts := a.Dataset == n.Name && (a.ClosedAt == nil || a.GroupID != nil && q.GroupID != nil && *a.GroupID == *q.GroupID)
			if counts && (stage.Since == nil || a.Since.Before(*stage.Since)) {
				since := a.Since
				stage.Since, stage.Told = &since, a.Sentence
			}
		}
		s.Nodes = append(s.Nodes, stage)
		if n.Depth > 0 {
			s.Hit = append(s.Hit, Hit{n.Name, stage.Owner, stage.Since != nil})
		}
		if n.Depth <= 0 && len(s.Runs) < 8 {
			if err := s.runs(ctx, d.store, n.Name, q); err != nil {
				return nil, err
			}
		}
	}
	s.first(ctx, d.store, q)
	return s, nil
}

// first is the stage that the alert's group names, else the most upstream one that
// is broken.
func (s *Stages) first(ctx context.Context, st *store.Store, q asked) {
	if q.GroupID != nil {
		if g, err := st.Group(ctx, *q.GroupID); err == nil && g.OriginKind == record.OriginDataset {
			s.First = g.Origin
			return
		}
	}
	broken := slices.DeleteFunc(slices.Clone(s.Nodes), func(n Stage) bool { return n.Since == nil || n.Depth > 0 })
	slices.SortStableFunc(broken, func(a, b Stage) int { return cmp.Or(cmp.Compare(a.Depth, b.Depth), a.Since.Compare(*b.Since)) })
	if len(broken) > 0 {
		s.First = broken[0].Name
	}
}

// runs notes those that failed, took much longer or moved far fewer rows than usual,
// from a day before the alert began until it was raised.
func (s *Stages) runs(ctx context.Context, st *store.Store, dataset string, q asked) error {
	list, err := st.RunsAround(ctx, dataset, q.from.Add(-24*time.Hour), q.to.Add(2*time.Hour))
	if err != nil {
		return err
	}
	type kind struct{ job, says string }
	count := map[kind]int{}
	for _, r := range list {
		says := ""
		took := 0.0
		if r.StartedAt != nil && r.EndedAt != nil {
			took = r.EndedAt.Sub(*r.StartedAt).Seconds()
		}
		switch {
		case r.State == "failed" || r.State == "aborted":
			says = r.State
		case r.Known < 5:
		case r.Rows != nil && r.UsualRows > 20 && float64(*r.Rows) < 0.5*r.UsualRows:
			says = fmt.Sprintf("moved %s rows where %s are usual", words.Number(float64(*r.Rows)), words.Number(r.UsualRows))
		case took > 60 && took > 3*r.UsualSeconds:
			says = fmt.Sprintf("took %s where %s are usual", words.Seconds(took), words.Seconds(r.UsualSeconds))
		}
		if says == "" {
			continue
		}
		first, _, _ := strings.Cut(says, " ")
		if k := (kind{r.Job, first}); count[k] < 2 && len(s.Runs) < 8 {
			count[k]++
			s.Runs = append(s.Runs, RunNote{r.Job, dataset, r.EndedAt, says})
		}
	}
	return nil
}

// shapes notes columns that changed in the week before.
func (s *Stages) shapes(ctx context.Context, st *store.Store, known record.Dataset, q asked) {
	versions, err := st.Columns(ctx, known.ID, 3)
	if err != nil {
		return // the rest of the drawing stands without
	}
	for _, v := range versions {
		if len(v.Changes) == 0 || v.SeenAt.After(q.to) || v.SeenAt.Before(q.from.AddDate(0, 0, -7)) {
			continue
		}
		var said []string
		for _, c := range v.Changes {
			said = append(said, c.Column+" "+c.What)
		}
		s.Shape = append(s.Shape, ShapeNote{known.Name, v.SeenAt, words.List(said)})
	}
}
