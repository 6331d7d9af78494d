package trial

import (
	"fmt"
	"math"
	"testing"
	"time"

	"tinbell/core/detect"
	"tinbell/core/learn"
)

func TestTmpCov(t *testing.T) {
	for _, f := range []Family{Counts, LowCounts, Means, Durations} {
		var mon, plain [2]int
		for i := range 40 {
			s := NewScene(Setting{Seed: 9, Period: 24 * time.Hour, Learn: 182, Judge: 91}, f, i)
			m := &maker{}
			_ = m
			in, n := 0, 0
			var outs []string
			learn.Walk(learn.Job{Config: s.Config, Rule: detect.Rule{BandOnly: true}, History: s.History, From: s.From, Read: func(r detect.Reading) {
				if math.IsNaN(r.Observed) {
					return
				}
				n++
				if r.Observed >= r.Low && r.Observed <= r.High {
					in++
				} else {
					outs = append(outs, fmt.Sprintf("%s %.0f[%.0f %.0f %.0f]", time.Unix(r.At, 0).In(s.Config.Grid.Zone).Format("Mon02Jan"), r.Observed, r.Low, r.Expected, r.High))
				}
			}})
			_ = mon
			plain[0] += in
			plain[1] += n
			if n-in > 3 {
				fmt.Println(f, i, n-in, outs)
			}
		}
		fmt.Println(f, float64(plain[0])/float64(plain[1]))
	}
}
