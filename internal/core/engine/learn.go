package engine

import (
	"bytes"
	"fmt"
	"strings"

	"jollylarder/internal/core/analysis"
	"jollylarder/internal/core/dialect"
	"jollylarder/internal/core/freshness"
	"jollylarder/internal/core/reason"
	"jollylarder/internal/core/statement"
)

// learnInTurn is learn, while no more than half of the processors are busy with the like: answering what is known comes
// first.
func (e *Engine) learnInTurn(syntax *statement.Syntax, d *dialect.Dialect, shape, sql []byte) *Pattern {
	if len(sql) <= long { // else it has its turn already
		e.reading <- struct{}{}
		defer func() { <-e.reading }()
	}
	return e.learn(syntax, d, shape, sql)
}

// learn makes a pattern of a statement seen for the first time; its text is parsed here and never again.
func (e *Engine) learn(syntax *statement.Syntax, d *dialect.Dialect, shape, sql []byte) *Pattern {
	text := syntax.Normalise(sql)
	if p := e.patterns.known(syntax, text, shape, e.opts.MostPatterns); p != nil {
		return p
	}
	facts := factsOf(syntax, d, text, sql)
	if facts.Kind == analysis.KindUnknown {
		// Where it is not understood it is not certain either what in it is a literal: so its text is not shown.
		p := e.named(unread(text)+": "+facts.Reasons[0].String(), facts)
		e.patterns.also(p, syntax, shape, e.opts.MostPatterns)
		return p
	}
	if int(e.patterns.count.Load()) >= e.opts.MostPatterns {
		return e.rest(facts)
	}
	p := &Pattern{
		ID:     syntax.ID(text),
		Text:   shortened(text),
		Syntax: syntax,
		Facts:  facts,
		clock:  freshness.Clock{Name: patternClock},
		own:    d.AsksForLast != "" && string(text) == d.AsksForLast,
	}
	if len(text) > longestPattern {
		facts.Bypasses(reason.TooLong)
	}
	if known := e.patterns.add(p, syntax, text, shape, e.newNumbers); known != nil {
		return known
	}
	return e.rest(facts)
}

// unread names a statement that is not understood by the word it begins with, if that is one of SQL's.
func unread(text []byte) string {
	word, _, _ := bytes.Cut(text, []byte(" "))
	switch w := string(word); w {
	case "select",
		"insert",
		"update",
		"delete",
		"merge",
		"with",
		"values",
		"table",
		"create",
		"alter",
		"drop",
		"grant",
		"revoke",
		"set",
		"reset",
		"show",
		"begin",
		"start",
		"commit",
		"rollback",
		"call",
		"do",
		"copy",
		"explain",
		"prepare",
		"execute",
		"declare",
		"fetch",
		"lock",
		"truncate",
		"vacuum",
		"analyze":
		return w + " …"
	}
	return "a statement"
}

// longestPattern is the length in bytes of the longest text of a pattern that is remembered whole. Results of longer
// ones are not kept: no rule could tell them apart by their ends.
const longestPattern = 16 << 10

// shortened gives a text, or the beginning of a long one.
func shortened(text []byte) string {
	if len(text) <= longestPattern {
		return string(text)
	}
	return strings.ToValidUTF8(string(text[:longestPattern]), "") + fmt.Sprintf(" … (%d bytes)", len(text))
}

// long is the length in bytes from which a statement is read by its pattern's text: a load of rows of megabytes would
// take long to parse, and says no more than its first row.
const long = 16 << 10

// factsOf reads what a statement does.
func factsOf(syntax *statement.Syntax, d *dialect.Dialect, text, sql []byte) *analysis.Facts {
	if len(sql) > long {
		if f := d.Facts(syntax, syntax.Parameterised(text)); f.Effect&analysis.Unknown == 0 {
			return f
		}
	}
	return d.Facts(syntax, string(sql))
}
