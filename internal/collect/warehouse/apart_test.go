package warehouse

import (
	"errors"
	"testing"

	"tinbell/internal/record"
)

// An expression is taken apart only where its figure follows from those of its parts.
func TestExpressionsAreTakenApart(t *testing.T) {
	const a, b = "coalesce(sum(a), 0)::float8", "coalesce(sum(b), 0)::float8"
	for expression, want := range map[string]Parts{
		"sum(a)":          {Value: a, Rows: "count(*)"},
		"sum(a) / 100.0":  {Value: "(" + a + ") / 100.0::float8", Rows: "count(*)"},
		"sum(a) / sum(b)": {Value: a, Rows: b, Ratio: true},
		"round((sum(a)::numeric(12, 2) / nullif(SUM(b), 0)), 3)": {Value: a, Rows: b, Ratio: true},
		"100 * sum(a) / sum(b)":                                  {Value: "(" + a + " * 100::float8)", Rows: b, Ratio: true},
		"100 * (sum(a) / sum(b))":                                {Value: "(" + a + ") * 100::float8", Rows: b, Ratio: true},
		"sum(a) / sum(b) * 100":                                  {Value: "(" + a + ") * 100::float8", Rows: b, Ratio: true},
		"(sum(a) - sum(b)) / sum(b)":                             {Value: "(" + a + " - " + b + ")", Rows: b, Ratio: true},
		"1 - sum(a) / sum(b)":                                    {Value: "1 * (" + b + ") - (" + a + ")", Rows: b, Ratio: true},
		"avg(a) filter (where b > 0)": {Value: "coalesce(sum(a) filter (where b > 0), 0)",
			Rows: "count(a) filter (where b > 0)", Ratio: true},
		"count(*) filter (where x = 'a / b') / count(*)::float": {Value: "coalesce(count(*) filter (where x = 'a / b'), 0)::float8", Rows: "coalesce(count(*), 0)::float8", Ratio: true, Counts: true},
	} {
		got, err := Apart(record.Metric{Measure: record.MeasureExpression, Expression: expression})
		if err != nil || got != want {
			t.Errorf("%s:\n got %+v, %v\nwant %+v", expression, got, err, want)
		}
	}
	for _, expression := range []string{
		"count(distinct a)", "sum(distinct a) / count(*)", "max(a)", "sum(a) + 1", "1 - sum(a)", "sum(a) / sum(b) / sum(c)",
		"sum(a) / 100 * count(*)",
		"sum(a) / sum(b) + sum(c)", "sum(a) over ()", "sum(a", "", "()", "100", "sqrt(sum(a))", "sum(a) / max(b)",
	} {
		if got, err := Apart(record.Metric{Measure: record.MeasureExpression, Expression: expression}); !errors.Is(err, ErrNotAdditive) {
			t.Errorf("%q was taken apart: %+v, %v", expression, got, err)
		}
	}
}
