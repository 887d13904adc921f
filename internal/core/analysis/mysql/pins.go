package mysql

import (
	"github.com/pingcap/tidb/pkg/parser/ast"
	"github.com/pingcap/tidb/pkg/parser/opcode"

	"jollylarder/internal/core/analysis"
	"jollylarder/internal/core/analysis/mysql/grammar"
)

// pinning finds the columns that the conditions of one query or write fix to literals.
type pinning struct {
	analysis.Pinning
	sql   string
	scope *analysis.Scope
}

// pinsOfSelect finds the columns that a query fixes to literals. Only the conditions of the outermost query count.
func (r *reader) pinsOfSelect(s *ast.SelectStmt) {
	if s.Kind != ast.SelectStmtKindSelect || s.From == nil || s.With != nil {
		return
	}
	scope := &analysis.Scope{}
	inner := items(s.From.TableRefs, scope)
	x := &pinning{sql: r.sql, scope: scope}
	x.conjuncts(s.Where)
	if inner {
		x.on(s.From.TableRefs)
	}
	r.f.Pins = append(r.f.Pins, x.Pins(analysis.PinOfRead)...)
	r.f.RowsAreFound = r.f.FromEach
}

// pinsOfWrite finds the columns that the conditions of an UPDATE or DELETE of one table fix, among them those of the rows
// that it writes.
func (r *reader) pinsOfWrite(t *ast.TableSource, where ast.ExprNode) {
	item := itemOf(t)
	item.Target = true
	x := &pinning{sql: r.sql, scope: &analysis.Scope{Items: []*analysis.Item{item}}}
	x.conjuncts(where)
	r.f.Pins = append(r.f.Pins, x.Pins(analysis.PinOfOld)...)
}

// pinsAssigned finds the columns to which an UPDATE of one table assigns literals.
func (r *reader) pinsAssigned(table analysis.Name, list []*ast.Assignment) {
	for _, a := range list {
		if v, ok := r.fixed(a.Expr); ok {
			r.f.Pins = append(r.f.Pins, analysis.Pin{Table: table, Column: a.Column.Name.L, Of: analysis.PinOfNew, Values: v})
		}
	}
}

// pinsOfInsert finds the columns for which an INSERT gives literals in every row. Where it may find rows there and change
// or take these, they are pinned by which they are found.
func (r *reader) pinsOfInsert(table analysis.Name, s *ast.InsertStmt) {
	of := analysis.PinOfNew
	if s.IsReplace || len(s.OnDuplicate) > 0 {
		of = analysis.PinOfConflict
	}
	for i, c := range s.Columns {
		var all []analysis.PinValue
		known := len(s.Lists) > 0
		for _, row := range s.Lists {
			var v []analysis.PinValue
			if known = known && i < len(row); known {
				v, known = r.fixed(row[i])
			}
			all = append(all, v...)
		}
		if known {
			r.f.Pins = append(r.f.Pins, analysis.Pin{Table: table, Column: c.Name.L, Of: of, Values: all})
		}
	}
}

// items adds what stands in a FROM to a scope, and says whether nothing is joined there by an outer join.
func items(n ast.ResultSetNode, into *analysis.Scope) (inner bool) {
	switch x := n.(type) {
	case nil:
		return true
	case *ast.Join:
		if x == nil {
			return true
		}
		into.Merges = into.Merges || x.NaturalJoin || len(x.Using) > 0
		left, right := items(x.Left, into), items(x.Right, into)
		return left && right && x.Tp != ast.LeftJoin && x.Tp != ast.RightJoin
	case *ast.TableSource:
		if j, is := x.Source.(*ast.Join); is {
			return items(j, into)
		}
		into.Items = append(into.Items, itemOf(x))
		return true
	}
	into.Items = append(into.Items, &analysis.Item{Open: true})
	return true
}

