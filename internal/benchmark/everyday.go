package benchmark

import (
	"hash/fnv"
	"math"
	"math/rand/v2"
	"time"

	"tinbell/core/baseline"
	"tinbell/core/timeline"
)

// An everyday series is made of single happenings: a van that unloads, a shop
// that opens late, a tide, a machine that stands still. Nothing in it is a level
// times a weekly shape plus noise; what a baseline assumes must not be what it is
// tried on.
type everyday struct {
	Name  string
	Kind  timeline.Kind
	Daily bool // also as daily sums; not where a day hides what it is about
	Novel bool // something changes for good once while it is judged
	Grow  func(*day, *sheet)
}

// day is one local day of the series.
type day struct {
	number  int
	date    time.Time
	second  float64 // of its midnight from the start
	through float64 // 0 at the start of the series, 1 at its end
}

func (d *day) weekend() bool { w := d.date.Weekday(); return w == time.Saturday || w == time.Sunday }

func bump(hour, middle, width float64) float64 {
	x := (hour - middle) / width
	return math.Exp(-x * x / 2)
}

// Everyday lists the sorts of everyday series, in the order they are reported.
var everydays = []everyday{
	{"night batches with jitter", timeline.Count, false, false, func(d *day, s *sheet) {
		if s.Float64() < 0.12 || d.weekend() && s.Float64() < 0.5 {
			return // some nights nothing is to be loaded
		}
		for range 1 + int(2*s.Float64()*s.Float64()) {
			at, rows := 2.2+math.Abs(0.8*s.NormFloat64())+5*math.Pow(s.Float64(), 6), s.lognormal(4000, 0.5)
			parts := 4 + s.IntN(5)
			for k := range parts {
				s.hit(d.second+(at+0.25*float64(k)*(1+s.Float64()))*3600, math.Round(rows/float64(parts)))
			}
		}
	}},
	{"three loads a week and lumps", timeline.Count, true, false, func(d *day, s *sheet) {
		s.arrive(d, func(h float64) float64 { return 6 * bump(h, 13, 4) })
		if w := d.date.Weekday(); w == time.Monday || w == time.Wednesday || w == time.Friday {
			s.hit(d.second+(21+2*s.Float64())*3600, math.Round(s.lognormal(900, 0.35)))
		}
		if s.Float64() < 0.03 {
			s.hit(d.second+24*s.Float64()*3600, math.Round(s.lognormal(5000, 0.8)))
		}
	}},
	{"intermittent counts", timeline.Count, true, false, func(d *day, s *sheet) {
		mean := []float64{0.2, 0.5, 1, 2, 5}[int(s.nature[0]*5)] * 3600 / min(s.step(), 3600)
		busy := s.gamma(1.5) / 1.5
		s.arrive(d, func(float64) float64 { return mean * busy })
	}},
	{"opening hours that vary", timeline.Count, true, false, func(d *day, s *sheet) {
		if d.date.Weekday() == time.Sunday || s.Float64() < 0.05 {
			return
		}
		open, shut := 8+0.5*s.NormFloat64(), 18+0.4*s.NormFloat64()
		if s.Float64() < 0.1 {
			shut = 13
		}
		trade := s.lognormal(180, 0.15)
		s.arrive(d, func(h float64) float64 {
			if h < open || h > shut {
				return 0
			}
			return trade * (0.6 + 0.4*bump(h, 12, 2))
		})
	}},
	{"a tide of 12.4 hours", timeline.Count, false, false, func(d *day, s *sheet) {
		s.arrive(d, func(h float64) float64 {
			t := d.second/3600 + h
			spring := 0.75 + 0.25*math.Cos(2*math.Pi*t/354.4)
			return 220 * (1 + 0.8*spring*math.Sin(2*math.Pi*(t/12.42+s.nature[0])))
		})
	}},
	{"a lunar day of 24.8 hours", timeline.Value, false, false, func(d *day, s *sheet) {
		s.every(d, func(h float64) float64 {
			t := d.second/3600 + h
			return 40 + 12*math.Sin(2*math.Pi*(t/24.84+s.nature[0])) + 1.2*s.NormFloat64()
		})
	}},
	{"a machine's cycle of 9.3 hours", timeline.Count, false, false, func(d *day, s *sheet) {
		s.arrive(d, func(h float64) float64 {
			phase := math.Mod((d.second/3600+h)/9.3+s.nature[0], 1)
			if phase > 0.8 {
				return 4
			}
			return 90 * (0.3 + phase)
		})
	}},
	{"a month by the moon", timeline.Count, true, false, func(d *day, s *sheet) {
		moon := 0.5 + 0.5*math.Cos(2*math.Pi*(float64(d.number)/29.53+s.nature[0]))
		s.arrive(d, func(h float64) float64 { return 30 + 160*moon*bump(math.Mod(h+12, 24), 12, 3) })
	}},
	{"a schedule that moves for good", timeline.Count, false, true, func(d *day, s *sheet) {
		shift := 0.0
		if d.through > s.turn {
			shift = 2
		}
		s.arrive(d, func(h float64) float64 { return 8 + 300*bump(h, 9+shift, 1.6) + 160*bump(h, 16+shift, 2) })
	}},
	{"growth that saturates", timeline.Count, true, false, func(d *day, s *sheet) {
		size := 900 / (1 + math.Exp(-9*(d.through-0.55)))
		s.arrive(d, func(h float64) float64 { return math.Min((60+size)*(0.2+bump(h, 14, 4)), 620) })
	}},
	{"a new level", timeline.Count, true, true, func(d *day, s *sheet) {
		level := 150.0
		if d.through > s.turn {
			level *= []float64{0.6, 1.45}[int(2*s.nature[0])]
		}
		s.arrive(d, func(h float64) float64 { return level * (0.25 + bump(h, 15, 4)) })
	}},
	{"a segment that begins", timeline.Count, true, true, func(d *day, s *sheet) {
		if d.through < s.turn {
			return
		}
		s.arrive(d, func(h float64) float64 { return 45 * (0.3 + bump(h, 11, 3)) })
	}},
	{"a segment that ends", timeline.Count, true, true, func(d *day, s *sheet) {
		if d.through > s.turn {
			return
		}
		s.arrive(d, func(h float64) float64 { return 45 * (0.3 + bump(h, 11, 3)) })
	}},
	{"shares of few rows", timeline.Share, false, false, func(d *day, s *sheet) {
		s.shares(d, func(h float64) float64 { return 1 + 5*bump(h, 13, 4) }, 0.02+0.1*s.nature[0])
	}},
	{"shares almost always 1", timeline.Share, false, false, func(d *day, s *sheet) {
		s.shares(d, func(h float64) float64 { return 4 + 30*bump(h, 13, 4) }, 0.985)
	}},
	{"durations with a heavy tail", timeline.Duration, true, false, func(d *day, s *sheet) {
		s.every(d, func(h float64) float64 {
			slow := 1 + bump(h, 9, 1.5)
			return slow * 120 * math.Pow(1-s.Float64(), -1/1.8) * math.Exp(0.3*s.NormFloat64())
		})
	}},
	{"a reference table", timeline.Count, true, false, func(d *day, s *sheet) {
		if d.number == 0 {
			s.nature[3] = math.Round(2000 + 3000*s.nature[0])
		}
		if s.Float64() < 0.15 {
			s.nature[3] = math.Round(s.nature[3] * (1 + 0.01*s.NormFloat64()))
		}
		if s.Float64() < 0.01 {
			s.nature[3] = math.Round(s.nature[3] * 1.12)
		}
		s.every(d, func(float64) float64 { return s.nature[3] })
	}},
	{"working days from Sunday to Thursday", timeline.Count, true, false, func(d *day, s *sheet) {
		size := 200.0
		switch d.date.Weekday() {
		case time.Friday:
			size = 15
		case time.Saturday:
			size = 60
		}
		size *= s.lognormal(1, 0.08)
		s.arrive(d, func(h float64) float64 { return size * (0.1 + bump(h, 11, 3)) })
	}},
	{"a yearly season", timeline.Count, true, false, func(d *day, s *sheet) {
		season := math.Exp(0.7 * math.Sin(2*math.Pi*(float64(d.date.YearDay())/365.25+s.nature[0])))
		s.arrive(d, func(h float64) float64 { return 60 * season * (0.2 + bump(h, 13, 4)) })
	}},
	{"days missed now and then", timeline.Value, true, false, func(d *day, s *sheet) {
		s.every(d, func(h float64) float64 { return 20 + 4*math.Sin(h/24*2*math.Pi) + s.NormFloat64() })
		if s.Float64() < 0.12 {
			s.lose(d, 24*s.Float64(), s.lognormal(4, 0.9))
		}
		if s.Float64() < 0.05 {
			s.lose(d, 0, 24)
		}
	}},
	{"short outages now and then", timeline.Count, false, false, func(d *day, s *sheet) {
		from, to := 30.0, 30.0
		if s.Float64() < 0.2 {
			from = 24 * s.Float64()
			to = from + s.lognormal(0.8, 0.7)
		}
		s.arrive(d, func(h float64) float64 {
			if h > from && h < to {
				return 0
			}
			return 130 * (0.4 + bump(h, 14, 5))
		})
	}},
	{"rain", timeline.Value, true, false, func(d *day, s *sheet) {
		if d.number == 0 || s.Float64() < 0.35 {
			s.nature[3] = 0
			if s.Float64() < 0.35 {
				s.nature[3] = s.gamma(0.7) * 3
			}
		}
		s.every(d, func(float64) float64 {
			if s.Float64() < 0.5 {
				return 0
			}
			return math.Round(10*s.nature[3]*s.gamma(0.8)) / 10
		})
	}},
	{"a sensor that freezes", timeline.Value, false, false, func(d *day, s *sheet) {
		s.every(d, func(h float64) float64 {
			if s.nature[2] > 0 {
				s.nature[2] -= s.step() / 3600
				return s.nature[3]
			}
			if s.Float64() < 0.012*s.step()/3600 {
				s.nature[2] = s.lognormal(5, 0.6)
			}
			s.nature[3] = math.Round(20*(18+3*math.Sin(h/24*2*math.Pi)+0.5*s.NormFloat64()))/20 + 0
			return s.nature[3]
		})
	}},
	{"lots of 144", timeline.Count, false, false, func(d *day, s *sheet) {
		if d.date.Weekday() == time.Sunday {
			return
		}
		for at := 5 + s.Float64(); at < 22; at += 0.5 + s.gamma(2)*0.7 {
			s.hit(d.second+at*3600, 144)
		}
	}},
	{"bills on the 1st and 15th", timeline.Count, true, false, func(d *day, s *sheet) {
		s.arrive(d, func(h float64) float64 { return 20 * (0.2 + bump(h, 12, 4)) })
		if n := d.date.Day(); n == 1 || n == 15 {
			s.arrive(d, func(h float64) float64 { return 1500 * bump(h, 6, 1.2) })
		}
	}},
	{"a closed day a month that no calendar lists", timeline.Count, true, false, func(d *day, s *sheet) {
		if s.Float64() < 1.0/30 {
			return
		}
		s.arrive(d, func(h float64) float64 { return 90 * (0.15 + bump(h, 13, 4)) })
	}},
	{"late evenings", timeline.Count, false, false, func(d *day, s *sheet) {
		late := 0.0
		if s.Float64() < 0.15 {
			late = 1 + 2*s.Float64()
		}
		s.arrive(d, func(h float64) float64 {
			rate := 5 + 200*bump(h, 12, 3)
			if h > 19 && h < 19+2*late {
				rate += 150
			}
			return rate
		})
	}},
	{"queues that drain unevenly", timeline.Duration, false, false, func(d *day, s *sheet) {
		s.every(d, func(h float64) float64 {
			load := (0.55 + 0.4*bump(h, 14, 4)) * (1 + 0.25*s.NormFloat64())
			s.nature[3] = max(0, s.nature[3]*math.Exp(-0.5*s.step()/3600)+(load-0.75)*s.step()/60)
			return 30 + 60*s.nature[3]
		})
	}},
}

