package statement

import "strings"

// Words gives the words of a text as a set.
func Words(text string) map[string]bool {
	out := map[string]bool{}
	for w := range strings.FieldsSeq(text) {
		out[w] = true
	}
	return out
}
