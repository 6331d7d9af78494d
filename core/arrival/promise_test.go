package arrival

import (
	"math"
	"math/rand/v2"
	"testing"
	"time"
)

// manifests is five by half past six on working days.
func manifests(t *testing.T) Promise {
	return Promise{AtLeast: 5, Days: [7]bool{false, true, true, true, true, true, false}, From: 0, To: 6*60 + 30, Zone: halifax(t)}
}

// weeks lets five files come at 02:00 to 06:00 on each working day of eight weeks
// before a day, the last one at a random time of that hour.
func weeks(p Promise, day time.Time, rng *rand.Rand) (list []Delivered) {
	for d := day.AddDate(0, 0, -56); d.Before(day); d = d.AddDate(0, 0, 1) {
		if !p.Days[d.Weekday()] {
			continue
		}
		for hour := 2; hour <= 6; hour++ {
			list = append(list, Delivered{time.Date(d.Year(), d.Month(), d.Day(), hour, rng.IntN(25), 0, 0, p.Zone).Unix(), 1})
		}
	}
	return list
}

func TestAPromiseGoesFromOnPaceToMetOrMissed(t *testing.T) {
	p := manifests(t)
	day := time.Date(2026, 6, 17, 0, 0, 0, 0, p.Zone) // a Wednesday
	past := weeks(p, day, rand.New(rand.NewPCG(1, 1)))
	at := func(hour, minute int) int64 {
		return time.Date(2026, 6, 17, hour, minute, 0, 0, p.Zone).Unix()
	}
	lead := 3 * time.Hour
	good := append(past[:len(past):len(past)], Delivered{at(2, 5), 1}, Delivered{at(3, 5), 1}, Delivered{at(4, 5), 1},
		Delivered{at(5, 5), 1}, Delivered{at(6, 5), 1})
	bad := good[: len(past)+1 : len(past)+1]
	for _, c := range []struct {
		name         string
		now          int64
		list         []Delivered
		want         Standing
		have         float64
		above, below float64
	}{
		{"at night", at(1, 0), good, OnPace, 0, 0.9, 1},
		{"as ever at five", at(5, 30), good, OnPace, 4, 0.9, 1},
		{"met", at(6, 10), good, Met, 5, 1, 1},
		{"still met at noon", at(12, 0), good, Met, 5, 1, 1},
		{"too early to say behind", at(3, 15), bad, OnPace, 1, 0, 0.2},
		{"behind within the lead", at(4, 30), bad, Behind, 1, 0, 0.1},
		{"missed", at(6, 30), bad, Missed, 1, 0, 0},
		{"missed, and looked at on Thursday at midnight less a minute", at(23, 59), bad, Missed, 1, 0, 0},
	} {
		v := p.Now(c.now, lead, c.list)
		if v.Standing != c.want || v.Have != c.have || v.Probability < c.above || v.Probability > c.below {
			t.Errorf("%s: %+v", c.name, v)
		}
	}
	if v := p.Now(at(6, 29)+4*86400, lead, good); v.Standing != Met && v.Standing != Missed {
		t.Errorf("on Sunday the last window counts: %+v", v)
	}
	if from, to, ok := p.Next(time.Date(2026, 6, 19, 8, 0, 0, 0, p.Zone).Unix()); !ok || time.Unix(to,
		0).In(p.Zone).Format("Mon 15:04") != "Mon 06:30" || from >= to {
		t.Errorf("after Friday morning the next window ends %v", time.Unix(to, 0).In(p.Zone))
	}
}

func TestDaysOffAreNotMissed(t *testing.T) {
	p := manifests(t)
	p.Off = func(day time.Time) bool { return day.Day() == 16 }
	from := time.Date(2026, 6, 13, 0, 0, 0, 0, p.Zone)
	past := p.Past(from.Unix(), from.AddDate(0, 0, 7).Unix(), nil)
	var days []int
	for _, v := range past {
		if v.Standing != Missed {
			t.Errorf("nothing came, and %v is %s", v.Day, v.Standing)
		}
		days = append(days, v.Day.Day())
	}
	if len(days) != 4 || days[0] != 15 || days[1] != 17 {
		t.Errorf("judged days %v, want 15, 17, 18, 19", days)
	}
}

