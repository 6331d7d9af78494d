package compare

import (
	"time"

	"tinbell/core/drift"
	"tinbell/core/timeline"
	"tinbell/internal/record"
)

// PeriodOf gives the local day, week (from Monday) or month that an instant lies
// in.
func PeriodOf(period string, unix int64, zone *time.Location) timeline.Span {
	y, m, d := time.Unix(unix, 0).In(zone).Date()
	date := func(y int, m time.Month, d int) int64 { return time.Date(y, m, d, 0, 0, 0, 0, zone).Unix() }
	switch period {
	case "day":
		return timeline.Span{From: date(y, m, d), To: date(y, m, d+1)}
	case "month":
		return timeline.Span{From: date(y, m, 1), To: date(y, m+1, 1)}
	}
	monday := d - (int(time.Date(y, m, d, 0, 0, 0, 0, zone).Weekday())+6)%7
	return timeline.Span{From: date(y, m, monday), To: date(y, m, monday+7)}
}

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

// blocks are the counts of each feature in the stretches that a reference's
// wobble is learned from: spans as long as a period if it holds five of them
// whole, else days.
func blocks(days []Day, period string, zone *time.Location) (list [][]Day) {
	if len(days) == 0 {
		return nil
	}
	spans := map[timeline.Span][]Day{}
	var order []timeline.Span
	first, last := days[0].At, days[len(days)-1].At
	for _, d := range days {
		s := PeriodOf(period, d.At, zone)
		if s.From < first || s.To > last+86400+2*3600 {
			continue // cut off by an end of the reference
		}
		if spans[s] == nil {
			order = append(order, s)
		}
		spans[s] = append(spans[s], d)
	}
	if len(order) < drift.MinBlocks {
		for _, d := range days {
			list = append(list, []Day{d})
		}
		return list
	}
	for _, s := range order {
		list = append(list, spans[s])
	}
	if rest := len(days) - total(list); rest > 0 {
		// Days at the ends belong to the reference too, as a block of their own.
		var cut []Day
		for _, d := range days {
			if s := PeriodOf(period, d.At, zone); spans[s] == nil {
				cut = append(cut, d)
			}
		}
		list = append(list, cut)
	}
	return list
}

func total(list [][]Day) (n int) {
	for _, days := range list {
		n += len(days)
	}
	return n
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
func modelled(score *drift.Layout, days []Day) map[string]*ModelDay {
	sums := map[string]*ModelDay{}
	for _, d := range days {
		for version, m := range d.Models {
			if sums[version] == nil {
				sums[version] = newModelDay(score)
			}
			sums[version].join(m)
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
		return span, false, record.Invalid{Field: "reference_from", Given: s.ReferenceFrom, Allowed: "a day as 2026-08-01, and reference_to with it"}
	}
	to, err := time.ParseInLocation(time.DateOnly, s.ReferenceTo, zone)
	if err != nil || to.Before(from) {
		return span, false, record.Invalid{Field: "reference_to", Given: s.ReferenceTo, Allowed: "a day from " + s.ReferenceFrom + " on, as 2026-08-28"}
	}
	return timeline.Span{From: from.Unix(), To: to.AddDate(0, 0, 1).Unix()}, true, nil
}
