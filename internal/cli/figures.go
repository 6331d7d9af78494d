package cli

import (
	"errors"
	"fmt"
	"io/fs"
	"math"
	"slices"
	"sort"
	"strconv"

	"github.com/spf13/cobra"

	"tinbell/core/drift"
	"tinbell/core/robust"
	"tinbell/core/score"
	"tinbell/core/standard"
	"tinbell/internal/compare"
)

// Reckoned is a figure as the literature defines it, beside ours where they differ.
type Reckoned struct {
	Figure string   `json:"figure"`
	Value  *float64 `json:"value" doc:"as the literature has it; null where it has none here"`
	Ours   *float64 `json:"ours" doc:"as the service reckons, where that differs"`
	Source string   `json:"source"`
}

func (a *app) figuresCommand() *cobra.Command {
	var beside string
	var ahead int
	c := &cobra.Command{Use: "figures FILE COLUMN",
		Short: "Standard figures of a column as the literature defines them, with ours beside; without a service",
		Args:  exactly(2, "FILE COLUMN"),
		Long: `Quartiles by three definitions, MAD, Hodges and Lehmann's estimate, the exact bounds of
the share missing and a generalised Pareto tail; with --beside also the shift, Smirnov's
exact test, and PSI and Jensen-Shannon over the deciles of FILE as they are defined; with
--ahead Holt's damped trend. Where the service reckons otherwise, its figure stands beside.`,
		Example: "  tinbell figures october.csv fare_minor\n  tinbell figures october.csv fare_minor --beside reference.csv",
		RunE: func(_ *cobra.Command, args []string) error {
			values, err := columnOf(args[0], args[1])
			if err != nil {
				return err
			}
			list := ofOne(values, ahead)
			if beside != "" {
				other, err := columnOf(beside, args[1])
				if err != nil {
					return err
				}
				list = append(list, ofTwo(finiteOf(values), finiteOf(other))...)
			}
			l := listing{head: []string{"figure", "value", "ours", "source"}, right: []int{2, 3}, raw: list}
			for _, r := range list {
				l.rows = append(l.rows, []string{r.Figure, reckoned(r.Value), reckoned(r.Ours), r.Source})
			}
			return a.show(l)
		}}
	c.Flags().StringVar(&beside, "beside", "", "hold the same column of this file against it")
	c.Flags().IntVar(&ahead, "ahead", 0, "take the rows as a series and forecast so many on")
	return c
}

// columnOf reads a column's numbers, NaN where there is none.
func columnOf(file, column string) ([]float64, error) {
	values, err := compare.Values(file, column)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, missingFile{err}
	}
	if err != nil {
		return nil, wrongUsage{err}
	}
	if len(finiteOf(values)) == 0 {
		return nil, wrongUsage{fmt.Errorf("%s: column %s has no number in %d rows", file, column, len(values))}
	}
	return values, nil
}

// finiteOf are the numbers among values.
func finiteOf(values []float64) []float64 {
	var list []float64
	for _, v := range values {
		if !math.IsNaN(v) && !math.IsInf(v, 0) {
			list = append(list, v)
		}
	}
	return list
}

