package service_test

import (
	"fmt"
	"net/url"
	"strings"
	"testing"

	"tinbell/internal/dbtest"
	"tinbell/internal/record"
)

// Words find things of every kind, all words of a query in any order and case; what is named
// so comes first, and of what is not for who asks nothing is found.
func TestWordsFindThingsOfEveryKind(t *testing.T) {
	t.Parallel()
	s := twoDatasets(t)
	told(t, s, "log=log-of-open", "text/plain", now.Format("2006-01-02T15:04:05Z")+" INFO 100 % of a_b jammed\n")
	dbtest.Must(t, s.Admin.Send(t.Context(), "PUT", "/accounts/Maud", map[string]any{"role": "reader",
		"datasets": []string{"raw.open*"}}, nil))
	maud := signedIn(t, s, "Maud", "reader")
	find := func(words string) (list []record.Match) {
		t.Helper()
		dbtest.Must(t, s.Admin.Get(t.Context(), "/find", url.Values{"words": {words}, "limit": {"200"}}, &list))
		return list
	}
	kinds := map[string]int{}
	for _, f := range find("OPEN") {
		kinds[f.Kind]++
		if f.Dataset != "raw.open" {
			t.Errorf("found of another dataset: %+v", f)
		}
	}
	for _, kind := range []string{"dataset", "monitor", "series", "alert", "incident", "sentence"} {
		if kinds[kind] == 0 {
			t.Errorf("no %s has the word: %v", kind, kinds)
		}
	}
	if list := find("open-rows"); len(list) == 0 || list[0].Kind != "monitor" || list[0].Name != "open-rows" {
		t.Errorf("what is named so is not first: %+v", list)
	}
	if list := find("silent VEILED"); len(list) != 1 || list[0].Kind != "incident" {
		t.Errorf("two words: %+v", list)
	}
	// What means something to the database is a letter like others.
	for words, want := range map[string]int{"% of": 1, "a_b": 1, "a%b": 0, `\`: 0, "'; drop table alert": 0} {
		if list := find(words); len(list) != want {
			t.Errorf("%q finds %+v", words, list)
		}
	}
	var hers []record.Match
	dbtest.Must(t, maud.Get(t.Context(), "/find", url.Values{"words": {"raw"}, "limit": {"200"}}, &hers))
	if len(hers) == 0 || strings.Contains(fmt.Sprint(hers), "veiled") {
		t.Errorf("who is limited finds %+v", hers)
	}
	// What is not for her takes no place of what is.
	for most := range len(hers) {
		var few []record.Match
		dbtest.Must(t, maud.Get(t.Context(), "/find", url.Values{"words": {"raw"}, "limit": {fmt.Sprint(most + 1)}}, &few))
		if len(few) != most+1 {
			t.Errorf("of %d at most she finds %d", most+1, len(few))
		}
	}
	for _, wrong := range []url.Values{nil, {"words": {""}}, {"words": {"x"}, "limit": {"0"}}} {
		if err := s.Admin.Get(t.Context(), "/find", wrong, nil); status(err) != 422 {
			t.Errorf("%v: %v", wrong, err)
		}
	}
}
