package wire

import (
	"encoding/json"
	"testing"
	"time"
)

// A list or object that holds nothing is written as an empty one, however deep; the
// rest is written as encoding/json writes it.
func TestNothingIsAnEmptyListAndNeverNull(t *testing.T) {
	type inner struct {
		Names []string         `json:"names"`
		By    map[string][]int `json:"by"`
		At    *time.Time       `json:"at"`
		Left  []int            `json:"left,omitempty"`
	}
	got, err := Marshal(struct {
		List  []inner
		Inner inner
		Any   any
	}{Any: []string(nil)})
	if want := `{"List":[],"Inner":{"names":[],"by":{},"at":null},"Any":[]}`; err != nil || string(got) != want {
		t.Errorf("%s (%v), want %s", got, err, want)
	}
	full := inner{Names: []string{"<a> & \"b\""}, By: map[string][]int{"z": {1}, "a": {2, 3}}, At: new(time.Time), Left: []int{4}}
	was, err := json.Marshal(full)
	if err != nil {
		t.Fatal(err)
	}
	got, err = Marshal(full)
	var back inner
	if err != nil || json.Unmarshal(got, &back) != nil || back.Names[0] != full.Names[0] {
		t.Errorf("%s (%v)", got, err)
	}
	if again, _ := json.Marshal(back); string(again) != string(was) {
		t.Errorf("%s, want %s", again, was)
	}
}
