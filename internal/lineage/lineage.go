// Package lineage shows what datasets are made from, by which jobs, and how these run.
package lineage

import (
	"context"
	"errors"
	"slices"
	"strings"
	"time"

	"tinbell/core/arrival"
	"tinbell/internal/record"
	"tinbell/internal/store"
	"tinbell/internal/watch"
)

// Reader walks the graph of datasets and jobs.
type Reader struct {
	store   *store.Store
	watcher *watch.Watcher
	now     func() time.Time
}

func New(s *store.Store, w *watch.Watcher, now func() time.Time) *Reader {
	return &Reader{store: s, watcher: w, now: now}
}

// Lineage is the part of the graph that a dataset hangs in.
type Lineage struct {
	Nodes []Node `json:"nodes" doc:"upstream first"`
	Links []Link `json:"links"`
}

// Node is a dataset of the graph. Its depth is counted from the dataset asked
// for: negative upstream, positive downstream.
type Node struct {
	Namespace string `json:"namespace"`
	Name      string `json:"name"`
	Depth     int    `json:"depth"`
	Watched   bool   `json:"watched" doc:"it is measured here"`
	Worst     string `json:"worst" enum:"critical,warning,overdue," doc:"of its open alerts"`
}

// Link says that a job makes one dataset from another. From is empty if the job
// reads nothing that is known.
type Link struct {
	From string `json:"from"`
	To   string `json:"to"`
	Job  string `json:"job"`
}

// graphNodes is how many datasets are drawn at most, and lineageMemory how long
// ago an edge may have been heard of.
const (
	graphNodes    = 60
	lineageMemory = 90 * 24 * time.Hour
)

type place struct{ namespace, name string }

// Around walks up and down from a dataset.
func (r *Reader) Around(ctx context.Context, d record.Dataset) (Lineage, error) {
	edges, err := r.store.Edges(ctx, r.now().Add(-lineageMemory))
	if err != nil {
		return Lineage{}, err
	}
	made, used := map[place][]record.Edge{}, map[place][]record.Edge{}    // by dataset: jobs that write, that read it
	reads, writes := map[int64][]record.Edge{}, map[int64][]record.Edge{} // by job
	for _, e := range edges {
		at := place{e.Namespace, e.Name}
		if e.Direction == "output" {
			made[at], writes[e.JobID] = append(made[at], e), append(writes[e.JobID], e)
		} else {
			used[at], reads[e.JobID] = append(used[at], e), append(reads[e.JobID], e)
		}
	}
	g := graph{depth: map[place]int{{d.Namespace, d.Name}: 0}, links: map[Link]bool{}}
	g.walk(place{d.Namespace, d.Name}, -1, made, reads)
	g.walk(place{d.Namespace, d.Name}, +1, used, writes)
	return r.drawn(ctx, g)
}

type graph struct {
	depth map[place]int
	links map[Link]bool
}

// walk goes from a dataset over the jobs beside it to the datasets beyond them,
// breadth first.
func (g *graph) walk(from place, step int, beside map[place][]record.Edge, beyond map[int64][]record.Edge) {
	queue := []place{from}
	for len(queue) > 0 && len(g.depth) < graphNodes {
		at := queue[0]
		queue = queue[1:]
		for _, e := range beside[at] {
			others := beyond[e.JobID]
			if step < 0 && len(others) == 0 {
				g.links[Link{"", at.name, e.Job}] = true
			}
			for _, o := range others {
				to := place{o.Namespace, o.Name}
				link := Link{at.name, to.name, e.Job}
				if step < 0 {
					link = Link{to.name, at.name, e.Job}
				}
				g.links[link] = true
				if _, seen := g.depth[to]; !seen {
					g.depth[to] = g.depth[at] + step
					queue = append(queue, to)
				}
			}
		}
	}
}

func (r *Reader) drawn(ctx context.Context, g graph) (Lineage, error) {
	open, err := r.store.Alerts(ctx, store.AlertFilter{State: "open", Held: "told"})
	if err != nil {
		return Lineage{}, err
	}
	l := Lineage{Nodes: []Node{}, Links: []Link{}}
	for at, depth := range g.depth {
		n := Node{Namespace: at.namespace, Name: at.name, Depth: depth}
		_, err := r.store.DatasetByName(ctx, at.namespace, at.name)
		var unknown record.NotFound
		if n.Watched = err == nil; err != nil && !errors.As(err, &unknown) {
			return l, err
		}
		for _, a := range open {
			if n.Watched && a.Dataset == at.name {
				n.Worst = a.Worst(n.Worst)
			}
		}
		l.Nodes = append(l.Nodes, n)
	}
	for link := range g.links {
		l.Links = append(l.Links, link)
	}
	slices.SortFunc(l.Nodes, func(a, b Node) int {
		if a.Depth != b.Depth {
			return a.Depth - b.Depth
		}
		return strings.Compare(a.Name, b.Name)
	})
	slices.SortFunc(l.Links, func(a, b Link) int { return strings.Compare(a.From+"\x00"+a.To+a.Job, b.From+"\x00"+b.To+b.Job) })
	return l, nil
}

// JobHealth is a job with when its next run is due.
type JobHealth struct {
	store.JobState
	Next *watch.Expected `json:"next,omitempty" doc:"nothing while too few runs are known"`
}

// Jobs gives all jobs.
func (r *Reader) Jobs(ctx context.Context) ([]JobHealth, error) {
	jobs, err := r.store.Jobs(ctx, r.now())
	if err != nil {
		return nil, err
	}
	list := make([]JobHealth, len(jobs))
	for i, job := range jobs {
		list[i].JobState = job
		next, err := r.watcher.NextRun(ctx, job.ID)
		var few arrival.TooFew
		switch {
		case err == nil:
			list[i].Next = &next
		case !errors.As(err, &few):
			return nil, err
		}
	}
	return list, nil
}
