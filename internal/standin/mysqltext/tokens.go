// Package mysqltext reads statements of MySQL's dialect for an engine with another.
package mysqltext

import "strings"

// Tokens splits a statement into its tokens, without comments. Texts come out in single quotes without backslashes, and
// quoted names in double quotes.
func Tokens(text string) (tokens []string) {
	letter := func(c byte) bool {
		return c == '_' || c == '$' || c == '@' || c >= 0x80 || '0' <= c && c <= '9' || 'a' <= c|0x20 && c|0x20 <= 'z'
	}
	for i := 0; i < len(text); {
		switch c := text[i]; {
		case c == ' ' || c == '\t' || c == '\n' || c == '\r':
			i++
		case strings.HasPrefix(text[i:], "/*"):
			_, behind, _ := strings.Cut(text[i+2:], "*/")
			i = len(text) - len(behind)
		case c == '#', strings.HasPrefix(text[i:], "-- "):
			_, behind, _ := strings.Cut(text[i:], "\n")
			i = len(text) - len(behind)
		case c == '\'' || c == '"' || c == '`':
			token, n := quoted(text[i:])
			tokens = append(tokens, token)
			i += n
		case letter(c):
			n := i
			for n < len(text) && (letter(text[n]) || text[n] == '.' && '0' <= c && c <= '9') {
				n++
			}
			tokens = append(tokens, text[i:n])
			i = n
		default:
			n := 1
			if i+1 < len(text) && strings.Contains("<= >= <> != || && := ", text[i:i+2]+" ") {
				n = 2
			}
			tokens = append(tokens, text[i:i+n])
			i += n
		}
	}
	return tokens
}

// quoted reads what stands between quotes, and gives it as SQLite has it, with how many bytes it took.
func quoted(text string) (token string, n int) {
	mark := text[0]
	var inside strings.Builder
	for n = 1; n < len(text); n++ {
		switch c := text[n]; {
		case c == '\\' && mark != '`' && n+1 < len(text):
			n++
			switch text[n] {
			case 'n':
				inside.WriteByte('\n')
			case 't':
				inside.WriteByte('\t')
			case '0':
				inside.WriteByte(0)
			default:
				inside.WriteByte(text[n])
			}
		case c == mark && n+1 < len(text) && text[n+1] == mark:
			inside.WriteByte(mark)
			n++
		case c == mark:
			n++
			if mark == '`' {
				return `"` + strings.ReplaceAll(inside.String(), `"`, `""`) + `"`, n
			}
			return single(inside.String()), n
		default:
			inside.WriteByte(c)
		}
	}
	return single(inside.String()), n
}

// single puts a text into single quotes.
func single(text string) string { return "'" + strings.ReplaceAll(text, "'", "''") + "'" }
