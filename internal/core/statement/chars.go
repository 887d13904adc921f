package statement

// The classes of bytes. Bytes above 127 are letters, as in the server's scanner.
const (
	space uint8 = 1 << iota
	letter
	digit
	dollar // may stand inside a name, not begin it
	operatorChar
	unusualChar // lets an operator end in + or -
)

var class, lower = tables()

func tables() (class, lower [256]byte) {
	for i := range class {
		c := byte(i)
		lower[i] = c
		switch {
		case c >= 'a' && c <= 'z', c == '_', c >= 128:
			class[i] = letter
		case c >= 'A' && c <= 'Z':
			class[i] = letter
			lower[i] = c + 'a' - 'A'
		case c >= '0' && c <= '9':
			class[i] = digit
		case c == ' ' || c == '\t' || c == '\n' || c == '\r' || c == '\f' || c == '\v':
			class[i] = space
		}
	}
	class['$'] = dollar
	for _, c := range []byte("+-*/<>=~!@#%^&|`?") {
		class[c] |= operatorChar
	}
	for _, c := range []byte("~!@#%^&|`?") {
		class[c] |= unusualChar
	}
	return class, lower
}

// reserved says whether a word in lower case can only be a keyword where an expression may follow, so that a sign
// after it cannot be a subtraction.
func reserved(word []byte) bool {
	switch string(word) {
	case "all", "and", "any", "array", "as", "between", "by", "case", "distinct", "else", "except", "fetch", "from",
		"having", "ilike", "in", "intersect", "is", "like", "limit", "not", "offset", "on", "or", "order", "returning",
		"select", "similar", "some", "symmetric", "then", "union", "using", "values", "when", "where":
		return true
	}
	return false
}

// spaceBeforeParen says whether a reader expects a blank between this word and an opening parenthesis.
func spaceBeforeParen(word []byte) bool {
	switch string(word) {
	case "and", "as", "by", "case", "conflict", "else", "except", "exists", "filter", "from", "in", "intersect", "into",
		"join", "key", "lateral", "materialized", "not", "on", "or", "over", "references", "returning", "select", "set",
		"then", "union", "using", "values", "when", "where", "within", "all", "any", "some", "group", "check":
		return true
	}
	return false
}
