package baseline

import (
	"fmt"
)

// Part is one addend of an expected value, in the units of the series.
type Part struct {
	Name   string  `json:"name" doc:"level, hour, weekday, hour of the week, month of the year or calendar"`
	Amount float64 `json:"amount"`
}

// Explain splits the expected value of a period into parts that add up to it:
// the level, what the period of day adds, what the weekday adds, what this very
// slot of the week adds beyond both, and what the date changes: a holiday, the
// turn of the month, a yearly day.
func (m *Model) Explain(e Expectation, rows float64) []Part {
	back := func(y float64) float64 { return m.Back(y, rows) }
	var steps [4]float64
	if m.Family == Mult {
		unit := e.Level * e.Exposure / e.Turn
		steps = [4]float64{unit, unit * e.Parent, unit * e.Parent * e.Day, unit * e.Profile}
	} else {
		steps = [4]float64{e.Level, e.Level + e.Parent, e.Level + e.Parent + e.Day, e.Level + e.Profile}
	}
	names := [4]string{"level", "hour", e.weekday(), "hour of the week"}
	switch {
	case m.Long:
		names = [4]string{"level", "", "", "month of the year"}
	case m.PerDay == 1:
		names = [4]string{"level", "weekday or weekend", "", e.weekday()}
	}
	parts := make([]Part, 0, 5)
	last := 0.0
	for i, y := range steps {
		value := back(y)
		if names[i] != "" {
			parts = append(parts, Part{names[i], value - last})
		}
		if names[i] != "" || !m.Long {
			last = value
		}
	}
	if whole := back(e.Mu); whole != last {
		parts = append(parts, Part{"calendar", whole - last})
	}
	return parts
}

func (e *Expectation) weekday() string {
	return [...]string{"Sunday", "Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday"}[e.Slot.Day]
}

// Holiday widens an expectation for a holiday: values between the usual
// weekday and a Sunday (with room to 0.6 below and 1.15 above) count as
// expected, and the spread grows by half. x is the observed value; where it is
// missing the middle of the two is taken.
func (m *Model) Holiday(e *Expectation, x, rows float64, known bool) {
	sunday := e.Slot
	sunday.Week, sunday.Day, sunday.Class = sunday.Hour, 0, 1
	other := m.Expect(sunday, rows)
	lo, hi := min(e.Mu, other.Mu), max(e.Mu, other.Mu)
	if m.Family == Mult {
		lo, hi = lo*0.6, hi*1.15
	}
	e.Mu = (lo + hi) / 2
	if known {
		e.Mu = clamp(x, lo, hi)
	}
	e.Sigma = max(e.Sigma, other.Sigma) * 1.5
}

// TooShort says that a history cannot carry a baseline yet.
type TooShort struct{ Have, Need int }

func (t TooShort) Error() string {
	return fmt.Sprintf("history too short: %d samples, %d needed before a baseline can be fitted", t.Have, t.Need)
}

// Need is the number of present samples a first fit wants: three days of
// sub-daily periods, four weeks of daily ones, twelve longer ones; fixed bounds want none.
func Need(cfg Config) int {
	switch {
	case cfg.Method.Name == Fixed:
		return 0
	case cfg.Grid.Long():
		return 12
	case cfg.Grid.Daily():
		return 28
	}
	return 3 * cfg.Grid.PerDay()
}
