package trial

import (
	"fmt"
	"math"
	"os"
	"sort"
	"strconv"
	"testing"
	"time"

	"tinbell/core/detect"
	"tinbell/core/learn"
)

func TestTmpAccuracy(t *testing.T) {
	n := 20
	if v := os.Getenv("N"); v != "" {
		n, _ = strconv.Atoi(v)
	}
	for _, st := range stretches {
		if p := os.Getenv("P"); p != "" && p != st.Period.String() {
			continue
		}
		var scenes []Scene
		for _, f := range Families {
			for i := range n {
				scenes = append(scenes, NewScene(Setting{Seed: 5, Period: st.Period, Learn: st.Learn, Judge: st.Judge, Contaminated: i%2 == 0, Faults: true}, f, i))
			}
		}
		for _, B := range []float64{0.1, 0.3} {
			warn := time.Duration(30 * 24 / B * float64(time.Hour))
			began := time.Now()
			alerts, err := walkAll(scenes, detect.Rule{Warn: warn, Critical: 10 * warn})
			if err != nil {
				t.Fatal(err)
			}
			o := tally("ours", scenes, alerts)
			show(o)
			fmt.Println("   took", time.Since(began))
			for _, f := range Families {
				var sub []Scene
				var al [][]detect.Alert
				for i := range scenes {
					if scenes[i].Family == f {
						sub = append(sub, scenes[i])
						al = append(al, alerts[i])
					}
				}
				fo := tally("   "+string(f), sub, al)
				show(fo)
			}
			causes := map[string]int{}
			for i := range alerts {
				for _, a := range alerts[i] {
					hit := false
					for _, f := range scenes[i].Faults {
						step := int64(st.Period.Seconds())
						if a.Raised < f.To+3*step && (a.End == 0 || a.End >= f.From) {
							hit = true
						}
					}
					if !hit {
						causes[string(a.Cause)]++
					}
				}
			}
			fmt.Println("   false by cause", causes)
			if os.Getenv("KINDS") != "" {
				var ks []string
				for k := range o.Kinds {
					ks = append(ks, k)
				}
				sort.Strings(ks)
				for _, k := range ks {
					fmt.Printf("   %s %d/%d", k, o.Kinds[k].Found, o.Kinds[k].Faults)
				}
				fmt.Println()
			}
			if os.Getenv("RIVALS") != "" {
				_, eq := rivals(scenes, st.InRow, o.False)
				for _, r := range eq {
					show(r)
				}
			}
		}
	}
}

func show(o Outcome) {
	fmt.Printf("%-48s lim %6.2f prec %.2f rec %.2f (%d/%d) delay %v false/sw %.3f n=%d\n", o.Way, o.Limit, float64(o.Hits)/float64(max(o.Hits+o.False, 1)), float64(o.Found)/float64(max(o.Faults, 1)), o.Found, o.Faults, o.Delay(), o.FalseWeekly(), o.False)
}

func TestTmpRarity(t *testing.T) {
	n := 40
	if v := os.Getenv("N"); v != "" {
		n, _ = strconv.Atoi(v)
	}
	for _, st := range stretches {
		if p := os.Getenv("P"); p != "" && p != st.Period.String() {
			continue
		}
		for _, dirty := range []bool{false, true} {
			for _, f := range Families {
				scenes := make([]Scene, n)
				for i := range n {
					scenes[i] = NewScene(Setting{Seed: 9, Period: st.Period, Learn: st.Learn, Judge: st.Judge, Contaminated: dirty}, f, i)
				}
				fmt.Printf("%-6s dirty=%-5t %-24s", st.Period, dirty, f)
				for _, B := range []float64{0.3, 1, 3} {
					warn := time.Duration(30 * 24 / B * float64(time.Hour))
					inside, total := 0, 0
					found := 0
					causes := map[string]int{}
					months := 0.0
					for i := range scenes {
						s := &scenes[i]
						cfg := s.Config
						cfg.Coverage = 0.99
						alerts, err := learn.Walk(learn.Job{Config: cfg, Rule: detect.Rule{Warn: warn, Critical: warn}, History: s.History, From: s.From, Read: func(r detect.Reading) {
							if math.IsNaN(r.Observed) || (s.Config.Kind == "count" && r.Expected < 20) {
								return
							}
							total++
							if r.Observed >= r.Low && r.Observed <= r.High {
								inside++
							}
						}})
						if err != nil {
							t.Fatal(err)
						}
						last := int64(0)
						for _, a := range alerts {
							if a.Raised-last > 86400 {
								found++
							}
							last = a.Raised
							causes[string(a.Cause)]++
						}
						months += float64(st.Judge) / 30
					}
					fmt.Printf("  B %.1f: %.2f", B, float64(found)/months)
					if B == 1 {
						fmt.Printf(" [cov .99: %.4f %v]", float64(inside)/float64(total), causes)
					}
				}
				fmt.Println()
			}
		}
	}
}
