package compare

import (
	"cmp"
	"time"

	"tinbell/core/drift"
	"tinbell/core/timeline"
	"tinbell/internal/record"
)

// lengths are those of the periods that are judged.
var lengths = map[string]time.Duration{"day": 24 * time.Hour, "month": timeline.Month} // else weeks

// PeriodOf gives the local day, week (from Monday) or month that an instant lies
// in.
func PeriodOf(period string, unix int64, zone *time.Location) timeline.Span {
	g := timeline.Grid{Period: cmp.Or(lengths[period], timeline.Week), Zone: zone}
	from := g.Floor(time.Unix(unix, 0))
	return timeline.Span{From: from.Unix(), To: g.Next(from).Unix()}
}

func overlap(a, b timeline.Span) bool { return a.From < b.To && b.From < a.To }

// within gives the days of a span, of days in ascending order.
func within(days []Day, s timeline.Span) []Day {
	from := 0
	for from < len(days) && days[from].At < s.From {
		from++
	}
	to := from
	for to < len(days) && days[to].At < s.To {
		to++
	}
	return days[from:to]
}

// blocks are the stretches of a reference that its wobble is learned from: days
// in a row, as many as a period has, fewer where that would make fewer than five
// blocks. What is left over belongs to the last.
func blocks(days []Day, period string) (list [][]Day) {
	each := map[string]int{"day": 1, "month": 30}[period]
	if each == 0 {
		each = 7
	}
	each = max(1, min(each, len(days)/drift.MinBlocks))
	for len(days) > 0 {
		n := each
		if len(days) < 2*each {
			n = len(days)
		}
		list = append(list, days[:n])
		days = days[n:]
	}
	return list
}

// counted adds up one feature of days.
func counted(l *drift.Layout, days []Day, feature int) drift.Counts {
	sum := drift.NewCounts(l)
	for i := range days {
		sum.Join(&days[i].Counts[feature])
	}
	return sum
}

// models adds up the versions of a model over days.
func modelled(score *drift.Layout, days []Day) map[string]*drift.VersionCounts {
	sums := map[string]*drift.VersionCounts{}
	for _, d := range days {
		for version, m := range d.Models {
			if sums[version] == nil {
				sums[version] = drift.NewVersionCounts(score)
			}
			sums[version].Join(m)
		}
	}
	return sums
}

func rowsOf(days []Day) (n int64) {
	for _, d := range days {
		most := int64(0)
		for i := range d.Counts {
			most = max(most, d.Counts[i].Rows)
		}
		n += most
	}
	return n
}

// span of the reference that settings name; ok is false if they name none.
func namedSpan(s record.ComparisonSettings, zone *time.Location) (span timeline.Span, ok bool, err error) {
	if s.ReferenceFrom == "" && s.ReferenceTo == "" {
		return everything, false, nil
	}
	from, err := time.ParseInLocation(time.DateOnly, s.ReferenceFrom, zone)
	if err != nil {
		return span, false, record.Invalid{Field: "reference_from", Given: s.ReferenceFrom,
			Allowed: "a day as 2026-08-01, and reference_to with it"}
	}
	to, err := time.ParseInLocation(time.DateOnly, s.ReferenceTo, zone)
	if err != nil || to.Before(from) {
		return span, false, record.Invalid{Field: "reference_to", Given: s.ReferenceTo, Allowed: "a day from " + s.ReferenceFrom +
			" on, as 2026-08-28"}
	}
	return timeline.Span{From: from.Unix(), To: to.AddDate(0, 0, 1).Unix()}, true, nil
}
