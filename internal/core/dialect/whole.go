package dialect

import (
	"bytes"
	"strconv"
)

// Whole reads a whole number that is written with so many digits alone at most, and perhaps a minus sign.
func Whole(b []byte, most int) (int64, bool) {
	digits := bytes.TrimPrefix(b, []byte("-"))
	if len(digits) == 0 || len(digits) > most {
		return 0, false
	}
	for _, c := range digits {
		if c < '0' || c > '9' {
			return 0, false
		}
	}
	n, err := strconv.ParseInt(string(b), 10, 64)
	return n, err == nil
}
