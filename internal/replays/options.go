package replays

import (
	"tinbell/internal/record"
	"tinbell/internal/words"
)

// option is a setting that tuning tries.
type option struct {
	settings record.Settings
	changes  []string
}

const day = int64(86400)

// optionsFor lists what is tried for a monitor, today's settings first: rarer
// and less rare, and at the same rarity one direction only, more persistence,
// smoothing, shorter windows; some of them together with a rarer threshold.
func optionsFor(today record.Settings) []option {
	list := []option{{settings: today}}
	warn := func(s *record.Settings, seconds int64) string {
		s.WarnSeconds = min(max(seconds, day), 100*365*day)
		s.CriticalSeconds = max(s.CriticalSeconds, s.WarnSeconds)
		return "warn once in " + words.Seconds(float64(s.WarnSeconds))
	}
	for _, factor := range []float64{1.0 / 3, 3, 10, 30, 100} {
		s := today
		said := warn(&s, int64(factor*float64(today.WarnSeconds)))
		if s.WarnSeconds != today.WarnSeconds {
			list = append(list, option{s, []string{said}})
		}
	}
	type shape struct {
		say    string
		change func(*record.Settings)
	}
	var shapes []shape
	if today.Of == 1 {
		shapes = append(shapes, shape{"2 of 3 periods must alarm", func(s *record.Settings) { s.Persist, s.Of = 2, 3 }})
	}
	if today.Direction == "both" {
		for _, d := range []string{"low", "high"} {
			shapes = append(shapes, shape{"only what is too " + d, func(s *record.Settings) { s.Direction = d }})
		}
	}
	if today.Smooth <= 1 {
		shapes = append(shapes, shape{"a moving median of 3 periods", func(s *record.Settings) { s.Smooth = 3 }})
	}
	if today.Sustained != "off" {
		shapes = append(shapes, shape{"small shifts over 6 periods at most", func(s *record.Settings) { s.Sustained = "off" }})
	}
	for _, shape := range shapes {
		s := today
		shape.change(&s)
		list = append(list, option{s, []string{shape.say}})
		said := warn(&s, 3*today.WarnSeconds)
		list = append(list, option{s, []string{shape.say, said}})
	}
	return list
}
