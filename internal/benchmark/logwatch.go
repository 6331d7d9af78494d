package benchmark

import (
	"math"
	"math/rand/v2"
	"slices"
	"sync"

	"golang.org/x/sync/errgroup"

	"tinbell/core/template"
)

// WatchResult is how often clean logs were said to be odd, and what of planted faults was
// found.
type WatchResult struct {
	Logs     int     `json:"logs"`
	Days     int     `json:"days" doc:"watched of each"`
	Rare     float64 `json:"rare_days" doc:"asked for: one burst in so long, and one that vanished"`
	Bursts   float64 `json:"bursts" doc:"told on clean days, by what is asked for"`
	Vanished float64 `json:"vanished" doc:"likewise"`
	Either   float64 `json:"either" doc:"both together, by what is asked for of both"`
	Burst    float64 `json:"burst_found" doc:"share of planted bursts (eight times as many over an hour) that ring within it"`
	Silence  float64 `json:"silence_found" doc:"share of planted ends of heartbeats that ring within an hour or six beats"`
}

// spoken is a sentence of a generated log as a process in time: each draws its lines of
// five minutes itself.
type spoken struct {
	draw func(rng *rand.Rand, period int) int64
	beat int // periods between its lines; 0: it has no beat
}

// voices are the sentences of a generated log. Unlike what is assumed of counts in judging
// them, they come by clocks with jitter and holes, in trains, from queues that fill and
// drain, by moods that last for days, and by jobs of a week.
func voices(rng *rand.Rand) []spoken {
	var list []spoken
	day := func(p int) float64 { return float64(p%288) / 288 }
	for range 20 + rng.IntN(30) { // by a clock
		every, lost, at := 1+rng.IntN(12), 0.02*rng.Float64(), rng.IntN(12)
		list = append(list, spoken{func(r *rand.Rand, p int) int64 {
			if (p+at)%every != 0 || r.Float64() < lost {
				return 0
			}
			return 1 + int64(r.IntN(2))
		}, every})
	}
	for range 30 + rng.IntN(60) { // of people, by day, fewer at week's end
		rate, peak, sharp := math.Exp(3*rng.NormFloat64()-1), rng.Float64(), 1+3*rng.Float64()
		mood := 0.0
		list = append(list, spoken{func(r *rand.Rand, p int) int64 {
			if p%288 == 0 {
				mood = 0.6*mood + 0.25*r.NormFloat64()
			}
			level := rate * math.Exp(sharp*math.Cos(2*math.Pi*(day(p)-peak))-sharp+mood)
			if p/288%7 >= 5 {
				level *= 0.4
			}
			return count(r, min(level, 3000))
		}, 0})
	}
	for range 20 + rng.IntN(40) { // in trains, as of a retry
		start, goOn := 0.002+0.02*rng.Float64(), 0.3+0.5*rng.Float64()
		size := 1 + 6*rng.Float64()
		on := false
		list = append(list, spoken{func(r *rand.Rand, p int) int64 {
			if on = on && r.Float64() < goOn || r.Float64() < start; !on {
				return 0
			}
			return 1 + count(r, size*-math.Log(1-r.Float64()))
		}, 0})
	}
	for range 5 + rng.IntN(10) { // from a queue
		depth, in, out := 0.0, 2+6*rng.Float64(), 1.25
		list = append(list, spoken{func(r *rand.Rand, p int) int64 {
			depth = max(0, depth+float64(count(r, in))-in*out)
			return int64(depth / 4)
		}, 0})
	}
	for range 5 + rng.IntN(10) { // once a night or a week
		at, weekly, lines := rng.IntN(288), rng.IntN(3) == 0, 5+400*rng.Float64()
		on := rng.IntN(7)
		list = append(list, spoken{func(r *rand.Rand, p int) int64 {
			if p%288 != at || weekly && p/288%7 != on {
				return 0
			}
			return count(r, lines)
		}, 0})
	}
	for range 20 + rng.IntN(60) { // hardly ever
		rate := math.Exp(-7 - 2*rng.Float64())
		list = append(list, spoken{func(r *rand.Rand, p int) int64 { return count(r, rate) }, 0})
	}
	return list
}

