package detect

// year remembers the statistics of daily series for two years and a bit, of those of
// longer periods for longer, so that what comes every year (a fiscal close, a season's first day) alarms in
// the first year only.
type year struct {
	Day []int32      // days since 1970, ascending
	U   [2][]float32 // by side
}

const (
	yearMemory = 745
	yearReach  = 7 // days around the same date
)

func (y *year) note(at int64, u [2]float64) {
	y.Day = append(y.Day, int32(at/86400))
	for s := range 2 {
		y.U[s] = append(y.U[s], float32(u[s]))
	}
	if len(y.Day) > yearMemory+100 {
		y.Day = y.Day[100:]
		for s := range 2 {
			y.U[s] = y.U[s][100:]
		}
	}
}

// recurs tells whether the side deviated about as much around the same date one
// or two years ago: near the threshold, and more than half of what it does now.
func (y *year) recurs(at int64, side int, threshold, now float64) bool {
	day := int32(at / 86400)
	if len(y.Day) == 0 || day-y.Day[0] < 358 {
		return false
	}
	for i, then := range y.Day {
		for _, back := range []int32{365, 730} {
			if d := day - back - then; d >= -yearReach && d <= yearReach && float64(y.U[side][i]) > max(0.8*threshold, 0.6*now) {
				return true
			}
		}
	}
	return false
}
