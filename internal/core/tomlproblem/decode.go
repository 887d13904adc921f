package tomlproblem

import (
	"bytes"
	"errors"
	"strings"

	"github.com/pelletier/go-toml/v2"
)

// Problem is what is wrong with a file, and where: lines and columns count from 1.
type Problem struct {
	Line, Column int
	// Unknown is the path of a key that there is not; else Text says what is wrong.
	Unknown []string
	Text    string
}

// most is how many values may be wrong before no more are looked for.
const most = 50

// Decode decodes a file, and says all that is wrong with it. The decoder ends at the first value of a wrong kind; so
// that one is taken out, and the rest is read again. Whole is false where what is wrong keeps the rest from being read.
func Decode[T any](text []byte) (doc T, problems []Problem, whole bool) {
	text = bytes.Clone(text)
	var unknown []Problem // of the last round: what was taken out is none of them
	for len(problems) < most {
		doc = *new(T)
		dec := toml.NewDecoder(bytes.NewReader(text))
		dec.DisallowUnknownFields()
		err := dec.Decode(&doc)
		var strict *toml.StrictMissingError
		var wrong *toml.DecodeError
		switch {
		case err == nil:
			return doc, problems, true
		case errors.As(err, &strict):
			for _, e := range strict.Errors {
				line, column := e.Position()
				unknown = append(unknown, Problem{Line: line, Column: column, Unknown: e.Key()})
			}
			return doc, append(problems, unknown...), true
		case errors.As(err, &wrong):
			line, column := wrong.Position()
			problems = append(problems, Problem{Line: line, Column: column, Text: Of(wrong)})
			if mismatch.FindString(strings.TrimPrefix(wrong.Error(), "toml: ")) == "" || !blank(text, line) {
				return doc, problems, false
			}
		default:
			return doc, append(problems, Problem{Line: 1, Column: 1, Text: err.Error()}), false
		}
	}
	return doc, problems, false
}

// blank takes the assignment that begins in a line out, and leaves all else where it is. It is false where none does.
func blank(text []byte, line int) bool {
	from := 0
	for range line - 1 {
		next := bytes.IndexByte(text[from:], '\n')
		if next < 0 {
			return false
		}
		from += next + 1
	}
	equals := bytes.IndexByte(text[from:], '=')
	end := bytes.IndexByte(text[from:], '\n')
	if equals < 0 || end >= 0 && equals > end {
		return false
	}
	value := from + equals + 1
	for value < len(text) && (text[value] == ' ' || text[value] == '\t') {
		value++
	}
	for i, behind := from, value+ValueLength(string(text[value:])); i < behind; i++ {
		if text[i] != '\n' && text[i] != '\r' {
			text[i] = ' '
		}
	}
	return true
}

// ValueLength gives how long the TOML value is that a text begins with, which is well-formed.
func ValueLength(text string) int {
	depth, end := 0, 0
	for at := 0; at < len(text); {
		c := text[at]
		switch {
		case strings.HasPrefix(text[at:], `"""`) || strings.HasPrefix(text[at:], `'''`):
			mark := text[at : at+3]
			for at += 3; at < len(text) && !strings.HasPrefix(text[at:], mark); at++ {
				if c == '"' && text[at] == '\\' {
					at++
				}
			}
			if at >= len(text) {
				return len(text)
			}
			at += 3
			for at < len(text) && text[at] == c { // quotes that belong to the string's end
				at++
			}
		case c == '"' || c == '\'':
			for at++; at < len(text) && text[at] != c; at++ {
				if c == '"' && text[at] == '\\' {
					at++
				}
			}
			at++
		case c == '#' && depth == 0, c == '\n' && depth == 0:
			return end
		case c == '#':
			at += strings.IndexByte(text[at:]+"\n", '\n') + 1
			continue
		default:
			switch c {
			case '[', '{':
				depth++
			case ']', '}':
				depth--
			}
			at++
		}
		if c != ' ' && c != '\t' && c != '\r' {
			end = min(at, len(text))
		}
	}
	return end
}
