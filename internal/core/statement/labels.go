package statement

import (
	"bytes"
	"net/url"
	"slices"
	"strings"
)

// Label is one key and value that an application put into a comment of its statement, such as route='/boards'.
type Label struct{ Key, Value string }

// mostLabels bounds the labels of one statement; longestLabel is the length in bytes of the longest key or value.
const (
	mostLabels   = 16
	longestLabel = 256
)

// Labels reads the inside of a comment in the sqlcommenter format: key='value' pairs with commas between, both
// URL-encoded, with quotes in a value escaped by a backslash. What is not written so has no labels.
// Source: the sqlcommenter specification, "Format" and "Parsing".
func Labels(comment []byte) []Label {
	if !bytes.Contains(comment, []byte("='")) {
		return nil
	}
	var out []Label
	rest := strings.TrimSpace(string(comment))
	for rest != "" && len(out) < mostLabels {
		key, after, ok := strings.Cut(rest, "='")
		if !ok {
			return nil
		}
		end := 0
		for end < len(after) && after[end] != '\'' {
			if after[end] == '\\' {
				end++
			}
			end++
		}
		if end >= len(after) {
			return nil
		}
		value := strings.ReplaceAll(after[:end], `\'`, `'`)
		key, err1 := url.PathUnescape(strings.TrimSpace(key))
		value, err2 := url.PathUnescape(value)
		if err1 != nil || err2 != nil || key == "" || len(key) > longestLabel || len(value) > longestLabel ||
			strings.ContainsAny(key, " \t\n'*/") {
			return nil
		}
		out = append(out, Label{key, value})
		rest = strings.TrimSpace(after[end+1:])
		if rest != "" {
			if rest[0] != ',' {
				return nil
			}
			rest = strings.TrimSpace(rest[1:])
		}
	}
	slices.SortFunc(out, func(a, b Label) int { return strings.Compare(a.Key, b.Key) })
	return out
}
