package dialect

import "strconv"

// Of numbers with as many digits as a double-precision float has, the last are not compared: a sum of such rests on the
// order in which rows are read.
const (
	allDigits  = 15
	sureDigits = 13
)

// Rounded gives a value as it is compared with that of another reply: a long number without its last digits, and anything
// else as it is.
func Rounded(value []byte) []byte {
	if longNumber(value) {
		if f, err := strconv.ParseFloat(string(value), 64); err == nil {
			return strconv.AppendFloat(nil, f, 'e', sureDigits-1, 64)
		}
	}
	return value
}

// longNumber says whether a value is a number with a point and as many digits as a double-precision float has.
func longNumber(value []byte) bool {
	digits, point := 0, false
	for i, c := range value {
		switch {
		case c >= '0' && c <= '9':
			digits++
		case c == '.':
			point = true
		case c == '-' && i == 0, c == 'e', c == '+', c == '-':
		default:
			return false
		}
	}
	return point && digits >= allDigits
}