// count draws from Poisson's law.
func count(rng *rand.Rand, mean float64) int64 {
	if mean > 50 {
		return max(int64(math.Round(mean+math.Sqrt(mean)*rng.NormFloat64())), 0)
	}
	n, p, u := int64(0), math.Exp(-mean), rng.Float64()
	for sum := p; u > sum && n < 1000; sum += p {
		n++
		p *= mean / float64(n)
	}
	return n
}

// watching is the state of one log's watch over the days.
type watching struct {
	bursts, vanished            int
	planted, burst, ends, ended int
}

// WatchLogs watches clean logs for so many days after a past of six weeks, and says how
// often something was told; then what rings of faults that are planted into copies of the
// last day.
func WatchLogs(logs, days int, rare float64, seed uint64) (WatchResult, error) {
	const past = 42
	var mu sync.Mutex
	var all watching
	var g errgroup.Group
	g.SetLimit(2)
	for l := range logs {
		g.Go(func() error {
			w := watchOne(rand.New(rand.NewPCG(seed, uint64(l))), past, days, rare)
			mu.Lock()
			defer mu.Unlock()
			all.bursts, all.vanished = all.bursts+w.bursts, all.vanished+w.vanished
			all.planted, all.burst, all.ends, all.ended = all.planted+w.planted, all.burst+w.burst, all.ends+w.ends, all.ended+w.ended
			return nil
		})
	}
	err := g.Wait()
	stated := float64(logs*days) / rare
	return WatchResult{Logs: logs, Days: days, Rare: rare,
		Bursts: float64(all.bursts) / stated, Vanished: float64(all.vanished) / stated,
		Either: float64(all.bursts+all.vanished) / (2 * stated),
		Burst:  float64(all.burst) / float64(max(all.planted, 1)), Silence: float64(all.ended) / float64(max(all.ends, 1))}, err
}

func watchOne(rng *rand.Rand, past, days int, rare float64) (w watching) {
	list := voices(rng)
	counts := make([][]int64, len(list))
	for i, v := range list {
		counts[i] = make([]int64, (past+days)*288)
		for p := range counts[i] {
			counts[i][p] = v.draw(rng, p)
		}
	}
	bursting, missing := -1000, -1000 // periods at which something last was odd
	for d := past; d < past+days; d++ {
		from := (d - past) * 288
		learner := template.NewLearner(past, nil)
		last := make([]int, len(list))
		for i := range list {
			track := template.Track{ID: i + 1}
			for p, n := range counts[i][from : d*288] {
				if n > 0 {
					track.Cells = append(track.Cells, template.Cell{Period: p, Lines: n})
					last[i] = from + p
				}
			}
			learner.Add(track)
		}
		watch := learner.Watch(rare)
		for p := d * 288; p < (d+1)*288; p++ {
			odd, gone := false, false
			for i := range list {
				if counts[i][p] > 0 {
					last[i] = p
				}
				odd = odd || watch.Bursts(i+1, p-from, within(counts[i], p)) >= 1
				gone = gone || watch.Missing(i+1, p-last[i]) >= 1
			}
			if odd {
				if p-bursting > 12 {
					w.bursts++
				}
				bursting = p
			}
			if gone {
				if p-missing > 12 {
					w.vanished++
				}
				missing = p
			}
		}
		if d < past+days-1 {
			continue
		}
		for i, v := range list {
			at := d*288 + 60 + rng.IntN(180)
			if usual := watch.Usual(i+1, at-from); usual >= 20 {
				w.planted++
				burst := slices.Clone(counts[i])
				for p := at; p < at+12; p++ {
					burst[p] += count(rng, 7*usual/12)
				}
				if slices.ContainsFunc([]int{0, 3, 6, 9, 11},
					func(k int) bool { return watch.Bursts(i+1, at+k-from, within(burst, at+k)) >= 1 }) {
					w.burst++
				}
			}
			if v.beat > 0 {
				w.ends++
				if watch.Missing(i+1, max(12, 6*v.beat)) >= 1 {
					w.ended++
				}
			}
		}
	}
	return w
}

// within is how many lines came within the hour that ends with a period.
func within(counts []int64, period int) (n int64) {
	for _, v := range counts[max(period-11, 0) : period+1] {
		n += v
	}
	return n
}
