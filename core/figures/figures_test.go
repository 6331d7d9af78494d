package figures

import (
	"bytes"
	"encoding/gob"
	"math"
	"testing"
)

func TestFloatsComeBackAsTheyWere(t *testing.T) {
	for _, list := range []Floats{{}, {0}, {1.5, math.Inf(-1), math.NaN(), math.SmallestNonzeroFloat64, -0.0, math.MaxFloat64}} {
		var b bytes.Buffer
		if err := gob.NewEncoder(&b).Encode(struct{ List Floats }{list}); err != nil {
			t.Fatal(err)
		}
		var got struct{ List Floats }
		if err := gob.NewDecoder(&b).Decode(&got); err != nil {
			t.Fatal(err)
		}
		if len(got.List) != len(list) {
			t.Fatalf("%v became %v", list, got.List)
		}
		for i := range list {
			if math.Float64bits(list[i]) != math.Float64bits(got.List[i]) {
				t.Errorf("%v became %v", list, got.List)
			}
		}
	}
	var cut Floats
	if cut.GobDecode(make([]byte, 7)) == nil {
		t.Error("seven bytes are a number")
	}
}
