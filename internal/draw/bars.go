package draw

import "strings"

// heights are the eighths of a bar that stands, from the block elements of Unicode.
var heights = []rune(" ▁▂▃▄▅▆▇█")

// Bars draws counts as bars of one line, at most so many columns, the largest full.
// Where anything is, something is drawn.
func Bars(counts []int64, columns int) string {
	if len(counts) == 0 || columns < 1 {
		return ""
	}
	each := (len(counts) + columns - 1) / columns
	var sums []int64
	most := int64(1)
	for from := 0; from < len(counts); from += each {
		sum := int64(0)
		for _, n := range counts[from:min(from+each, len(counts))] {
			sum += n
		}
		sums, most = append(sums, sum), max(most, sum)
	}
	var b strings.Builder
	for _, n := range sums {
		k := int(8 * n / most)
		if n > 0 {
			k = max(k, 1)
		}
		b.WriteRune(heights[k])
	}
	return b.String()
}

// Bar draws a share in [0, 1] of a bar that lies.
func Bar(share float64, columns int) string {
	n := int(share*float64(columns) + 0.5)
	if share > 0 {
		n = max(n, 1)
	}
	return strings.Repeat("█", min(n, columns))
}
