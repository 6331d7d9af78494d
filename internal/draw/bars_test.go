package draw

import "testing"

func TestBarsShowTheLargestFullAndNothingEmpty(t *testing.T) {
	for _, c := range []struct {
		counts  []int64
		columns int
		want    string
	}{
		{[]int64{0, 8, 4, 1, 0}, 9, " █▄▁ "},
		{[]int64{0, 1, 100_000}, 3, " ▁█"},
		{[]int64{1, 1, 2, 2, 0}, 3, "▄█ "},
		{nil, 5, ""},
		{[]int64{0, 0}, 2, "  "},
	} {
		if got := Bars(c.counts, c.columns); got != c.want {
			t.Errorf("%v on %d columns: %q, want %q", c.counts, c.columns, got, c.want)
		}
	}
	if Bar(0.001, 10) != "█" || Bar(0, 10) != "" || Bar(2, 4) != "████" {
		t.Error("a bar that lies is wrong")
	}
}
