package draw

import (
	_ "embed"
	"fmt"
	"html/template"
	"io"
	"time"

	"tinbell/internal/scorecard"
	"tinbell/internal/words"
)

//go:embed report.html
var reportPage string

// Report writes the scorecard as one HTML file that needs nothing else. before,
// if given, is the same over an earlier stretch.
func Report(to io.Writer, s scorecard.Scorecard, before *scorecard.Scorecard, made time.Time) error {
	page, err := template.New("report").Funcs(template.FuncMap{
		"date":    func(t time.Time) string { return t.Format("2 January 2006") },
		"seconds": func(v float64) string { return words.Seconds(v) },
		"share": func(f scorecard.Figure) string {
			if f.Estimate == nil {
				return "–"
			}
			return fmt.Sprintf("%.2f", *f.Estimate)
		},
		"between": func(f scorecard.Figure) string {
			if f.Estimate == nil || f.Low == nil || f.High == nil {
				return ""
			}
			return fmt.Sprintf("%.2f–%.2f", *f.Low, *f.High)
		},
		"number": func(v *float64) float64 {
			if v == nil {
				return 0
			}
			return *v
		},
		"delay": func(f scorecard.Figure) string {
			if f.Estimate == nil {
				return "–"
			}
			return words.Seconds(*f.Estimate)
		},
		"x":     func(v *float64) string { return fmt.Sprintf("%.1f", 4+112**v) },
		"width": func(a, b *float64) string { return fmt.Sprintf("%.1f", max(112*(*b-*a), 1)) },
		"bar":   func(n, most int) string { return fmt.Sprintf("%.0f", 90*float64(n)/float64(max(most, 1))) },
		"sub":   func(a, b string) string { return a + b },
	}).Parse(reportPage)
	if err != nil {
		return fmt.Errorf("report: %w", err)
	}
	most := 1
	for _, w := range s.Weeks {
		most = max(most, w.Faults+w.Noise+w.Planned+w.Unlabelled)
	}
	return page.Execute(to, map[string]any{"Score": s, "Before": before, "Made": made, "Most": most})
}
