package postgres

import (
	"slices"

	pg "github.com/pganalyze/pg_query_go/v6"

	"jollylarder/internal/core/analysis"
)

// pinning finds the columns that the conditions of one query or write fix to literals.
type pinning struct{ analysis.Pinning }

// pinsOfSelect finds the columns that a query fixes to literals. Only the conditions of the outermost query count.
func (r *reader) pinsOfSelect(s *pg.SelectStmt, from *source) {
	r.f.Pins = append(r.f.Pins, r.conditions(s.WhereClause, from, analysis.PinOfRead)...)
	r.f.RowsAreFound = len(s.GroupClause) == 0 && s.HavingClause == nil && len(s.FromClause) > 0 && !from.maybe &&
		!slices.ContainsFunc(s.TargetList, callsSomething)
}

// conditions gives the columns that are fixed by all conditions that must hold.
func (r *reader) conditions(where *pg.Node, from *source, of analysis.PinOf) []analysis.Pin {
	var x pinning
	for _, c := range append([]condition{{where, r.scope}}, from.on...) {
		x.conjuncts(c.Node, c.scope)
	}
	return x.Pins(of)
}

// callsSomething says whether an item of a list of columns is more than a column, a literal, or a cast of these. It may
// be an aggregate then, which gives a row of nothing, or a function that gives several.
func callsSomething(n *pg.Node) bool {
	v := n.GetResTarget().GetVal()
	for v.GetTypeCast() != nil {
		v = v.GetTypeCast().Arg
	}
	return v.GetColumnRef() == nil && v.GetAConst() == nil && v.GetParamRef() == nil
}

// pinsOfWrite finds the columns that an UPDATE or DELETE fixes, among them those of the rows that it writes.
func (r *reader) pinsOfWrite(where *pg.Node, from *source) {
	r.f.Pins = append(r.f.Pins, r.conditions(where, from, analysis.PinOfOld)...)
}

// pinsAssigned finds the columns to which an UPDATE assigns literals.
func (r *reader) pinsAssigned(s *pg.UpdateStmt) {
	for _, t := range s.TargetList {
		x := t.GetResTarget()
		if v, ok := fixed(x.GetVal()); ok && len(x.Indirection) == 0 {
			r.pin(analysis.Pin{Table: name(s.Relation), Column: x.Name, Of: analysis.PinOfNew, Values: v})
		}
	}
}

// pinsOfInsert finds the columns for which an INSERT gives literals in every row. Where it may find a row there and
// update it, those are pinned by which that is found.
func (r *reader) pinsOfInsert(s *pg.InsertStmt) {
	rows := s.SelectStmt.GetSelectStmt().GetValuesLists()
	conflict := s.OnConflictClause
	of := analysis.PinOfNew
	var only []string
	if conflict.GetAction() == pg.OnConflictAction_ONCONFLICT_UPDATE {
		of = analysis.PinOfConflict
		for _, e := range conflict.GetInfer().GetIndexElems() {
			if x := e.GetIndexElem(); x.GetExpr() == nil {
				only = append(only, x.GetName())
			}
		}
	}
	for i, c := range s.Cols {
		column := c.GetResTarget()
		if of == analysis.PinOfConflict && !slices.Contains(only, column.GetName()) ||
			len(column.GetIndirection()) > 0 ||
			s.Override == pg.OverridingKind_OVERRIDING_USER_VALUE { // which takes others than those given
			continue
		}
		var all []analysis.PinValue
		known := len(rows) > 0
		for _, row := range rows {
			items := row.GetList().GetItems()
			if !known || i >= len(items) {
				known = false
				break
			}
			var v []analysis.PinValue
			v, known = fixed(items[i])
			all = append(all, v...)
		}
		if known {
			r.pin(analysis.Pin{Table: name(s.Relation), Column: column.GetName(), Of: of, Values: all})
		}
	}
}

