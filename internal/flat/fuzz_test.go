package flat

import (
	"errors"
	"strings"
	"testing"
	"unicode/utf8"

	"tinbell/internal/record"
)

// FuzzTable holds that any CSV catalogue is read to an end, and that each of its
// lines is taken or refused by number.
func FuzzTable(f *testing.F) {
	for _, seed := range []string{"alert,verdict\n1,fault\n", "alert,verdict\n\"1,fault\n2,noise\n", "verdict\n\xff\n",
		"\ufeffverdict,note\nnoise,\"a\nb\"\n", "verdict\n\"", "", "[0,00", "{}0"} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, file string) {
		table, err := NewReader(strings.NewReader(file), []string{"alert", "verdict", "note"}, "verdict")
		if err != nil {
			return
		}
		result := Import{}
		taken := 0
		err = table.Each(func(line int, fields map[string]string) error {
			taken++
			for _, v := range fields {
				if !utf8.ValidString(v) || strings.ContainsRune(v, 0) {
					t.Errorf("line %d: %q was handed over", line, v)
				}
			}
			return nil
		}, &result)
		if err != nil && !errors.As(err, new(record.Invalid)) {
			t.Error(err)
		}
		// A line is one row; in JSON a comma may begin another, and so may what follows on an object.
		if most := strings.Count(file, "\n") + strings.Count(file, ",") + strings.Count(file, "}") + 1; taken+result.Refused > most {
			t.Errorf("%d taken and %d refused of %d at most", taken, result.Refused, most)
		}
	})
}