// newEveryday makes a series of a sort; the same arguments give the same one.
func newEveryday(sort *everyday, seed uint64, st stretch, index int, faults bool) Scene {
	return sort.grown(seed, st, index).scene(sort, st, faults)
}

// grown makes a sheet of a sort.
func (sort *everyday) grown(seed uint64, st stretch, index int) *sheet {
	name := fnv.New64a()
	name.Write([]byte(sort.Name))
	zone := []*time.Location{time.UTC, time.FixedZone("", 3*3600), time.FixedZone("", -5*3600)}[index%3]
	grid := timeline.Grid{Period: st.Period, Zone: zone}
	source := rand.NewPCG(seed*7919+uint64(index), name.Sum64()^uint64(st.Period))
	s := &sheet{Rand: rand.New(source), source: source, grid: grid}
	days := st.Learn + st.Judge
	s.start = time.Date(2024, 2, 5, 0, 0, 0, 0, zone)
	end := s.start.AddDate(0, 0, days)
	for t := s.start; t.Before(end); t = grid.Next(t) {
		s.at = append(s.at, t.Unix())
	}
	s.value, s.rows = make([]float64, s.n()), make([]float64, s.n())
	for i := range s.nature {
		s.nature[i] = s.Float64()
	}
	s.nature[2], s.nature[3] = 0, 0
	share := float64(st.Learn) / float64(days)
	s.turn = share + (1-share)*(0.2+0.5*s.Float64())
	for n := range days {
		date := s.start.AddDate(0, 0, n)
		sort.Grow(&day{n, date, date.Sub(s.start).Seconds(), float64(n) / float64(days)}, s)
	}
	return s
}

