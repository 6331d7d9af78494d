package trial

import "time"

// stretch is how a period length is tried: days of history, days judged, and
// how many periods in a row the patient rivals wait for.
type stretch struct {
	Period       time.Duration
	Learn, Judge int
	InRow        int
}

var stretches = []stretch{
	{time.Hour, 56, 28, 2},
	{15 * time.Minute, 42, 14, 2},
	{5 * time.Minute, 42, 14, 3},
	{24 * time.Hour, 182, 91, 2},
}
