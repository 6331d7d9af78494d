package cli

import (
	"strings"
	"testing"

	"tinbell/core/detect"
)

// What kin say is told where they say anything.
func TestWhatKinSayIsToldInWords(t *testing.T) {
	if said := kinship(detect.Kinship{}); len(said) != 0 {
		t.Errorf("nothing known: %q", said)
	}
	k := detect.Kinship{Low: detect.KinTail{Slope: 0.4, Worth: 31.4}, Stuck: detect.KinTail{Slope: 2, Worth: 5}, Young: 0.27}
	said := strings.Join(kinship(k), " ")
	for _, want := range []string{"as on 31 dips, 5 frozen stretches of its own.", "limits 27 % higher"} {
		if !strings.Contains(said, want) {
			t.Errorf("%q does not say %q", said, want)
		}
	}
	if strings.Contains(said, "rises") {
		t.Errorf("rises are not alike: %q", said)
	}
}
