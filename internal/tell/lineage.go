package tell

import (
	"context"
	"fmt"
	"strings"

	"tinbell/core/group"
	"tinbell/internal/store"
)

// Places of the graph that are no datasets.
func jobPlace(id int64) string    { return fmt.Sprintf("job:%d", id) }
func sourcePlace(id int64) string { return fmt.Sprintf("source:%d", id) }

// lineage gives the graph that alerts are grouped by: datasets made from others,
// from jobs, and held by sources.
func lineage(ctx context.Context, s *store.Store) (*group.Graph, error) {
	g := &group.Graph{}
	steps, err := s.Steps(ctx)
	if err != nil {
		return nil, err
	}
	for _, one := range steps {
		g.Step(one.From, one.To)
	}
	writes, err := s.Writes(ctx)
	if err != nil {
		return nil, err
	}
	for _, w := range writes {
		g.Hold(jobPlace(w.JobID), w.Dataset)
	}
	datasets, err := s.Datasets(ctx)
	if err != nil {
		return nil, err
	}
	for _, d := range datasets {
		g.Hold(sourcePlace(d.SourceID), d.Name)
	}
	return g, nil
}

// PlaceName says a place of the graph as people know it.
func (t *Teller) PlaceName(ctx context.Context, place string) string {
	kind, number, found := strings.Cut(place, ":")
	var id int64
	if _, err := fmt.Sscan(number, &id); !found || err != nil {
		return place
	}
	switch kind {
	case "job":
		if name, err := t.store.JobName(ctx, id); err == nil {
			return "the job " + name
		}
	case "source":
		if name, err := t.store.SourceName(ctx, id); err == nil {
			return "the source " + name
		}
	}
	return place
}
