package mysql

import (
	"slices"
	"strings"

	"jollylarder/internal/core/analysis"
	"jollylarder/internal/core/analysis/mysql/grammar"
	"jollylarder/internal/core/reason"
	"jollylarder/internal/core/statement"
	lexical "jollylarder/internal/core/statement/mysql"
)

// What the grammar does not have is read by its words, as far as these leave no doubt.

// words are a statement's tokens.
type words struct {
	syntax *statement.Syntax
	sql    string
	list   []statement.Token
}

// at gives a word in lower case; it is empty for what is none.
func (w *words) at(i int) string {
	if i < 0 || i >= len(w.list) || w.list[i].Kind != statement.WordToken {
		return ""
	}
	return strings.ToLower(w.text(i))
}

func (w *words) text(i int) string { return w.sql[w.list[i].Start:w.list[i].End] }

func (w *words) is(i int, kind statement.TokenKind) bool {
	return i >= 0 && i < len(w.list) && w.list[i].Kind == kind
}

// outside gives where a word stands that is in no brackets, or -1.
func (w *words) outside(from int, word string) int {
	depth := 0
	for i := from; i < len(w.list); i++ {
		switch w.list[i].Kind {
		case statement.OpeningToken:
			depth++
		case statement.ClosingToken:
			depth--
		case statement.WordToken:
			if depth == 0 && w.at(i) == word && !w.is(i-1, statement.DotToken) {
				return i
			}
		}
	}
	return -1
}

// parsed gives the facts of a part of the statement, or nil where the grammar does not have it.
func (w *words) parsed(sql string) *analysis.Facts {
	list, err := grammar.Parse(sql, lexical.ModeOf(w.syntax))
	if err != nil || len(list) != 1 {
		return nil
	}
	f := factsOf(w.syntax, sql, list)
	if !strings.HasPrefix(w.sql, sql) {
		f.Pins = nil // whose values stand elsewhere in the statement
	}
	return f
}

// before gives the text before a token, and behind what begins with it.
func (w *words) before(i int) string { return w.sql[:w.list[i].Start] }
func (w *words) behind(i int) string { return w.sql[w.list[i].Start:] }

// byWords reads a statement that the grammar does not have; it gives nil for one that may do anything.
func byWords(syntax *statement.Syntax, sql string) *analysis.Facts {
	w := &words{syntax: syntax, sql: sql, list: syntax.Tokens([]byte(sql))}
	for len(w.list) > 0 && w.list[len(w.list)-1].Kind == statement.SemicolonToken {
		w.list = w.list[:len(w.list)-1]
	}
	several := slices.ContainsFunc(w.list, func(t statement.Token) bool { return t.Kind == statement.SemicolonToken })
	if len(w.list) == 0 || several && !w.defines() {
		return nil // several statements, of which none is understood
	}
	first := 0
	for w.is(first, statement.OpeningToken) {
		first++
	}
	simple := func(kind analysis.Kind, effect analysis.Effect, why reason.Code) *analysis.Facts {
		f := &analysis.Facts{Kind: kind, Effect: effect}
		f.Bypasses(why)
		return f
	}
	switch w.at(first) {
	case "begin":
		if len(w.list) == 2 && w.at(1) == "work" {
			return simple(analysis.KindBegin, analysis.Begins|analysis.Commits, reason.BeginsOrEnds)
		}
	case "insert", "replace", "delete":
		return w.returning()
	case "select", "with", "values", "table":
		return w.query()
	case "do":
		f := w.query()
		f.Kind, f.Definition = analysis.KindCall, "do"
		return f
	case "show":
		return simple(analysis.KindShow, 0, reason.ReportsActivity)
	case "explain", "describe", "desc":
		return simple(analysis.KindExplain, 0, reason.ShowsPlan)
	case "analyze":
		return w.measured()
	case "set":
		return w.setFor()
	case "create", "alter", "drop":
		if w.defines() {
			f := simple(analysis.KindDefinition, analysis.Schema|analysis.Commits, reason.ChangesSchema)
			if at := w.outside(0, "temporary"); at > 0 && at < 4 {
				f.Effect |= analysis.Settings
				f.Bypasses(reason.MakesTemporary)
			}
			f.Definition = w.at(0) + " " + w.defined()
			if several { // in its body, or behind it
				f.Effect |= analysis.Unknown | analysis.Shared | analysis.Settings
			}
			return f
		}
	case "check", "checksum", "repair", "cache":
		f := simple(analysis.KindVacuum, analysis.Schema|analysis.Commits, reason.Maintains) // a repair may lose rows
		f.Definition = w.at(0)
		return f
	}
	return nil
}

// definitions are what the grammar does not have of what can be created.
var definitions = statement.Words(`event function procedure server trigger view sequence package table index`)

// defined gives what a CREATE, ALTER or DROP is about, or nothing.
func (w *words) defined() string {
	for i := 1; i < min(len(w.list), 16); i++ { // behind OR REPLACE, DEFINER = … and the like
		if word := w.at(i); definitions[word] {
			return word
		}
	}
	return ""
}

