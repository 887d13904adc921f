// Package bytesize reads and writes sizes in bytes as people write them: "64KiB", "256MiB".
package bytesize

import (
	"fmt"
	"strconv"
	"strings"
)

// units, the larger first; B, which ends the others, last.
var units = []struct {
	name  string
	bytes int64
}{{"GiB", 1 << 30}, {"MiB", 1 << 20}, {"KiB", 1 << 10}, {"B", 1}}

// Parse reads a size in bytes.
func Parse(s string) (int64, error) {
	for _, u := range units {
		if number, ok := strings.CutSuffix(s, u.name); ok {
			n, err := strconv.ParseInt(strings.TrimSpace(number), 10, 64)
			if err == nil && n >= 0 && n <= 1<<50/u.bytes {
				return n * u.bytes, nil
			}
			break
		}
	}
	return 0, fmt.Errorf(`%q: expected a number with a unit, such as "64KiB", "256MiB" or "2GiB"`, s)
}

// Format writes a size as Parse reads it, in the largest unit that it is a whole number of.
func Format(n int64) string {
	for _, u := range units {
		if n%u.bytes == 0 && n != 0 {
			return strconv.FormatInt(n/u.bytes, 10) + u.name
		}
	}
	return "0B"
}

// About writes a size for people.
func About(n int64) string {
	for _, u := range units[:3] {
		if n >= u.bytes {
			return fmt.Sprintf("%.1f %s", float64(n)/float64(u.bytes), u.name)
		}
	}
	return fmt.Sprintf("%d B", n)
}
