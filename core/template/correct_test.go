package template

import (
	"errors"
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
)

// again restores a miner from what is kept of it.
func again(m *Miner) *Miner {
	var kept []Saved
	for _, t := range m.Everything() {
		if s, ok := t.Save(); ok {
			kept = append(kept, s)
		}
	}
	return Restore(m.Most, m.Next(), kept)
}

// What a person corrects holds: for the lines that follow, and over a restart.
func TestCorrectionsHold(t *testing.T) {
	number := func(m *Miner, line string) int { return m.Take([]byte(line)).Number() }
	fresh := func() *Miner {
		m := NewMiner(100)
		for i := range 20 {
			number(m, fmt.Sprintf("gate %d opened by keeper", i))
			number(m, fmt.Sprintf("gate %d closed by keeper", i))
		}
		return m
	}
	t.Run("two are joined, and what differs varies", func(t *testing.T) {
		m := fresh()
		stays, err := m.Join(2, 1)
		if err != nil || stays != 1 {
			t.Fatal(stays, err)
		}
		for range 2 {
			for _, word := range []string{"opened", "closed", "jammed"} {
				if n := number(m, "gate 7 "+word+" by keeper"); n != 1 {
					t.Errorf("%s is of %d", word, n)
				}
			}
			m = again(m)
		}
	})
	t.Run("two of different shape are joined, and stay what they say", func(t *testing.T) {
		m := fresh()
		n := number(m, "the keeper has opened a gate, he says")
		if stays, err := m.Join(n, 1); err != nil || stays != 1 {
			t.Fatal(stays, err)
		}
		for range 2 {
			if n := number(m, "the keeper has opened a gate, he says"); n != 1 {
				t.Errorf("it is of %d", n)
			}
			if n := number(m, "gate 7 closed by keeper"); n != 2 {
				t.Errorf("another is of %d", n)
			}
			m = again(m)
		}
	})
	t.Run("a word varies", func(t *testing.T) {
		m := NewMiner(100)
		n := number(m, "gate 7 opened by keeper")
		if err := m.Varying(n, 2); err != nil {
			t.Fatal(err)
		}
		for range 2 {
			if got := number(m, "gate 9 jammed by keeper"); got != n {
				t.Errorf("jammed is of %d", got)
			}
			m = again(m)
		}
	})
	t.Run("a word is held against a crowd", func(t *testing.T) {
		m := fresh()
		if held, err := m.Hold(1, 2, ""); err != nil || held != 1 {
			t.Fatal(held, err)
		}
		for i := range 40 {
			number(m, fmt.Sprintf("gate 7 %c%c by keeper", 'a'+i%26, 'a'+i/3))
		}
		for range 2 {
			if n := number(m, "gate 7 opened by keeper"); n != 1 {
				t.Errorf("opened is of %d", n)
			}
			if n := number(m, "gate 7 stuck by keeper"); n == 1 {
				t.Error("another word is of it too")
			}
			m = again(m)
		}
	})
	t.Run("a value is held where others vary", func(t *testing.T) {
		m := fresh()
		held, err := m.Hold(1, 1, "13")
		if err != nil || held == 1 {
			t.Fatal(held, err)
		}
		for range 2 {
			for range 40 {
				if n := number(m, "gate 13 opened by keeper"); n != held {
					t.Fatalf("gate 13 is of %d", n)
				}
				if n := number(m, "gate 14 opened by keeper"); n != 1 {
					t.Fatalf("gate 14 is of %d", n)
				}
			}
			m = again(m)
		}
	})
	t.Run("what cannot be is refused", func(t *testing.T) {
		m := fresh()
		if _, err := m.Join(1, 99); !errors.Is(err, ErrNoTemplate) {
			t.Error(err)
		}
		if err := m.Varying(1, 99); !errors.Is(err, ErrNoPart) {
			t.Error(err)
		}
		if _, err := m.Hold(1, 2, "closed"); !errors.Is(err, ErrNoPart) {
			t.Error(err)
		}
		if _, err := m.Hold(1, 1, "two words"); !errors.Is(err, ErrNoPart) {
			t.Error(err)
		}
	})
}