// itemOf gives what stands under one name.
func itemOf(t *ast.TableSource) *analysis.Item {
	item := &analysis.Item{Name: t.AsName.O, Aliased: t.AsName.O != ""}
	if n, is := t.Source.(*ast.TableName); is {
		item.Table = name(n)
		if !item.Aliased {
			item.Name = item.Table.Name
		}
	} else {
		item.Open = true
	}
	return item
}

// on looks at the conditions of joins, none of which may be an outer one.
func (x *pinning) on(n ast.ResultSetNode) {
	switch j := n.(type) {
	case *ast.Join:
		if j == nil {
			return
		}
		x.on(j.Left)
		x.on(j.Right)
		if j.On != nil {
			x.conjuncts(j.On.Expr)
		}
	case *ast.TableSource:
		if inside, is := j.Source.(*ast.Join); is {
			x.on(inside)
		}
	}
}

// conjuncts looks at every condition that must hold.
func (x *pinning) conjuncts(n ast.ExprNode) {
	switch c := n.(type) {
	case *ast.ParenthesesExpr:
		x.conjuncts(c.Expr)
	case *ast.BinaryOperationExpr:
		switch c.Op {
		case opcode.LogicAnd:
			x.conjuncts(c.L)
			x.conjuncts(c.R)
		case opcode.EQ:
			if v, ok := fixed(x.sql, c.R); ok {
				x.Fix(x.plain(c.L), v)
			} else if v, ok := fixed(x.sql, c.L); ok {
				x.Fix(x.plain(c.R), v)
			} else {
				x.Equate(x.plain(c.L), x.plain(c.R))
			}
		}
	case *ast.PatternInExpr:
		var all []analysis.PinValue
		for _, item := range c.List {
			v, ok := fixed(x.sql, item)
			if !ok {
				return
			}
			all = append(all, v...)
		}
		if !c.Not && c.Sel == nil && len(all) > 0 {
			x.Fix(x.plain(c.Expr), all)
		}
	}
}

func (r *reader) fixed(n ast.ExprNode) ([]analysis.PinValue, bool) { return fixed(r.sql, n) }

// fixed says whether an expression is a literal or a parameter, and where it stands.
func fixed(sql string, n ast.ExprNode) (v []analysis.PinValue, ok bool) {
	at := -1
	negative := false
	switch x := n.(type) {
	case *ast.ParenthesesExpr:
		return fixed(sql, x.Expr)
	case *grammar.Parameter:
		at = x.Offset
	case *grammar.Value:
		at = x.OriginTextPosition()
	case *ast.UnaryOperationExpr: // a sign before a number
		value, is := x.V.(*grammar.Value)
		if !is || x.Op != opcode.Minus {
			return nil, false
		}
		at, negative = value.OriginTextPosition(), true
	}
	return []analysis.PinValue{{At: at, Negative: negative}}, at >= 0 && begins(sql, at)
}

// begins says whether a literal or a parameter begins at a place, and is no part of another notation, as where the name
// of a character set stands before a text.
func begins(sql string, at int) bool {
	if at >= len(sql) {
		return false
	}
	switch c := sql[at]; {
	case c == '?', '0' <= c && c <= '9':
		return true
	case c != '\'' && c != '"':
		return false
	}
	return at == 0 || !nameChar(sql[at-1])
}

func nameChar(c byte) bool {
	return c >= 0x80 || c == '_' || c == '$' || '0' <= c && c <= '9' || 'a' <= c|0x20 && c|0x20 <= 'z'
}

// plain gives the column that an expression is, or nil.
func (x *pinning) plain(n ast.ExprNode) *analysis.Ref {
	switch c := n.(type) {
	case *ast.ParenthesesExpr:
		return x.plain(c.Expr)
	case *ast.ColumnNameExpr:
		ref := &analysis.Ref{Scope: x.scope}
		for _, part := range []string{c.Name.Schema.O, c.Name.Table.O} {
			if part != "" {
				ref.Path = append(ref.Path, part)
			}
		}
		ref.Path = append(ref.Path, c.Name.Name.L) // of which the case does not count
		return ref
	}
	return nil
}
