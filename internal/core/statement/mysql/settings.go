package mysql

import (
	"strings"

	"jollylarder/internal/core/statement"
)

// Setting is something of a session's state that decides how its statements are read, and its value. That is in lower case
// but for a schema, and empty where it is not known.
type Setting struct{ Name, Value string }

// The settings. The schema in use is that in which names without one are looked up.
const (
	SchemaInUse = "schema"
	Encoding    = "character_set_client"
	SQLMode     = "sql_mode"
)

// Settings gives those that a string of statements sets in so many words, in their order.
func Settings(syntax *statement.Syntax, sql []byte) (out []Setting) {
	list := syntax.Tokens(sql)
	written := func(i int) string {
		if i >= len(list) {
			return ""
		}
		return string(sql[list[i].Start:list[i].End])
	}
	at := func(i int) string { return strings.ToLower(written(i)) }
	ends := func(i int) bool {
		return i >= len(list) || list[i].Kind == statement.CommaToken || list[i].Kind == statement.SemicolonToken || at(i) == "collate"
	}
	for i := range list {
		name, behind := "", i+1
		switch what := strings.TrimPrefix(at(i), "@@"); {
		case what == "use" && i+1 < len(list) && (i == 0 || list[i-1].Kind == statement.SemicolonToken):
			out = append(out, Setting{SchemaInUse, nameOf(list[i+1].Kind, written(i+1))})
			continue
		case what == "names", what == "charset":
			name = Encoding
		case what == "character" && at(i+1) == "set":
			name, behind = Encoding, i+2
		case what == Encoding, what == SQLMode:
			name = what
		}
		assigned := at(behind) == "=" || at(behind) == ":="
		switch {
		case name == "", (at(i) == "names" || at(i) == "charset" || at(i) == "character") == assigned:
			continue
		case assigned:
			behind++
		}
		value := strings.Trim(at(behind), `'"`)
		if !ends(behind+1) || strings.HasPrefix(value, "@") || value == "?" {
			value = "" // it is computed
		}
		out = append(out, Setting{name, value})
	}
	return out
}

// nameOf gives a name as it is without quotes.
func nameOf(kind statement.TokenKind, written string) string {
	if kind != statement.NameToken || len(written) < 2 {
		return written
	}
	quote := written[:1]
	return strings.ReplaceAll(written[1:len(written)-1], quote+quote, quote)
}
