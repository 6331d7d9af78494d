package benchmark

import (
	"tinbell/core/detect"
	"tinbell/core/replay"
	"tinbell/core/timeline"
)

// answers is how many questions about its past a person answers for each series.
const answers = 5

// asked gives the scenes as they are after a person has answered the first few
// questions about each one's past, one after another, rightly.
func asked(scenes []Scene, rule detect.Rule) ([]Scene, error) {
	told := make([]Scene, len(scenes))
	copy(told, scenes)
	err := each(len(told), func(i int) error {
		s := &told[i]
		for range answers {
			job := replay.Job{Config: s.Config, Rule: rule, History: s.History, Exclusions: s.Exclusions, From: s.From}
			doubts, err := replay.Doubts([]replay.Job{job}, 1)
			if err != nil || len(doubts) == 0 {
				return err
			}
			fault, span := false, timeline.Span{From: doubts[0].From, To: doubts[0].To}
			for _, p := range s.Past {
				if p.From < span.To && span.From < p.To {
					fault = true
					s.Exclusions = append(s.Exclusions[:len(s.Exclusions):len(s.Exclusions)], replay.Exclusion{Span: p, Known: s.From})
				}
			}
			if !fault {
				s.Exclusions = append(s.Exclusions[:len(s.Exclusions):len(s.Exclusions)],
					replay.Exclusion{Span: span, Known: s.From, Ordinary: true})
			}
		}
		return nil
	})
	return told, err
}
