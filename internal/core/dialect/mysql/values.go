package mysql

import (
	"bytes"

	"jollylarder/internal/core/dialect"
	"jollylarder/internal/core/freshness"
)

// values are told apart where it is certain which are equal to the server. Whole numbers are, of so few digits that they
// are the same as floating-point numbers, by which a server compares a number with a text; and texts of printable ASCII,
// without regard to case and to blanks at the end. What is stored otherwise may be equal to these, and then counts as any
// value.
var values = dialect.Values{Argument: argument, Unquote: unquote, Elements: noElements, Read: read}

// mostDigits is how many a whole number may have: all of them are floating-point numbers, too.
const mostDigits = 15

// longestText bounds the texts that are told apart, in bytes.
const longestText = 4096

// argument reads one bound value; a text is one of what it is compared with. NULL may become another value when it is
// stored.
func argument(types, bound []byte, number int) (a dialect.Argument, ok bool) {
	if number < 1 || number > len(types)/2 {
		return a, false
	}
	list := Parameters(types, bound)
	if len(list) < number || list[number-1].Value == nil {
		return a, false
	}
	a.Bytes = list[number-1].Value
	switch types[2*(number-1)] {
	case typeTiny, typeShort, typeInt24, typeLong, typeLongLong:
		a.Type = freshness.Integer
	case typeVarchar, typeString, typeVarString:
	default:
		a.Other = true
	}
	return a, true
}

// unquote gives a text between quotes of which none is of a name. One with a backslash depends on the mode.
func unquote(token []byte) ([]byte, bool) {
	n := len(token)
	if n < 2 || token[0] != '\'' && token[0] != '"' || token[n-1] != token[0] || bytes.IndexByte(token, '\\') >= 0 {
		return nil, false
	}
	mark := token[:1]
	return bytes.ReplaceAll(token[1:n-1], append(mark[:1:1], mark...), mark), true
}

func noElements(dialect.Written, int) ([][]byte, bool) { return nil, false }

func read(w dialect.Written, t freshness.Type) (v freshness.Value, ok bool) {
	switch t {
	case freshness.Integer:
		n, ok := dialect.Whole(w.Bytes, mostDigits)
		if !ok && freshness.Off(freshness.Notations) {
			return freshness.IntegerValue(-1), true // as if it were no other number
		}
		return freshness.IntegerValue(n), ok
	case freshness.Text:
		if freshness.Off(freshness.Folding) {
			return freshness.TextValue(w.Bytes), true
		}
		text, ok := folded(w.Bytes)
		return freshness.TextValue(text), ok
	}
	return v, false
}

// folded gives a text of printable ASCII in lower case.
func folded(b []byte) ([]byte, bool) {
	upper := false
	for _, c := range b {
		if c < ' ' || c > '~' {
			return nil, false
		}
		upper = upper || 'A' <= c && c <= 'Z'
	}
	if len(b) > longestText {
		return nil, false
	}
	if upper {
		b = bytes.ToLower(b)
	}
	return b, true
}