func ofOne(values []float64, ahead int) []Reckoned {
	sorted := finiteOf(values)
	inOrder := slices.Clone(sorted)
	slices.Sort(sorted)
	n := len(sorted)
	missing := len(values) - n
	mean, square := robust.Mean(sorted), 0.0
	for _, v := range sorted {
		square += (v - mean) * (v - mean)
	}
	low, high := standard.ClopperPearson(missing, len(values), 0.95)
	ours := score.Wilson(missing, len(values))
	list := []Reckoned{
		reckon("values", float64(n), "", nil), reckon("mean", mean, "", nil),
		reckon("standard deviation", math.Sqrt(square/float64(max(n-1, 1))), "n − 1", nil),
	}
	for _, quarter := range []struct {
		name string
		q    float64
	}{{"lower quartile", 0.25}, {"median", 0.5}, {"upper quartile", 0.75}} {
		own := standard.Quantile(sorted, quarter.q, 7)
		for _, definition := range []int{2, 6, 7} {
			v := standard.Quantile(sorted, quarter.q, definition)
			list = append(list, reckon(fmt.Sprintf("%s, definition %d", quarter.name, definition), v, "Hyndman and Fan 1996",
				otherwise(v, own)))
		}
	}
	mad := standard.MAD(sorted)
	scaled := 1.4826 * mad
	list = append(list, reckon("MAD", mad, "Hampel 1974; ours times 1.4826", &scaled), reckon("median of means of pairs",
		standard.HodgesLehmann(sorted), "Hodges and Lehmann 1963", nil),
		reckon("share missing, low", low, "Clopper and Pearson 1934, 95 %; ours Wilson 1927", finiteFigure(ours.Low)),
		reckon("share missing, high", high, "as before", finiteFigure(ours.High)))
	if p, ok := standard.FitPareto(sorted, 0.95); ok {
		list = append(list, reckon("tail above", p.Threshold, fmt.Sprintf("the .95 quantile; %d values", p.Above), nil),
			reckon("tail, shape", p.Shape, "generalised Pareto; Hosking and Wallis 1987", nil),
			reckon("tail, scale", p.Scale, "as before", nil), reckon("passed once in 10,000 values", p.Level(1e-4), "by that tail", nil))
	}
	if h, ok := standard.FitHolt(inOrder); ok && ahead > 0 {
		list = append(list, reckon("Holt, level weight", h.Alpha, "Gardner and McKenzie 1985", nil),
			reckon("Holt, trend weight", h.Beta, "as before", nil), reckon("Holt, damping", h.Phi, "as before", nil),
			reckon(fmt.Sprintf("%d on", ahead), h.Ahead(ahead), "as before", nil))
	}
	return list
}

func ofTwo(a, b []float64) []Reckoned {
	d, p, exact := standard.Smirnov(a, b)
	how := "Hodges 1958, counted"
	if !exact {
		how = "Kolmogorov's limit"
	}
	// Ours reckons by the limit at any size.
	x, y := tally(a, b)
	_, limit := drift.KolmogorovSmirnov(x, y)
	list := []Reckoned{reckon("shift", standard.Shift(a, b), "Hodges and Lehmann 1963", nil),
		reckon("largest distance", d, "Smirnov 1939", nil), reckon("its chance", p, how, otherwise(p, limit))}
	sorted := slices.Sorted(slices.Values(a))
	var edges []float64
	for tenth := 1; tenth < 10; tenth++ {
		if e := standard.Quantile(sorted, float64(tenth)/10, 7); len(edges) == 0 || e > edges[len(edges)-1] {
			edges = append(edges, e)
		}
	}
	binned := func(values []float64) []int64 {
		counts := make([]int64, len(edges)+1)
		for _, v := range values {
			counts[sort.SearchFloat64s(edges, v)]++
		}
		return counts
	}
	ca, cb := binned(a), binned(b)
	psi, js := drift.PSI(ca, cb), drift.JensenShannon(ca, cb)
	return append(list, reckon("PSI over deciles", standard.PSI(ca, cb), "ours with half a value in each bin", &psi),
		reckon("Jensen-Shannon divergence, bits", standard.JensenShannon(ca, cb), "Lin 1991; ours its root, a distance", &js))
}

// tally counts both samples at each value that either has.
func tally(a, b []float64) (x, y []int64) {
	all := slices.Concat(a, b)
	slices.Sort(all)
	all = slices.Compact(all)
	count := func(values []float64) []int64 {
		counts := make([]int64, len(all))
		for _, v := range values {
			counts[sort.SearchFloat64s(all, v)]++
		}
		return counts
	}
	return count(a), count(b)
}

func reckon(name string, v float64, source string, ours *float64) Reckoned {
	return Reckoned{name, finiteFigure(v), ours, source}
}

func finiteFigure(v float64) *float64 {
	if math.IsNaN(v) || math.IsInf(v, 0) {
		return nil
	}
	return &v
}

// otherwise gives ours where it is not the same.
func otherwise(v, ours float64) *float64 {
	if math.Abs(v-ours) <= 1e-12*math.Max(math.Abs(v), 1) {
		return nil
	}
	return &ours
}

func reckoned(v *float64) string {
	if v == nil {
		return "–"
	}
	return strconv.FormatFloat(*v, 'g', 6, 64)
}
