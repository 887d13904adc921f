package statement

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