func TestAWindowOverMidnightAndAChangeOfClocks(t *testing.T) {
	zone := halifax(t)
	p := Promise{AtLeast: 1, Days: [7]bool{true, true, true, true, true, true, true}, From: 22 * 60, To: 30 * 60, Zone: zone}
	day := time.Date(2026, 10, 31, 0, 0, 0, 0, zone) // clocks go back that night
	from, to := p.window(day)
	if got := time.Unix(to, 0).In(zone).Format("2 15:04"); got != "1 06:00" || to-from != 9*3600 {
		t.Errorf("the window ends %s after %d s", got, to-from)
	}
	v := p.Now(time.Date(2026, 11, 1, 3, 0, 0, 0, zone).Unix(), time.Hour, []Delivered{{from + 60, 1}})
	if v.Standing != Met || !v.Day.Equal(day) {
		t.Errorf("at three in the morning the window of the evening before counts: %+v", v)
	}
}

// The stated probabilities are compared with what then came: rows arrive at an
// uneven rate, days differ in size, and three in ten are damaged at noon.
func TestStatedProbabilitiesComeTrue(t *testing.T) {
	zone := time.UTC
	p := Promise{AtLeast: 90, Days: [7]bool{true, true, true, true, true, true, true}, From: 0, To: 22 * 60, Zone: zone}
	var brier, base, sum float64
	var low, lowMet, n float64
	for seed := range uint64(60) {
		rng := rand.New(rand.NewPCG(seed, 9))
		start := time.Date(2026, 1, 1, 0, 0, 0, 0, zone)
		var list []Delivered
		for d := range 70 {
			size := 100 * math.Exp(0.08*rng.NormFloat64())
			broken := rng.Float64() < 0.3
			for hour := range 24 {
				if broken && hour >= 10 && hour < 20 {
					continue
				}
				list = append(list, Delivered{start.AddDate(0, 0, d).Unix() + int64(hour)*3600,
					size * (1 + math.Sin(float64(hour)/24*math.Pi)) / 39.2})
			}
		}
		for d := 60; d < 70; d++ {
			day := start.AddDate(0, 0, d)
			now := day.Unix() + 15*3600
			v := p.Now(now, 0, list)
			met := 0.0
			if p.Past(day.Unix(), day.Unix()+86400, list)[0].Standing == Met {
				met = 1
			}
			brier += (v.Probability - met) * (v.Probability - met)
			sum += met
			n++
			if v.Probability < 0.2 {
				low++
				lowMet += met
			}
		}
	}
	share := sum / n
	base = share * (1 - share)
	if brier/n > 0.6*base {
		t.Errorf("Brier score %.3f at 15:00, the base rate gives %.3f", brier/n, base)
	}
	if low == 0 || lowMet/low > 0.25 {
		t.Errorf("of %.0f days given less than 0.2, %.2f were met", low, lowMet/low)
	}
}

func TestAPromiseThatCannotBeIsRefused(t *testing.T) {
	good := manifests(t)
	for name, change := range map[string]func(*Promise){
		"nothing":           func(p *Promise) { p.AtLeast = 0 },
		"not a number":      func(p *Promise) { p.AtLeast = math.NaN() },
		"no day":            func(p *Promise) { p.Days = [7]bool{} },
		"ends at start":     func(p *Promise) { p.To = p.From },
		"longer than a day": func(p *Promise) { p.To = p.From + 24*60 + 1 },
		"begins tomorrow":   func(p *Promise) { p.From, p.To = 1440, 1500 },
	} {
		p := good
		change(&p)
		if p.Check() == nil {
			t.Errorf("%s is taken", name)
		}
	}
	if err := good.Check(); err != nil {
		t.Error(err)
	}
}
