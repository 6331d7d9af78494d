package benchmark

import (
	"os"
	"strconv"
	"strings"
	"time"
)

// RehearsalClock is a clock that is off by the seconds in a file, which may change.
func RehearsalClock(file string) func() time.Time {
	return func() time.Time {
		content, err := os.ReadFile(file)
		seconds, parseErr := strconv.Atoi(strings.TrimSpace(string(content)))
		if err != nil || parseErr != nil {
			return time.Now()
		}
		return time.Now().Add(time.Duration(seconds) * time.Second)
	}
}
