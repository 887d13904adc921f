// Package mysql reads facts from the statements of MariaDB and MySQL, by a grammar where that has them, and by their words
// where it does not.
package mysql

import (
	"errors"
	"regexp"

	"github.com/pingcap/tidb/pkg/parser/ast"

	"jollylarder/internal/core/analysis"
	"jollylarder/internal/core/analysis/mysql/grammar"
	"jollylarder/internal/core/reason"
	"jollylarder/internal/core/statement"
	lexical "jollylarder/internal/core/statement/mysql"
)

// OptOut is the user variable by which a session asks with the value off not to be answered from memory.
const OptOut = "jollylarder_caching"

// Facts says what one statement string does, of which the comments that its server runs were resolved. It never fails:
// what cannot be read may do anything.
func Facts(syntax *statement.Syntax, sql string) *analysis.Facts {
	list, err := grammar.Parse(sql, lexical.ModeOf(syntax))
	switch {
	case errors.Is(err, grammar.ErrLong):
		return analysis.Unreadable(reason.Of(reason.TooLongToRead))
	case errors.Is(err, grammar.ErrDeep):
		return analysis.Unreadable(reason.Of(reason.TooDeepToRead))
	case errors.Is(err, grammar.ErrComment):
		return analysis.Unreadable(reason.About(reason.NotUnderstood, "a comment of which it is not certain that the server leaves it out"))
	case err != nil:
		f := byWords(syntax, sql)
		if f == nil {
			f = unreadable()
		}
		f.MayGrant = f.MayGrant || MayGrant(sql)
		return f
	}
	return factsOf(syntax, sql, list)
}

// MayGrant says whether a text has words by which privileges are changed, as statements or in texts that may be run as such.
// What runs SQL of which no text is known is not taken for it: applications do that all the time.
func MayGrant(text string) bool { return granting.MatchString(text) }

var granting = regexp.MustCompile(`(?i)\b(grant|revoke|password|global_priv)\b|\bmysql\W*\.|\b(create|alter|drop|rename|default)\s+(or\s+replace\s+)?(user|role)\b`)

// unreadable gives the facts of what neither the grammar nor its words tell. What the grammar says of it may show
// literals.
func unreadable() *analysis.Facts {
	return analysis.Unreadable(reason.About(reason.NotUnderstood, "the grammar does not have it"))
}

func factsOf(syntax *statement.Syntax, sql string, list []ast.StmtNode) *analysis.Facts {
	r := &reader{f: &analysis.Facts{}, syntax: syntax, sql: sql}
	for _, s := range list {
		if !r.statement(s) {
			f := unreadable()
			f.MayGrant = MayGrant(sql)
			return f
		}
	}
	switch len(list) {
	case 0:
		r.f.Kind = analysis.KindEmpty
		r.f.Bypasses(reason.NoStatement)
	case 1:
	default:
		r.f.Pins = nil // each is of one of them
		r.f.Kind, r.f.Definition = analysis.KindSeveral, ""
		r.f.Bypasses(reason.Several)
	}
	return r.f
}

// reader collects the facts of one statement string.
type reader struct {
	analysis.Lists
	f      *analysis.Facts
	syntax *statement.Syntax
	sql    string
	ctes   []string // names of WITH that can be meant where the walk is
}

func name(t *ast.TableName) analysis.Name {
	return analysis.Name{Schema: t.Schema.O, Name: t.Name.O}
}

// read notes a table that is read.
func (r *reader) read(n analysis.Name) {
	if System(n.Schema) {
		r.f.System = true
		r.f.AddReason(reason.About(reason.ReadsSystemTable, n.String()))
	}
	if r.First(&r.f.Reads, n) {
		r.f.Reads = append(r.f.Reads, n)
	} else {
		r.AddName(&r.f.Again, n)
	}
}

// write notes a table that is written.
func (r *reader) write(n analysis.Name, events analysis.Events, sets ...string) {
	if System(n.Schema) {
		r.f.Effect |= analysis.Schema | analysis.Shared // privileges and definitions are rows of tables here
		r.f.MayGrant = true
	}
	w := analysis.Write{Name: n, Events: events, Sets: sets}
	if r.First(&r.f.Writes, n) {
		r.f.Writes = append(r.f.Writes, w)
	} else {
		r.AddName(&r.f.Rewritten, n)
		r.f.Writes = analysis.AddWrite(r.f.Writes, w)
	}
	r.f.Bypasses(reason.Writes)
}
