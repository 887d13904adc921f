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

// wordChar gives the lower case of a byte that may stand inside a name, and 0 for all others.
var class, wordChar = tables()

func tables() (class, wordChar [256]byte) {
	for i := range class {
		c := byte(i)
		switch {
		case c >= 'a' && c <= 'z', c == '_', c >= 128:
			class[i] = letter
		case c >= 'A' && c <= 'Z':
			class[i] = letter
		case c >= '0' && c <= '9':
			class[i] = digit
		case c == ' ' || c == '\t' || c == '\n' || c == '\r' || c == '\f' || c == '\v':
			class[i] = space
		}
	}
	class['$'] = dollar
	for i := range class {
		if class[i]&(letter|digit|dollar) != 0 {
			wordChar[i] = byte(i)
		}
		if i >= 'A' && i <= 'Z' {
			wordChar[i] = byte(i) + 'a' - 'A'
		}
	}
	for _, c := range []byte("+-*/<>=~!@#%^&|`?") {
		class[c] |= operatorChar
	}
	for _, c := range []byte("~!@#%^&|`?") {
		class[c] |= unusualChar
	}
	return class, wordChar
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
