package calendar

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/rickar/cal/v2"
	"github.com/rickar/cal/v2/ar"
	"github.com/rickar/cal/v2/at"
	"github.com/rickar/cal/v2/au"
	"github.com/rickar/cal/v2/be"
	"github.com/rickar/cal/v2/bg"
	"github.com/rickar/cal/v2/br"
	"github.com/rickar/cal/v2/ca"
	"github.com/rickar/cal/v2/ch"
	"github.com/rickar/cal/v2/cz"
	"github.com/rickar/cal/v2/de"
	"github.com/rickar/cal/v2/dk"
	"github.com/rickar/cal/v2/es"
	"github.com/rickar/cal/v2/fr"
	"github.com/rickar/cal/v2/gb"
	"github.com/rickar/cal/v2/hr"
	"github.com/rickar/cal/v2/ie"
	"github.com/rickar/cal/v2/it"
	"github.com/rickar/cal/v2/jp"
	"github.com/rickar/cal/v2/lt"
	"github.com/rickar/cal/v2/lv"
	"github.com/rickar/cal/v2/mw"
	"github.com/rickar/cal/v2/nl"
	"github.com/rickar/cal/v2/no"
	"github.com/rickar/cal/v2/nz"
	"github.com/rickar/cal/v2/pl"
	"github.com/rickar/cal/v2/ro"
	"github.com/rickar/cal/v2/ru"
	"github.com/rickar/cal/v2/se"
	"github.com/rickar/cal/v2/si"
	"github.com/rickar/cal/v2/sk"
	"github.com/rickar/cal/v2/ua"
	"github.com/rickar/cal/v2/us"
	"github.com/rickar/cal/v2/za"

	"tinbell/internal/record"
)

// countries are the holiday rules that are known, by country (ISO 3166-1), and
// where its parts differ, by part (ISO 3166-2).
var countries = map[string][]*cal.Holiday{
	"AR": ar.Holidays, "AT": at.Holidays, "AU-ACT": au.HolidaysACT, "AU-NSW": au.HolidaysNSW, "AU-NT": au.HolidaysNT,
	"AU-QLD": au.HolidaysQLD, "AU-SA": au.HolidaysSA, "AU-TAS": au.HolidaysTAS, "AU-VIC": au.HolidaysVIC,
	"AU-WA": au.HolidaysWA, "BE": be.Holidays, "BG": bg.Holidays, "BR": br.Holidays, "CA": ca.Holidays,
	"CH": ch.Holidays, "CH-AG": ch.HolidaysAG, "CH-AI": ch.HolidaysAI, "CH-AR": ch.HolidaysAR,
	"CH-BE": ch.HolidaysBE, "CH-BL": ch.HolidaysBL, "CH-BS": ch.HolidaysBS, "CH-FR": ch.HolidaysFR,
	"CH-GE": ch.HolidaysGE, "CH-GL": ch.HolidaysGL, "CH-GR": ch.HolidaysGR, "CH-JU": ch.HolidaysJU,
	"CH-LU": ch.HolidaysLU, "CH-NE": ch.HolidaysNE, "CH-NW": ch.HolidaysNW, "CH-OW": ch.HolidaysOW,
	"CH-SG": ch.HolidaysSG, "CH-SH": ch.HolidaysSH, "CH-SO": ch.HolidaysSO, "CH-SZ": ch.HolidaysSZ,
	"CH-TG": ch.HolidaysTG, "CH-TI": ch.HolidaysTI, "CH-UR": ch.HolidaysUR, "CH-VD": ch.HolidaysVD,
	"CH-VS": ch.HolidaysVS, "CH-ZG": ch.HolidaysZG, "CH-ZH": ch.HolidaysZH, "CZ": cz.Holidays, "DE": de.Holidays,
	"DE-BB": de.HolidaysBB, "DE-BE": de.HolidaysBE, "DE-BW": de.HolidaysBW, "DE-BY": de.HolidaysBY,
	"DE-HB": de.HolidaysHB, "DE-HE": de.HolidaysHE, "DE-HH": de.HolidaysHH, "DE-MV": de.HolidaysMV,
	"DE-NI": de.HolidaysNI, "DE-NW": de.HolidaysNW, "DE-RP": de.HolidaysRP, "DE-SH": de.HolidaysSH,
	"DE-SL": de.HolidaysSL, "DE-SN": de.HolidaysSN, "DE-ST": de.HolidaysST, "DE-TH": de.HolidaysTH,
	"DK": dk.Holidays, "ES": es.Holidays, "FR": fr.Holidays, "GB": gb.Holidays, "HR": hr.Holidays, "IE": ie.Holidays,
	"IT": it.Holidays, "JP": jp.Holidays, "LT": lt.Holidays, "LV": lv.Holidays, "MW": mw.Holidays, "NL": nl.Holidays,
	"NO": no.Holidays, "NZ": nz.Holidays, "PL": pl.Holidays, "RO": ro.Holidays, "RU": ru.Holidays, "SE": se.Holidays,
	"SI": si.Holidays, "SK": sk.Holidays, "UA": ua.Holidays, "US": us.Holidays, "ZA": za.Holidays,
}

// Countries names the countries and parts whose holidays are known.
func Countries() []string { return slices.Sorted(maps.Keys(countries)) }

// holidays gives the holidays of a country from three years ago to two years
// ahead, on the days they are kept. They were known a year before.
func (d *Desk) holidays(c record.Calendar) ([]record.PlannedEvent, error) {
	rules, known := countries[c.Country]
	if !known {
		return nil, record.Invalid{Field: "country", Given: c.Country, Allowed: strings.Join(Countries(), ", ")}
	}
	zone, err := time.LoadLocation(c.Zone)
	if err != nil {
		return nil, record.Invalid{Field: "zone", Given: c.Zone, Allowed: "a name of the tz database, such as America/Halifax"}
	}
	var events []record.PlannedEvent
	this := d.now().Year()
	for _, rule := range rules {
		for year := this - 3; year <= this+2; year++ {
			actual, observed := rule.Calc(year)
			for i, day := range []time.Time{actual, observed} {
				if day.IsZero() || i == 1 && day.Equal(actual) {
					continue
				}
				start := time.Date(day.Year(), day.Month(), day.Day(), 0, 0, 0, 0, zone)
				events = append(events, record.PlannedEvent{Calendar: c.Name, UID: fmt.Sprintf("%s-%s", c.Country, rule.Name),
					Summary: rule.Name, Dataset: c.Dataset,
					Holiday: true, Effect: c.Effect, StartedAt: start.UTC(), EndedAt: start.AddDate(0, 0, 1).UTC(),
					KnownAt: start.AddDate(-1, 0, 0)})
			}
		}
	}
	return events, nil
}
