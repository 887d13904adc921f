package standin

import (
	"strings"

	pg "github.com/pganalyze/pg_query_go/v6"

	"jollylarder/internal/core/analysis/postgres/grammar"
	"jollylarder/internal/core/statement"
	syntax "jollylarder/internal/core/statement/postgres"
)

// stmt is one statement of a string.
type stmt struct {
	sql  string
	node *pg.Node
}

// parse splits a string into its statements.
func parse(sql string) ([]stmt, error) {
	tree, err := grammar.Parse(sql)
	if err != nil {
		return nil, err
	}
	var out []stmt
	for _, s := range tree.Stmts {
		text := sql[s.StmtLocation:]
		if s.StmtLen > 0 {
			text = text[:s.StmtLen]
		}
		out = append(out, stmt{strings.TrimSpace(text), s.Stmt})
	}
	return out, nil
}

// translate writes a statement the way SQLite reads it: $1 as :p1, without casts and the system schema's name, and
// with the session's own values in place of the functions that ask for them.
func translate(sql string, setting func(string) string) string {
	s := statement.Scan{Syntax: syntax.Syntax}
	s.Read([]byte(sql))
	exact := string(s.Exact) // one blank between tokens, no comments
	var out []string
	tokens := tokenize(exact)
	for i := 0; i < len(tokens); i++ {
		t := tokens[i]
		next := func(n int) string {
			if i+n < len(tokens) {
				return tokens[i+n]
			}
			return ""
		}
		switch {
		case t == "::":
			i = skipType(tokens, i+1) - 1
		case t == "pg_catalog" && next(1) == ".", t == "public" && next(1) == ".":
			i++
		case t == "current_setting" && next(1) == "(":
			name := strings.ToLower(strings.Trim(next(2), "'"))
			for i < len(tokens) && tokens[i] != ")" {
				i++
			}
			out = append(out, quote(setting(name)))
		case t == "pg_my_temp_schema" && next(1) == "(" && next(2) == ")":
			i += 2
			out = append(out, "0")
		case t == "array_to_string" && next(1) == "(" && (next(2) == "current_schemas" || next(4) == "current_schemas"):
			for depth := 0; i < len(tokens); i++ {
				if depth += map[string]int{"(": 1, ")": -1}[tokens[i]]; tokens[i] == ")" && depth == 0 {
					break
				}
			}
			out = append(out, quote("pg_catalog\npublic"))
		case t == "concat_ws" && next(1) == "(": // what tells servers apart
			for depth := 0; i < len(tokens); i++ {
				if depth += map[string]int{"(": 1, ")": -1}[tokens[i]]; tokens[i] == ")" && depth == 0 {
					break
				}
			}
			out = append(out, quote("the stand-in"))
		case t == "current_user", t == "session_user":
			out = append(out, quote(setting(t)))
		case t == "now" && next(1) == "(" && next(2) == ")":
			i += 2
			out = append(out, "strftime('%Y-%m-%d %H:%M:%S', 'now')")
		case len(t) > 1 && t[0] == '$' && t[1] >= '0' && t[1] <= '9':
			out = append(out, ":p"+t[1:])
		case len(t) > 2 && (t[0] == 'E' || t[0] == 'e') && t[1] == '\'' && !strings.Contains(t, `\`):
			out = append(out, t[1:])
		default:
			out = append(out, t)
		}
	}
	return strings.Join(out, " ")
}

// tokenize splits a normalised text at its blanks, but not within quotes.
func tokenize(text string) []string {
	var out []string
	start := -1
	var quote byte
	for i := 0; i < len(text); i++ {
		c := text[i]
		switch {
		case quote != 0:
			if c == quote {
				quote = 0
			}
		case c == '\'' || c == '"':
			quote = c
			if start < 0 {
				start = i
			}
		case c == ' ' || c == '\n':
			if start >= 0 {
				out = append(out, text[start:i])
				start = -1
			}
		case start < 0:
			start = i
		}
	}
	if start >= 0 {
		out = append(out, text[start:])
	}
	return out
}

// skipType gives the index behind the name of a type that begins at i.
func skipType(tokens []string, i int) int {
	if i+1 < len(tokens) && tokens[i+1] == "." {
		i += 2
	}
	i++
	for i < len(tokens) {
		switch tokens[i] {
		case "precision", "varying", "zone", "time":
			i++
		case "with", "without":
			i += 2
		case "(", "[":
			for i < len(tokens) && tokens[i] != ")" && tokens[i] != "]" {
				i++
			}
			i++
		default:
			return i
		}
	}
	return i
}

func quote(s string) string { return "'" + strings.ReplaceAll(s, "'", "''") + "'" }
