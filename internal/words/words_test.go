package words

import (
	"testing"
	"time"
)

func TestFiguresAreWrittenAsPeopleSayThem(t *testing.T) {
	for d, want := range map[time.Duration]string{90 * time.Second: "90 s", 40 * time.Minute: "40 min", 150 * time.Minute: "2 h 30 min",
		72 * time.Hour: "3 d", 365 * 24 * time.Hour: "1 y", 548 * 24 * time.Hour: "1.5 y"} {
		if got := Duration(d); got != want {
			t.Errorf("%s is written %q, want %q", d, got, want)
		}
	}
	for v, want := range map[float64]string{0: "0", 2.5: "2.5", 999: "999", 1234567: "1,234,567", -1500: "−1,500"} {
		if got := Number(v); got != want {
			t.Errorf("%g: %q, want %q", v, got, want)
		}
	}
	for v, want := range map[float64]string{12: "12 B", 8192: "8.2 kB", 1.25e8: "125 MB", 3e13: "30 TB"} {
		if got := Bytes(v); got != want {
			t.Errorf("%g bytes: %q, want %q", v, got, want)
		}
	}
	for v, want := range map[float64]string{0: "0 %", 0.012: "1.2 %", 0.384: "38 %", 1: "100 %"} {
		if got := Percent(v); got != want {
			t.Errorf("share %g: %q, want %q", v, got, want)
		}
	}
}

func TestASentenceOpensWithANumberAsAWord(t *testing.T) {
	for n, want := range map[int]string{0: "No", 2: "Two", 12: "Twelve", 13: "13", -1: "-1"} {
		if got := Opening(n); got != want {
			t.Errorf("%d opens a sentence as %q, wanted %q", n, got, want)
		}
	}
}

func TestListsAndNumbersOfThings(t *testing.T) {
	for want, got := range map[string]string{
		"1 alert": Plural(1, "alert"), "0 alerts": Plural(0, "alert"), "3 stretches": Plural(3, "stretch"),
		"": List(nil), "a": List([]string{"a"}), "a and b": List([]string{"a", "b"}), "a, b and c": List([]string{"a", "b", "c"}),
	} {
		if got != want {
			t.Errorf("%q, want %q", got, want)
		}
	}
}

func TestSharesThatDifferAreWrittenApart(t *testing.T) {
	for _, c := range []struct {
		a, b float64
		x, y string
	}{
		{0.25, 0.012, "25 %", "1.2 %"},
		{0.00712, 0.00698, "0.71 %", "0.70 %"},
		{0.5, 0.5, "50 %", "50 %"},
		{0.1234561, 0.1234569, "12.3456 %", "12.3457 %"},
	} {
		if x, y := Apart(c.a, c.b); x != c.x || y != c.y {
			t.Errorf("%g and %g are written %s and %s", c.a, c.b, x, y)
		}
	}
}
