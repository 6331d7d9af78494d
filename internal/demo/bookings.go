package demo

import (
	"math"
	"math/rand/v2"
	"time"
)

// Days of the past on which what is scored changes: more and more bookings come
// either on the day or some days ahead, and a new version of the model takes over.
const (
	leadChanges   = 85
	newVersion    = 88
	shadowFrom    = 81 // the new version scores one in twenty bookings beside the old
	relationWorse = 98 // the wind of autumn: who does not show up is foretold less well
)

// bookings are the features that a booking was scored on, the model's answer, and
// whether the passenger did not show up, once that is known.
func bookings(w *World, rng *rand.Rand, at time.Time, emit func(int, time.Time, ...any)) {
	day := int(at.Sub(w.Start()) / (24 * time.Hour))
	for i := range draw(rng, w.rate("ml.noshow_features", 0, at)*w.volume("ml.noshow_features", 0, at)) {
		b := w.book(rng, day, at)
		event := at.Add(time.Duration(rng.Float64() * 3600 * float64(time.Second))).Truncate(time.Millisecond)
		sailing := event.Add(time.Duration(b.lead * float64(time.Hour)))
		number := int(at.Unix()/3600%100000)*200 + i
		var lead any = float32(b.lead)
		if rng.Float64() < 0.01 {
			lead = nil
		}
		var came any
		if sailing.Before(w.AsOf) {
			came = rng.Float64() < b.truth(day)
		}
		scored := func(version string, score float64) {
			emit(0, event, number, lead, b.fare, b.party, b.channel, b.route, b.kind, float32(b.since), b.before, b.weather,
				sailing.Truncate(time.Minute), b.vehicle, float32(score), version, came)
		}
		switch {
		case day >= newVersion:
			scored("v4", b.second(rng))
		default:
			scored("v3", b.first(rng))
			if day >= shadowFrom && rng.Float64() < 0.05 {
				scored("v4", b.second(rng))
			}
		}
	}
}

// booking is what is known of one.
type booking struct {
	lead, since   float64
	fare, party   int
	before        int
	channel, kind any
	route         string
	weather       string
	vehicle       bool
}

// weather on a route, for four hours.
func (w *World) weather(route string, at time.Time) string {
	kinds := []string{"calm", "breeze", "calm", "breeze", "wind", "fog"}
	return kinds[w.hash("weather "+route, at.Unix()/(4*3600))%uint64(len(kinds))]
}

// book draws a booking; each day wobbles a little by itself.
func (w *World) book(rng *rand.Rand, day int, at time.Time) booking {
	wobble := func(name string) float64 { return w.normal("booking "+name, int64(day)) }
	b := booking{lead: rng.ExpFloat64() * 50 * math.Exp(0.06*wobble("lead")), since: rng.ExpFloat64() * 40 * math.Exp(0.05*wobble("since"))}
	if rng.Float64() < float64(day-leadChanges+10)/75 && day >= leadChanges {
		// More and more either on the day, or four to six days ahead.
		if b.lead = rng.ExpFloat64() * 9; rng.Float64() < 0.45 {
			b.lead = 96 + 48*rng.Float64()
		}
	}
	b.channel, b.kind = channels[pick(rng, chShare)], passenger(rng, 0.008)
	b.party = 1 + draw(rng, 1.1)
	b.vehicle = rng.Float64() < 0.3+0.05*float64(min(b.party, 4))
	b.fare = int(float64(1400+300*b.party) * math.Exp(0.25*rng.NormFloat64()+0.03*wobble("fare")))
	if b.vehicle {
		b.fare += 3200
	}
	b.route = routes[min(len(routes)-1, int(float64(len(routes))*math.Pow(rng.Float64(), 1.3)))]
	b.before = draw(rng, 0.4)
	if b.weather = w.weather(b.route, at); b.weather == "wind" && rng.Float64() < 0.2 {
		b.vehicle = false
	}
	return b
}

func pick(rng *rand.Rand, shares []float64) int {
	x := rng.Float64()
	for i, s := range shares {
		if x -= s; x < 0 {
			return i
		}
	}
	return len(shares) - 1
}

// truth is the chance that nobody shows up; the two models each see a part of
// what it comes from.
func (b booking) truth(day int) float64 {
	x := -2.2 + 0.012*min(b.lead, 150) + 0.9*float64(min(b.before, 3)) - 0.5*float64(b.party-1)*0.4
	if b.vehicle {
		x -= 0.6
	}
	if day >= relationWorse {
		x = -1.5 + 0.35*(x+1.5)
	}
	return 1 / (1 + math.Exp(-x))
}

func (b booking) first(rng *rand.Rand) float64 {
	x := -2.1 + 0.012*min(b.lead, 150) + 0.85*float64(min(b.before, 3)) - 0.2*float64(b.party-1) + 0.3*rng.NormFloat64()
	return 1 / (1 + math.Exp(-x))
}

func (b booking) second(rng *rand.Rand) float64 {
	x := -2.0 + 0.012*min(b.lead, 150) + 0.9*float64(min(b.before, 3)) - 0.2*float64(b.party-1) + 0.2*rng.NormFloat64()
	if b.vehicle {
		x -= 0.6
	}
	return 1 / (1 + math.Exp(-x))
}