// conjuncts looks at every condition that must hold.
func (x *pinning) conjuncts(n *pg.Node, in *analysis.Scope) {
	switch c := n.GetNode().(type) {
	case *pg.Node_BoolExpr:
		if c.BoolExpr.Boolop == pg.BoolExprType_AND_EXPR {
			for _, a := range c.BoolExpr.Args {
				x.conjuncts(a, in)
			}
		}
	case *pg.Node_AExpr:
		e := c.AExpr
		if len(e.Name) != 1 || e.Name[0].GetString_().GetSval() != "=" {
			return
		}
		switch e.Kind {
		case pg.A_Expr_Kind_AEXPR_OP:
			if v, ok := fixed(e.Rexpr); ok {
				x.Fix(plain(e.Lexpr, in), v)
			} else if v, ok := fixed(e.Lexpr); ok {
				x.Fix(plain(e.Rexpr, in), v)
			} else {
				x.Equate(plain(e.Lexpr, in), plain(e.Rexpr, in))
			}
		case pg.A_Expr_Kind_AEXPR_IN:
			var all []analysis.PinValue
			for _, item := range e.Rexpr.GetList().GetItems() {
				v, ok := fixed(item)
				if !ok || v[0].Array {
					return
				}
				all = append(all, v...)
			}
			x.Fix(plain(e.Lexpr, in), all)
		case pg.A_Expr_Kind_AEXPR_OP_ANY:
			if v, ok := fixed(e.Rexpr); ok {
				array := e.Rexpr
				for array.GetTypeCast() != nil {
					array = array.GetTypeCast().Arg
				}
				if array.GetAArrayExpr() == nil {
					v[0].Array = true
				}
				x.Fix(plain(e.Lexpr, in), v)
			}
		}
	}
}

// fixed says whether an expression is a literal or a parameter, or an array of them, and where these stand.
func fixed(n *pg.Node) (v []analysis.PinValue, ok bool) {
	switch x := n.GetNode().(type) {
	case *pg.Node_AConst:
		return []analysis.PinValue{{At: int(x.AConst.Location)}}, !x.AConst.Isnull
	case *pg.Node_ParamRef:
		return []analysis.PinValue{{At: int(x.ParamRef.Location), Parameter: int(x.ParamRef.Number)}}, true
	case *pg.Node_AArrayExpr:
		for _, e := range x.AArrayExpr.Elements {
			here, ok := fixed(e)
			if !ok || e.GetAArrayExpr() != nil {
				return nil, false
			}
			v = append(v, here...)
		}
		return v, len(v) > 0
	case *pg.Node_TypeCast:
		v, ok := fixed(x.TypeCast.Arg)
		if !ok {
			return nil, false
		}
		cast := "?" // one by which the value may become another
		if t := x.TypeCast.TypeName; len(t.GetTypmods()) == 0 {
			cast = qualified(t.GetNames()).Name
			if len(t.GetArrayBounds()) > 0 {
				cast += "[]"
			}
		}
		for i := range v {
			if v[i].Cast != "" && v[i].Cast != cast {
				cast = "?"
			}
			v[i].Cast = cast
		}
		return v, true
	case *pg.Node_AExpr: // a sign before a number
		if x.AExpr.Lexpr != nil || x.AExpr.Kind != pg.A_Expr_Kind_AEXPR_OP {
			return nil, false
		}
		v, ok := fixed(x.AExpr.Rexpr)
		sign := qualified(x.AExpr.Name).Name
		if !ok || len(v) != 1 || v[0].Negative || v[0].Cast != "" || sign != "-" && sign != "+" {
			return nil, false
		}
		v[0].Negative = sign == "-"
		return v, true
	}
	return nil, false
}

// plain gives the column that an expression is, or nil.
func plain(n *pg.Node, in *analysis.Scope) *analysis.Ref {
	ref := &analysis.Ref{Scope: in}
	for _, f := range n.GetColumnRef().GetFields() {
		if f.GetString_() == nil {
			return nil
		}
		ref.Path = append(ref.Path, f.GetString_().Sval)
	}
	if len(ref.Path) == 0 {
		return nil
	}
	return ref
}

func (r *reader) pin(p analysis.Pin) {
	if p.Ref != nil || p.Column != "" {
		r.f.Pins = append(r.f.Pins, p)
	}
}
