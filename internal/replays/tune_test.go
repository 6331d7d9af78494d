package replays

import (
	"reflect"
	"strings"
	"testing"

	"tinbell/core/tune"
	"tinbell/internal/record"
)

func TestAChoiceThatLosesKnownFaultsIsNotProposed(t *testing.T) {
	for name, c := range map[string]struct {
		choice int
		o      tune.Outlook
		g      record.Gain
		why    string
	}{
		"today's settings": {0, tune.Outlook{}, record.Gain{}, "nothing that was tried"},
		"spares nothing":   {1, tune.Outlook{Spared: 0.4}, record.Gain{}, "less than one"},
		"lost the only fault": {1, tune.Outlook{Spared: 20}, record.Gain{Noise: 16, NoiseSpared: 16, Faults: 1,
			FaultsLost: 1}, "lost 1 of 1 known fault"},
		"lost one of many": {1, tune.Outlook{Spared: 20}, record.Gain{Noise: 16, NoiseSpared: 16, Faults: 12,
			FaultsLost: 1}, ""},
		"spares none that is known":    {1, tune.Outlook{Spared: 5}, record.Gain{Noise: 4, Faults: 3}, "spared none of 4"},
		"nothing known, spares little": {1, tune.Outlook{Spared: 1.2}, record.Gain{Faults: 3}, "nothing is known"},
		"nothing known, spares much":   {1, tune.Outlook{Spared: 6}, record.Gain{Faults: 3}, ""},
		"finds a missed incident":      {1, tune.Outlook{Spared: -1}, record.Gain{Gained: []string{"I-7"}}, ""},
	} {
		if why := refuse(c.choice, c.o, c.g); (c.why == "") != (why == "") || !strings.Contains(why, c.why) {
			t.Errorf("%s: %q, want %q", name, why, c.why)
		}
	}
}

func TestEveryOptionIsOneThatCanBeFollowed(t *testing.T) {
	for _, change := range []func(*record.Settings){
		func(*record.Settings) {},
		func(s *record.Settings) { s.Direction = "high" },
		func(s *record.Settings) { s.WarnSeconds, s.CriticalSeconds = day, day },
		func(s *record.Settings) { s.WarnSeconds, s.CriticalSeconds = 100*365*day, 100*365*day },
		func(s *record.Settings) { s.Persist, s.Of, s.Smooth, s.Sustained = 3, 4, 5, "off" },
	} {
		today := record.DefaultSettings()
		change(&today)
		options := optionsFor(today)
		if len(options) < 5 || !reflect.DeepEqual(options[0].settings, today) || len(options[0].changes) != 0 {
			t.Fatalf("%d options, first %+v", len(options), options[0])
		}
		for _, o := range options[1:] {
			if err := o.settings.Rule(1).Check(); err != nil || reflect.DeepEqual(o.settings, today) || len(o.changes) == 0 {
				t.Errorf("%v: %v", o.changes, err)
			}
		}
	}
}
