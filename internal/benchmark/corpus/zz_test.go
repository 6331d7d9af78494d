package corpus

import (
	"fmt"
	"os"
	"testing"
	"time"
	"tinbell/core/baseline"
	"tinbell/core/detect"
	"tinbell/core/learn"
)

func TestZ(t *testing.T) {
	if os.Getenv("ZC") == "" {
		t.Skip()
	}
	c, err := Read("/work/shared/corpora/" + os.Getenv("ZC"))
	if err != nil {
		t.Fatal(err)
	}
	from, _ := time.Parse(time.RFC3339, os.Getenv("ZF"))
	to, _ := time.Parse(time.RFC3339, os.Getenv("ZT"))
	o := Order{}
	b := o.BudgetOf(c)
	w := time.Duration(30 * 24 / b * float64(time.Hour))
	for i := range c.Series {
		s := &c.Series[i]
		if s.ID != os.Getenv("ZID") {
			continue
		}
		var ev *detect.Evaluator
		first := true
		rule := detect.Rule{Warn: w, Critical: 10 * w}
		if s.Kind == "share" || s.Kind == "duration" {
			rule.Direction = detect.High
		}
		learn.Walk(learn.Job{Config: baseline.Config{Kind: s.Kind, Grid: s.Grid}, Rule: rule, History: s.History, Exclusions: c.exclusions(s, o), From: s.Split,
			Visit: func(i int, e *detect.Evaluator) {
				if first || e != ev {
					first = false
					fmt.Println(time.Unix(s.History[i].At, 0).UTC())
					fmt.Print(e.ZFit())
				}
				ev = e
			},
			Read: func(r detect.Reading) {
				if r.At >= from.Unix() && r.At < to.Unix() {
					fmt.Printf("%s obs %.4g exp %.4g [%.4g %.4g] rows %.0f %s ch %d\n", time.Unix(r.At, 0).UTC().Format("01-02 15:04"), r.Observed, r.Expected, r.Low, r.High, r.Rows, ev.ZDebug(), r.Change)
				}
			}})
	}
}
