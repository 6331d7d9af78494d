package detect

import "fmt"

func (e *Evaluator) ZDebug() string {
	return fmt.Sprintf("u %.2f told %.2f warn %.2f z %.1f sil %.1f/%.1f N%d open %v", e.verdict.u, e.verdict.told, e.warn, e.Recent.last(0).Z, e.Silence.Odds.S, e.Silence.Odds.least, e.Silence.Odds.N, e.Open)
}
func (e *Evaluator) ZFit() string {
	s := ""
	for d := range 2 {
		m := &e.Maxima[d]
		s += fmt.Sprintf("side %d scale %.2f shift %.2f centre %.2f share %.2f fit %+v slope %.3f\n %.1f\n", d, e.Scales.Scale[d], e.Scales.Shift[d], e.Scales.Centre[d], m.share, m.All.fit, m.All.fit.slope(), m.All.Values)
	}
	return s + fmt.Sprintf("family %v phi %.3f spread %.3f choice %v rows %.1f\n", e.Model.Family, e.Model.Phi, e.Model.Spread, e.Model.Choice, e.Model.MeanRows)
}
