// Package words writes figures as people say them, the same in sentences and
// in tables.
package words

import (
	"fmt"
	"math"
	"strconv"
	"strings"
	"time"
)

// Duration writes a duration with its two largest units.
func Duration(d time.Duration) string {
	switch {
	case d < 2*time.Minute:
		return fmt.Sprintf("%.0f s", d.Seconds())
	case d < 2*time.Hour && d != time.Hour:
		return fmt.Sprintf("%.0f min", d.Minutes())
	case d < 48*time.Hour && d%time.Hour == 0:
		return fmt.Sprintf("%d h", int(d.Hours()))
	case d < 48*time.Hour:
		return fmt.Sprintf("%d h %02d min", int(d.Hours()), int(d.Minutes())%60)
	case d < 365*24*time.Hour:
		return fmt.Sprintf("%.0f d", d.Hours()/24)
	}
	return strconv.FormatFloat(math.Round(d.Hours()/24/36.5)/10, 'f', -1, 64) + " y"
}

// Seconds is Duration of a number of seconds.
func Seconds(s float64) string { return Duration(time.Duration(s * float64(time.Second))) }

// Number writes a value with thousands commas and as many digits as tell
// something; the minus is a true one.
func Number(x float64) string {
	if math.Abs(x) < 10 && x != math.Trunc(x) {
		return fmt.Sprintf("%.1f", x)
	}
	text := fmt.Sprintf("%.0f", math.Abs(x))
	for i := len(text) - 3; i > 0; i -= 3 {
		text = text[:i] + "," + text[i:]
	}
	if x < 0 {
		text = "−" + text
	}
	return text
}

// Bytes writes a size with the unit that leaves two or three digits.
func Bytes(n float64) string {
	for _, unit := range []string{"B", "kB", "MB", "GB"} {
		if n < 1000 {
			return Number(math.Round(n*10)/10) + " " + unit
		}
		n /= 1000
	}
	return Number(math.Round(n*10)/10) + " TB"
}

// Percent writes a share.
func Percent(share float64) string {
	p := share * 100
	if p != 0 && math.Abs(p) < 10 {
		return fmt.Sprintf("%.1f %%", p)
	}
	return fmt.Sprintf("%.0f %%", p)
}

// Apart writes two shares with as many digits as it takes to tell them apart, up to
// five.
func Apart(a, b float64) (string, string) {
	x, y := Percent(a), Percent(b)
	for digits := 2; x == y && a != b && digits <= 5; digits++ {
		x, y = fmt.Sprintf("%.*f %%", digits, a*100), fmt.Sprintf("%.*f %%", digits, b*100)
	}
	return x, y
}

var small = [...]string{"No", "One", "Two", "Three", "Four", "Five", "Six", "Seven", "Eight", "Nine", "Ten", "Eleven", "Twelve"}

// Opening writes a number as a sentence opens with it: as a word, up to twelve.
func Opening(n int) string {
	if n >= 0 && n < len(small) {
		return small[n]
	}
	return strconv.Itoa(n)
}

// Plural writes a number with its noun: one alarm, two alarms.
func Plural(n int, noun string) string {
	if n == 1 {
		return "1 " + noun
	}
	if strings.HasSuffix(noun, "ch") {
		noun += "e"
	}
	return strconv.Itoa(n) + " " + noun + "s"
}

// List joins parts as people do: a, b and c.
func List(parts []string) string {
	switch n := len(parts); n {
	case 0:
		return ""
	case 1:
		return parts[0]
	default:
		return strings.Join(parts[:n-1], ", ") + " and " + parts[n-1]
	}
}

// Rare says a return period in seconds in words: how often by chance.
func Rare(seconds float64) string {
	d := time.Duration(min(seconds, 9e9)) * time.Second
	switch days := d.Hours() / 24; {
	case days < 2:
		return "about once in " + Duration(d)
	case days < 730:
		return fmt.Sprintf("about once in %.0f days", days)
	default:
		return fmt.Sprintf("about once in %.0f years", days/365)
	}
}