// scene makes a sheet a series to judge, with faults or without.
func (s *sheet) scene(sort *everyday, st stretch, faults bool) Scene {
	scene := Scene{Family: Family(sort.Name), Config: baseline.Config{Kind: sort.Kind, Grid: s.grid}}
	for i, at := range s.at {
		scene.History = append(scene.History, timeline.Sample{At: at, Value: s.value[i], Rows: s.rows[i]})
	}
	scene.From = s.start.AddDate(0, 0, st.Learn).Unix()
	if faults {
		s.spoil(&scene)
	}
	return scene
}

// spoil plants three faults in the judged part: rows that stop, are lost in part
// or come twice; of anything else values that are off.
func (s *sheet) spoil(scene *Scene) {
	first := 0
	for first < s.n() && s.at[first] < scene.From {
		first++
	}
	part := (s.n() - first) / 3
	perDay := s.grid.PerDay()
	for k, kind := range []string{"stop", "partial loss", "doubled"} {
		length := max(perDay, 2) // a day; of daily series two
		at := first + k*part + part/4 + s.IntN(max(part/2, 1))
		to := min(at+length, s.n())
		for i := at; i < to; i++ {
			x := &scene.History[i]
			switch {
			case scene.Config.Kind == timeline.Share:
				if x.Rows > 0 && x.Value > 0.5 {
					x.Value = math.Round((x.Value-0.5)*x.Rows) / x.Rows
				} else if x.Rows > 0 {
					x.Value = math.Round((x.Value+0.5)*x.Rows) / x.Rows
				}
			case kind == "stop" && scene.Config.Kind == timeline.Count:
				x.Value = 0
			case kind == "stop":
				x.Value = math.NaN()
			case kind == "partial loss" && scene.Config.Kind != timeline.Duration:
				x.Value = math.Round(x.Value*0.4*10) / 10
				if scene.Config.Kind == timeline.Count {
					x.Value = math.Round(x.Value)
				}
			default:
				x.Value *= 2.5
			}
		}
		scene.Faults = append(scene.Faults, Fault{timeline.Span{From: s.at[at], To: s.at[to-1] + int64(s.step())}, kind})
	}
}
