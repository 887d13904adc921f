package mysql

import (
	"errors"

	"jollylarder/internal/core/statement"
	lexical "jollylarder/internal/core/statement/mysql"
)

// Split splits a text into its statements, which have a semicolon behind them; the last may have none. A text or a comment
// that does not end is an error.
func Split(text string) (list []string, err error) {
	if _, ok := lexical.Mode(0).Bare([]byte(text)); !ok {
		return nil, errors.New("a text, a name or a comment does not end, or a comment is one that servers may run")
	}
	from, any := 0, false
	add := func(to int) {
		if any {
			list = append(list, text[from:to])
		}
	}
	for _, t := range lexical.Syntax.Tokens([]byte(text)) {
		if t.Kind == statement.SemicolonToken {
			add(t.Start)
			from, any = t.End, false
			continue
		}
		any = true
	}
	add(len(text))
	return list, nil
}