// defines says whether it changes a definition.
func (w *words) defines() bool {
	switch w.at(0) {
	case "create", "alter", "drop":
		return w.defined() != ""
	}
	return false
}

// returning reads a write that gives rows back.
func (w *words) returning() *analysis.Facts {
	at := w.outside(0, "returning")
	if at < 0 {
		return nil
	}
	f, given := w.parsed(w.before(at)), w.parsed("select "+w.sql[w.list[at].End:])
	if f == nil || given == nil || len(f.Writes) == 0 {
		return nil
	}
	for _, n := range given.Reads {
		if !slices.Contains(f.Reads, n) {
			f.Reads = append(f.Reads, n)
		}
	}
	for _, n := range given.Functions {
		if !slices.Contains(f.Functions, n) {
			f.Functions = append(f.Functions, n)
		}
	}
	for _, why := range given.Reasons {
		f.AddReason(why)
	}
	f.Effect |= given.Effect
	return f
}

// query reads a query: one that puts its result into variables as the grammar has it without these, and any other by its
// names. Only what it calls can write.
func (w *words) query() *analysis.Facts {
	if at := w.outside(0, "into"); at > 0 && strings.HasPrefix(w.at(at+1), "@") {
		end := at + 2
		for w.is(end, statement.CommaToken) && strings.HasPrefix(w.at(end+1), "@") {
			end += 2
		}
		rest := ""
		if end < len(w.list) {
			rest = w.behind(end)
		}
		if f := w.parsed(w.before(at) + " " + rest); f != nil {
			f.Bypasses(reason.UserVariables)
			return f
		}
	}
	f := &analysis.Facts{Kind: analysis.KindSelect, Whole: true, Star: true, AnyRows: true}
	f.AddReason(reason.About(reason.NotUnderstood, "the grammar does not have it"))
	r := &reader{f: f, syntax: w.syntax}
	for i := range w.list {
		if next := w.at(i + 1); w.at(i) == "for" && (next == "update" || next == "share") || w.at(i) == "lock" && next == "in" {
			f.Bypasses(reason.Locks)
		}
		n, ok := w.name(i)
		switch {
		case !ok, i == 0: // what it begins with
		case w.is(i+1, statement.OpeningToken):
			if n.Schema != "" || !w.syntax.Keyword([]byte(strings.ToLower(n.Name))) {
				r.call(n)
			}
		default:
			r.read(n)
		}
	}
	return f
}

// Names gives all names in a text, with what is written before their dots: of tables, columns, routines and variables.
func Names(syntax *statement.Syntax, text string) (list []analysis.Name) {
	w := &words{syntax: syntax, sql: text, list: syntax.Tokens([]byte(text))}
	seen := map[analysis.Name]bool{}
	for i := range w.list {
		if n, ok := w.name(i); ok && !seen[n] {
			seen[n] = true
			list = append(list, n)
		}
	}
	return list
}

// name gives the name that ends at a token; it is false for a keyword, and what is none.
func (w *words) name(i int) (n analysis.Name, ok bool) {
	part := func(i int) (string, bool) {
		switch {
		case w.is(i, statement.NameToken):
			text := w.text(i)
			quote := text[:1]
			if len(text) < 2 || !strings.HasSuffix(text, quote) {
				return "", false // it has no end: the server refuses it
			}
			return strings.ReplaceAll(text[1:len(text)-1], quote+quote, quote), true
		case w.is(i, statement.WordToken):
			behindDot := w.is(i-1, statement.DotToken)
			return w.text(i), behindDot || !w.syntax.Keyword([]byte(w.at(i)))
		}
		return "", false
	}
	if n.Name, ok = part(i); !ok {
		return n, false
	}
	if w.is(i-1, statement.DotToken) {
		n.Schema, _ = part(i - 2)
	}
	return n, true
}

// measured reads an ANALYZE of a statement, which runs it.
func (w *words) measured() *analysis.Facts {
	at := 1
	if w.at(1) == "format" {
		at = 4
	}
	if at >= len(w.list) {
		return nil
	}
	f := Facts(w.syntax, w.behind(at))
	f.Kind, f.Definition = analysis.KindExplain, ""
	f.Bypasses(reason.ShowsPlan)
	return f
}

// setFor reads a SET STATEMENT … FOR, which sets variables for one statement alone.
func (w *words) setFor() *analysis.Facts {
	if w.at(1) != "statement" {
		return nil
	}
	at := w.outside(2, "for")
	if at < 0 || at+1 >= len(w.list) {
		return nil
	}
	set := w.parsed("set " + w.sql[w.list[1].End:w.list[at].Start])
	if set == nil || len(set.Functions)+len(set.Reads) > 0 {
		return nil
	}
	f := Facts(w.syntax, w.behind(at+1))
	f.Bypasses(reason.ChangesSetting)
	return f
}
