package mysql

import (
	"strings"

	"jollylarder/internal/core/statement"
)

// Encoding gives the character set in which a statement says that its client writes from then on, in lower case: by SET
// NAMES, SET CHARACTER SET or their variable. It is false for a statement that says nothing of it, and empty for one that
// does not say it in so many words.
func Encoding(syntax *statement.Syntax, sql []byte) (name string, says bool) {
	assigned(syntax, sql, func(what, value string) {
		switch what {
		case "names", "character set", "charset", "character_set_client":
			name, says = value, true
		}
	})
	return name, says
}

// ANSI says whether a statement has its session read double quotes as those of names, by sql_mode; says is false where
// it says nothing of that.
func ANSI(syntax *statement.Syntax, sql []byte) (ansi, says bool) {
	assigned(syntax, sql, func(what, value string) {
		if what == "sql_mode" {
			ansi, says = strings.Contains(value, "ansi"), true
		}
	})
	return ansi, says
}

// Uses gives the schema that a string of statements makes the one in use, by its last USE; it is false if it has none.
func Uses(syntax *statement.Syntax, sql []byte) (schema string, says bool) {
	list := syntax.Tokens(sql)
	for i, t := range list {
		if i+1 == len(list) || i > 0 && list[i-1].Kind != statement.SemicolonToken || !strings.EqualFold(string(sql[t.Start:t.End]), "use") {
			continue
		}
		name := string(sql[list[i+1].Start:list[i+1].End])
		if list[i+1].Kind == statement.NameToken && len(name) > 1 {
			name = strings.ReplaceAll(name[1:len(name)-1], name[:1]+name[:1], name[:1])
		}
		schema, says = name, true
	}
	return schema, says
}

// assigned calls f for what a statement sets, with a value that is a literal or a word; the value is empty for another.
func assigned(syntax *statement.Syntax, sql []byte, f func(what, value string)) {
	list := syntax.Tokens(sql)
	at := func(i int) string {
		if i >= len(list) {
			return ""
		}
		return strings.ToLower(string(sql[list[i].Start:list[i].End]))
	}
	for i := range list {
		what, behind := strings.TrimPrefix(at(i), "@@"), i+1
		if what == "character" && at(i+1) == "set" {
			what, behind = "character set", i+2
		}
		switch at(behind) {
		case "=", ":=":
			behind++
		default:
			if strings.HasPrefix(what, "character_set") || what == "sql_mode" {
				continue
			}
		}
		value := ""
		computed := behind+1 < len(list) && list[behind+1].Kind != statement.CommaToken && list[behind+1].Kind != statement.SemicolonToken &&
			at(behind+1) != "collate" || strings.HasPrefix(at(behind), "@")
		if behind < len(list) && !computed && (list[behind].Kind == statement.WordToken || list[behind].Kind == statement.LiteralToken) {
			value = strings.Trim(at(behind), `'"`)
		}
		f(what, value)
	}
}
