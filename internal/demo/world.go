// Package demo is Vellamar Ferries: an invented ferry line whose warehouse can
// be watched. It generates the past, feeds the present, breaks things on
// request, and sets the service up through its API as a person would. The
// service never sees the generator.
package demo

import (
	"hash/fnv"
	"math"
	"math/rand/v2"
	"time"
)

// History is how far back the demo's past reaches.
const History = 16 * 7 * 24 * time.Hour

const zoneName = "America/Halifax"

// World is one invented past: the same seed and time give the same rows.
type World struct {
	Seed    uint64
	AsOf    time.Time // the past ends here, a full hour
	Zone    *time.Location
	Effects []Effect
	Faults  []Fault
	Events  []Event
	events  map[int]Event        // holidays by local date
	byTable map[string][]*Effect // effects by table
}

// NewWorld makes the world of a seed whose past ends at the hour of asOf.
func NewWorld(seed uint64, asOf time.Time) (*World, error) {
	zone, err := time.LoadLocation(zoneName)
	if err != nil {
		return nil, err
	}
	w := &World{Seed: seed, AsOf: asOf.UTC().Truncate(time.Hour), Zone: zone}
	w.plan()
	return w, nil
}

// Start is when the past begins.
func (w *World) Start() time.Time { return w.AsOf.Add(-History) }

var (
	ports    = []string{"Ansby", "Cald", "Dunmarrow", "Esk Point", "Fennick", "Gullstone", "Hallow Bay", "Ives Landing", "Tarn Quay"}
	portSize = []float64{1.6, 0.7, 1.1, 0.6, 0.9, 1.8, 0.8, 0.5, 1.0}
	vessels  = []string{"Auk", "Brant", "Curlew", "Dovekie", "Eider", "Fulmar", "Gannet"}
	channels = []string{"web", "kiosk", "agent", "telephone"}
	chShare  = []float64{0.6, 0.2, 0.12, 0.08}
	partners = []string{"Brightwater", "Carrick", "Lowen", "Norrland Haul", "Pellow"}
	kinds    = []string{"adult", "adult", "adult", "adult", "child", "senior", "islander", "crew"}
	routes   = []string{"A1", "A2", "B1", "B2", "C1", "C2", "D1", "E1", "F1", "G1", "H1"}
)

// hash mixes names and numbers into 64 bits, so that noise can be looked up
// anywhere in time without generating what came before.
func (w *World) hash(name string, n int64) uint64 {
	h := fnv.New64a()
	h.Write([]byte(name))
	x := h.Sum64() ^ w.Seed*0x9e3779b97f4a7c15 ^ uint64(n)*0xbf58476d1ce4e5b9
	x ^= x >> 31
	x *= 0x94d049bb133111eb
	return x ^ x>>29
}

// normal is a standard normal looked up by name and number.
func (w *World) normal(name string, n int64) float64 {
	return rand.New(rand.NewPCG(w.hash(name, n), 77)).NormFloat64()
}

// wander is slow level noise: a line between six-hourly normals.
func (w *World) wander(name string, at time.Time, sd float64) float64 {
	const knot = 6 * 3600
	k := at.Unix() / knot
	f := float64(at.Unix()-k*knot) / knot
	return math.Exp(sd * (w.normal(name, k)*(1-f) + w.normal(name, k+1)*f))
}

// growth is the summer's: a quarter more by the end.
func (w *World) growth(at time.Time) float64 {
	return 1 + 0.25*float64(at.Sub(w.Start()))/float64(History)
}

func bump(h, centre, width float64) float64 {
	d := h - centre
	return math.Exp(-d * d / (2 * width * width))
}

// day says what shape a local day has: holidays are like Sundays.
func (w *World) weekday(local time.Time) time.Weekday {
	if _, there := w.holidays()[dateOf(local)]; there {
		return time.Sunday
	}
	return local.Weekday()
}

func dateOf(t time.Time) int { return t.Year()*10000 + int(t.Month())*100 + t.Day() }

// rate is the expected rows of a table's segment in the hour at, before faults.
func (w *World) rate(table string, segment int, at time.Time) float64 {
	local := at.In(w.Zone)
	h := float64(local.Hour()) + 0.5
	day := w.weekday(local)
	weekend := day == time.Saturday || day == time.Sunday
	switch table {
	case "ops.boarding_scans", "raw.gate_events":
		shape := 0.03 + 2.5*bump(h, 8, 1.5) + 0.7*bump(h, 12.5, 2) + 2.8*bump(h, 17, 1.7)
		if weekend {
			shape = 0.03 + 2.6*bump(h, 12.5, 3.2)
		}
		size := 20 * portSize[segment]
		if table == "raw.gate_events" {
			size *= 1.08
		}
		return size * shape * w.growth(at) * w.wander("boarding", at, 0.03) * w.wander(ports[segment], at, 0.03)
	case "ops.ticket_sales":
		return 110 * chShare[segment] * w.sales(h, day) * w.growth(at) * w.wander("sales", at,
			0.035) * w.wander(channels[segment], at, 0.025)
	case "raw.web_orders":
		return 110 * chShare[0] * 1.02 * w.sales(h, day) * w.growth(at) * w.wander("sales", at, 0.035) * w.wander("web", at, 0.025)
	case "ops.refunds":
		return 2.6 * (0.25 + 1.3*bump(h, 14, 4.5))
	case "ml.noshow_features":
		return 50 * (0.2 + 1.4*bump(h, 13, 5)) * w.growth(at) * w.wander("noshow", at, 0.04)
	}
	return 0
}

func (w *World) sales(h float64, day time.Weekday) float64 {
	shape := 0.08 + 0.9*bump(h, 12, 2.8) + 1.9*bump(h, 19.5, 2)
	switch day {
	case time.Friday:
		shape *= 1.35
	case time.Saturday:
		shape *= 0.85
	case time.Sunday:
		shape *= 0.95
	}
	return shape
}

// draw is a Poisson count (normal beyond 500).
func draw(rng *rand.Rand, mu float64) int {
	if mu <= 0 {
		return 0
	}
	if mu > 500 {
		return max(int(math.Round(mu+math.Sqrt(mu)*rng.NormFloat64())), 0)
	}
	limit, p, k := math.Exp(-mu), 1.0, 0
	for p = rng.Float64(); p > limit; k++ {
		p *= rng.Float64()
	}
	return k
}
