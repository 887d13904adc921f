package statement

import "strconv"

// Numbered gives the text of a pattern as a statement that a server can prepare: its placeholders are the parameters
// $1, $2 and so on, and what may stand any number of times stands once. It also gives how many parameters there are.
func (s *Syntax) Numbered(pattern string) (text string, parameters int) {
	l := lexer{syn: s, src: []byte(pattern)}
	var out []byte
	end := 0
	for {
		kind, start := l.next()
		out = append(out, pattern[end:start]...)
		end = l.pos
		switch token := pattern[start:end]; {
		case kind == none:
			return string(out), parameters
		case token == Placeholder:
			parameters++
			out = strconv.AppendInt(append(out, '$'), int64(parameters), 10)
		case token == Repeat:
		default:
			out = append(out, token...)
		}
	}
}
