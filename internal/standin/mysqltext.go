package standin

import (
	"strings"

	"jollylarder/internal/standin/mysqltext"
)

// mysqlText is a statement in MySQL's dialect, written as SQLite reads it.
type mysqlText struct{ tokens []string }

// word gives one of its tokens in lower case, or nothing behind its end.
func (t *mysqlText) word(n int) string {
	if n >= len(t.tokens) {
		return ""
	}
	return strings.ToLower(t.tokens[n])
}

func (t *mysqlText) text() string { return strings.Join(t.tokens, " ") }

// mysqlVariable gives a variable's name as it is kept: users' own with one @.
func mysqlVariable(token string) string {
	name := strings.ToLower(token)
	if strings.HasPrefix(name, "@") && !strings.HasPrefix(name, "@@") {
		return name
	}
	name = strings.TrimPrefix(name, "@@")
	for _, scope := range []string{"session", "local", "global"} {
		name = strings.TrimPrefix(name, scope+".")
	}
	return name
}

// translated writes a statement as SQLite reads it: with the session's own values in the place of its variables and of the
// functions that ask for them, and without the name of the database.
func (s *mysqlSession) translated(query string) *mysqlText {
	in := mysqltext.Tokens(query)
	t := &mysqlText{}
	out := func(list ...string) { t.tokens = append(t.tokens, list...) }
	set := len(in) > 0 && strings.EqualFold(in[0], "set")
	for i := 0; i < len(in); i++ {
		next := func(n int) string {
			if i+n < len(in) {
				return strings.ToLower(in[i+n])
			}
			return ""
		}
		word := strings.ToLower(in[i])
		called := next(1) == "(" && next(2) == ")"
		switch {
		case strings.Trim(word, `"`) == strings.ToLower(s.o.opts.Database) && next(1) == ".":
			i++
		case word == "information_schema" && next(1) == ".", word == "mysql" && next(1) == ".":
			out(word + "_" + next(2))
			i += 2
		case word[0] == '@':
			name := word
			for next(1) == "." { // as in @@global.server_id
				name += "." + next(2)
				i += 2
			}
			value, known := s.settings[mysqlVariable(name)]
			switch {
			case set && (len(t.tokens) == 1 || t.tokens[len(t.tokens)-1] == ","):
				out(name)
			case known:
				out(quote(value))
			case strings.HasPrefix(name, "@@"):
				out("''")
			default:
				out("null")
			}
		case called && (word == "database" || word == "schema"):
			if i += 2; s.database == "" {
				out("null")
			} else {
				out(quote(s.database))
			}
		case called && (word == "current_user" || word == "user" || word == "session_user"), word == "current_user":
			if out(quote(anybody)); called {
				i += 2
			}
		case called && word == "current_role":
			i += 2
			out("null")
		case called && word == "version":
			i += 2
			out(quote(mysqlVersion))
		case called && word == "connection_id":
			i += 2
			out(itoa(s.c.ConnectionID()))
		case called && (word == "now" || word == "utc_timestamp"):
			i += 2
			out("strftime('%Y-%m-%d %H:%M:%S', 'now')")
		case word == "insert" && next(1) == "ignore":
			i++
			out("insert", "or", "ignore")
		case word == "on" && next(1) == "duplicate" && next(2) == "key":
			i += 3
			out("on", "conflict", "do", "update", "set")
		case word == "values" && len(t.tokens) > 0 && next(1) == "(" && next(3) == ")" && t.tokens[len(t.tokens)-1] == "=":
			out("excluded", ".", in[i+2])
			i += 3
		case word == "engine" && next(1) == "=", word == "charset" && next(1) == "=", word == "collate" && next(1) == "=":
			i += 2
		case word == "character" && next(1) == "set" && !set:
			i += 2
		case word == "auto_increment": // as a key of whole numbers does anyway, if it is declared as nothing else
			for name := len(t.tokens) - 1; name > 0; name-- {
				if before := t.tokens[name-1]; before == "(" || before == "," {
					t.tokens = append(t.tokens[:name+1], "integer")
					break
				}
			}
		case word == "unsigned":
		default:
			out(in[i])
		}
	}
	return t
}
