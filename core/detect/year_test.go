package detect

import "testing"

// What comes every year is known by its date and its size: a fault on the same date that is
// several times as large is none of it, nor is one to the other side.
func TestWhatComesEveryYearIsAboutAsLarge(t *testing.T) {
	const day = 86400
	var y year
	for d := range int64(400) {
		u := [2]float64{}
		if d == 30 {
			u[high] = 4
		}
		y.note(d*day, u)
	}
	for _, c := range []struct {
		what string
		day  int64
		side int
		now  float64
		want bool
	}{
		{"as large, a year later", 395, high, 4, true},
		{"half as large again", 395, high, 6, true},
		{"five times as large", 395, high, 20, false},
		{"to the other side", 395, low, 4, false},
		{"three weeks off", 395 - 21, high, 4, false},
		{"in the first year", 200, high, 4, false},
	} {
		if got := y.recurs(c.day*day, c.side, 3, c.now); got != c.want {
			t.Errorf("%s: %v, want %v", c.what, got, c.want)
		}
	}
}