// What stood in a part is summed up in bounded space: frequent values, how many differ
// and quantiles are as a sort of all values gives them, and sums of halves add up.
func TestValuesAreSummedUp(t *testing.T) {
	rng := rand.New(rand.NewPCG(19, 1))
	whole, halves := NewValues(), [2]*Values{NewValues(), NewValues()}
	keep := func(b []byte) []byte { return b }
	count := map[string]int64{}
	var numbers []float64
	const n = 50_000
	for i := range n {
		x := math.Floor(math.Exp(4 + 1.5*rng.NormFloat64()))
		text := []byte(fmt.Sprintf("%.0fms", x))
		if rng.IntN(5) == 0 {
			x, text = 250, []byte("250ms")
		}
		numbers = append(numbers, x/1000)
		count[string(text)]++
		whole.Add(Number, text, keep)
		halves[i%2].Add(Number, text, keep)
	}
	halves[0].Merge(halves[1])
	slices.Sort(numbers)
	for name, v := range map[string]*Values{"at once": whole, "halves": halves[0]} {
		if d := float64(v.Distinct()); math.Abs(d/float64(len(count))-1) > 0.2 {
			t.Errorf("%s: %.0f differ, %d do", name, d, len(count))
		}
		for _, q := range []float64{.1, .5, .9, .99} {
			if got, want := v.Quantile(q), numbers[int(math.Ceil(q*n))-1]; math.Abs(got/want-1) > .03 {
				t.Errorf("%s: the %g-quantile is %g, want %g", name, q, got, want)
			}
		}
		if top := v.Top(3); top[0].Value != "250ms" || top[0].Lines > count["250ms"] ||
			float64(top[0].Lines) < float64(count["250ms"])-n/33 {
			t.Errorf("%s: most frequent %v, %d came", name, top, count["250ms"])
		}
		if len(v.Frequent) > mostCounted || len(v.Bounds) > mostBounds || v.Lines != n {
			t.Errorf("%s: %d values and %d bounds are held of %d lines", name, len(v.Frequent), len(v.Bounds), v.Lines)
		}
	}
}

func TestQuantitiesAreRead(t *testing.T) {
	for text, want := range map[string]float64{"12": 12, "-3.5": -3.5, "1,234": 1234, "35ms": .035, "1m30s": 90, "2.5MB": 2.5e6,
		"1KiB": 1024, "85%": 85, "1e3": 1000, "12rows": 12} {
		if got, ok := quantity([]byte(text)); !ok || math.Abs(got-want) > 1e-9*math.Abs(want) {
			t.Errorf("%s: %v %v, want %v", text, got, ok, want)
		}
	}
	if _, ok := quantity([]byte("ms")); ok {
		t.Error("a unit alone is no quantity")
	}
}

// Secrets that their name tells are kept nowhere: neither in a template's parts nor in
// the values of parts; what a person adds is masked as they are.
func TestSecretsStayNowhere(t *testing.T) {
	added, err := NewMasker([]string{"passenger", `/berth-\d+/`})
	if err != nil {
		t.Fatal(err)
	}
	m := NewMiner(100)
	m.Masker = added
	values := NewValues()
	var parts []PlaceOf
	for i := range 60 {
		line := []byte(fmt.Sprintf("INFO login password=hunter%d secret: opensesame token: Hun7er passenger Annabel berth-%d of gate %d", i%7, i, i))
		tpl := m.Take(line)
		for _, p := range m.Vary(tpl, parts) {
			values.Add(p.Kind, line[p.From:p.To], added.Mask)
		}
		kept := string(added.Mask(line)) + " " + tpl.String()
		for _, s := range m.Templates() {
			saved, _ := s.Save()
			kept += fmt.Sprint(saved.Places)
		}
		for value := range values.Frequent {
			kept += " " + value
		}
		for _, secret := range []string{"hunter", "opensesame", "Hun7er", "Annabel", "berth-"} {
			if strings.Contains(kept, secret) {
				t.Fatalf("%q is kept: %s", secret, kept)
			}
		}
	}
	if d := values.Distinct(); d < 48 || d > 72 {
		t.Errorf("of the sixty gates %d differ", d)
	}
	for _, wrong := range []string{"", "two words", "/(/"} {
		if _, err := NewMasker([]string{wrong}); err == nil {
			t.Errorf("%q is taken", wrong)
		}
	}
}
