package group

import "slices"

// reach is how many steps of the lineage a cause is followed.
const reach = 3

// Graph is the lineage: what is made from what. Places are named by strings;
// sources and jobs may be places beside datasets. The zero value has no steps.
type Graph struct {
	up    map[string][]string
	holds map[string]bool           // sources: they hold datasets, which are not alike for that
	above map[string]map[string]int // by place: all places upstream and how many steps away
}

// Step adds that to is made from from.
func (g *Graph) Step(from, to string) {
	if from == to || slices.Contains(g.up[to], from) {
		return
	}
	if g.up == nil {
		g.up = map[string][]string{}
	}
	g.up[to] = append(g.up[to], from)
	g.above = nil
}

// Hold adds that a source holds a dataset: what is wrong with the source shows
// in it, but its datasets have no cause in common by that alone.
func (g *Graph) Hold(source, dataset string) {
	g.Step(source, dataset)
	if g.holds == nil {
		g.holds = map[string]bool{}
	}
	g.holds[source] = true
}

type relation int

const (
	none relation = iota
	same
	along    // one is upstream of the other
	siblings // both are made from the same
)

func (g *Graph) relation(a, b string) relation {
	if a == b {
		return same
	}
	if _, found := g.ancestors(a)[b]; found {
		return along
	}
	if _, found := g.ancestors(b)[a]; found {
		return along
	}
	for _, p := range g.up[a] {
		if !g.holds[p] && slices.Contains(g.up[b], p) {
			return siblings
		}
	}
	return none
}

// ancestors gives the places upstream of one within reach, breadth first.
func (g *Graph) ancestors(place string) map[string]int {
	if found, known := g.above[place]; known {
		return found
	}
	found := map[string]int{}
	layer := []string{place}
	for steps := 1; steps <= reach; steps++ {
		var next []string
		for _, at := range layer {
			for _, p := range g.up[at] {
				if _, seen := found[p]; !seen && p != place {
					found[p] = steps
					next = append(next, p)
				}
			}
		}
		layer = next
	}
	if g.above == nil {
		g.above = map[string]map[string]int{}
	}
	g.above[place] = found
	return found
}
