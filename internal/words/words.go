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

// Period is Duration of the period of a metric; those longer than a day are the calendar's.
func Period(d time.Duration) string {
	switch days := d / (24 * time.Hour); days {
	case 7:
		return "1 week"
	case 30:
		return "1 month"
	case 365:
		return "1 year"
	}
	return Duration(d)
}

// Seconds is Duration of a number of seconds.
func Seconds(s float64) string { return Duration(time.Duration(s * float64(time.Second))) }

// Number writes a value with thousands commas and as many digits as tell
// something; the minus is a true one.
func Number(x float64) string {
	if math.Abs(x) < 10 && x != math.Trunc(x) {
		return fmt.Sprintf("%.1f", x)
	}
	text := group(fmt.Sprintf("%.0f", math.Abs(x)))
	return sign(x) + text
}

func sign(x float64) string {
	if x < 0 {
		return "−"
	}
	return ""
}

// group sets thousands commas.
func group(digits string) string {
	for i := len(digits) - 3; i > 0; i -= 3 {
		digits = digits[:i] + "," + digits[i:]
	}
	return digits
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
	switch {
	case p != 0 && math.Abs(p) < 0.1:
		return strconv.FormatFloat(p, 'f', 1-int(math.Floor(math.Log10(math.Abs(p))))-1, 64) + " %"
	case p != 0 && math.Abs(p) < 10:
		return fmt.Sprintf("%.1f %%", p)
	}
	return fmt.Sprintf("%.0f %%", p)
}

// Odds writes a probability that was reckoned: none is surer than its reckoning.
func Odds(p float64) string {
	switch {
	case p < 0.001:
		return "under 0.1 %"
	case p > 0.999:
		return "over 99.9 %"
	}
	return Percent(p)
}

// Apart writes two shares with as many digits as it takes to tell them apart.
func Apart(a, b float64) (string, string) {
	return apart(a, b, Percent, func(x float64, digits int) string { return fmt.Sprintf("%.*f %%", digits+1, x*100) })
}

// NumbersApart writes two values with as many digits as it takes to tell them apart.
func NumbersApart(a, b float64) (string, string) {
	return apart(a, b, Number, func(x float64, digits int) string {
		text := strconv.FormatFloat(math.Abs(x), 'f', digits, 64)
		whole, rest, _ := strings.Cut(text, ".")
		return sign(x) + group(whole) + "." + rest
	})
}

// SecondsApart writes two durations with as many digits as it takes to tell them
// apart, in the unit of the longer one.
func SecondsApart(a, b float64) (string, string) {
	unit, in := " s", 1.0
	switch most := max(math.Abs(a), math.Abs(b)); {
	case most >= 48*3600:
		unit, in = " d", 86400
	case most >= 2*3600:
		unit, in = " h", 3600
	case most >= 120:
		unit, in = " min", 60
	}
	return apart(a, b, Seconds, func(x float64, digits int) string { return strconv.FormatFloat(x/in, 'f', digits, 64) + unit })
}

// apart writes two values as say does or, where that is the same, with more digits.
func apart(a, b float64, say func(float64) string, finer func(x float64, digits int) string) (string, string) {
	x, y := say(a), say(b)
	for digits := 1; x == y && a != b && digits <= 9; digits++ {
		x, y = finer(a, digits), finer(b, digits)
	}
	return x, y
}

var small = [...]string{"No", "One", "Two", "Three", "Four", "Five", "Six", "Seven", "Eight", "Nine", "Ten", "Eleven", "Twelve"}

// Opening writes a number as a sentence opens with it: as a word, up to twelve.
func Opening(n int) string {
	if n >= 0 && n < len(small) {
		return small[n]
	}
	return grouped(n)
}

// Agree writes a number with what agrees with it: one alert is, two alerts are.
func Agree(n int, one, more string) string {
	if n == 1 {
		return "one " + one
	}
	return grouped(n) + " " + more
}

// grouped writes a whole number with its thousands apart.
func grouped(n int) string {
	if n < 0 {
		return "-" + group(strconv.Itoa(-n))
	}
	return group(strconv.Itoa(n))
}

// Plural writes a number with its noun: one alarm, two alarms.
func Plural(n int, noun string) string {
	if n == 1 {
		return "1 " + noun
	}
	if strings.HasSuffix(noun, "ch") {
		noun += "e"
	}
	return grouped(n) + " " + noun + "s"
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
