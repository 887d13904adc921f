package postgres

import (
	"slices"

	pg "github.com/pganalyze/pg_query_go/v6"

	"jollylarder/internal/core/analysis"
)

// scope is the tables that stand beside each other in one FROM, by the name under which their columns are asked for.
type scope struct {
	tables map[string]*pg.RangeVar
	others bool // something that is no table stands there too
	vague  bool // names of columns may mean something else
	maybe  bool // some conditions are of a side of an outer join of which there may be no row

	pins  []scopePin
	equal [][2]scopeColumn // columns that must be equal
}

// scopeColumn is a column of a table in scope; the table is nil where it may be any of them.
type scopeColumn struct {
	table  *pg.RangeVar
	column string
}

func (c scopeColumn) written() analysis.Column {
	return analysis.Column{Table: name(c.table), Column: c.column}
}

type scopePin struct {
	scopeColumn
	values []analysis.PinValue
	via    []analysis.Column
}

// pinsOfSelect finds the columns that a query fixes to literals. Only what stands in the outermost query counts: a table
// that is also mentioned elsewhere is not pinned by it, which is for Again to tell.
func (r *reader) pinsOfSelect(s *pg.SelectStmt) {
	if s.Op != pg.SetOperation_SETOP_NONE {
		return
	}
	sc := scope{tables: map[string]*pg.RangeVar{}}
	var on []*pg.Node
	for _, n := range s.FromClause {
		on = sc.add(n, on)
	}
	sc.conjuncts(s.WhereClause)
	for _, n := range on {
		sc.conjuncts(n)
	}
	sc.follow()
	for _, p := range sc.pins {
		r.pin(p, analysis.PinOfRead)
	}
	r.f.RowsAreFound = len(s.GroupClause) == 0 && s.HavingClause == nil && len(s.FromClause) > 0 && !sc.maybe && !slices.ContainsFunc(s.TargetList, callsSomething)
}

// callsSomething says whether an item of a list of columns is more than a column, a literal, or a cast of these. It may be an aggregate
// then, which gives a row of nothing, or a function that gives several.
func callsSomething(n *pg.Node) bool {
	v := n.GetResTarget().GetVal()
	for v.GetTypeCast() != nil {
		v = v.GetTypeCast().Arg
	}
	return v.GetColumnRef() == nil && v.GetAConst() == nil && v.GetParamRef() == nil
}

// pinsOfWrite finds the columns that an UPDATE or DELETE fixes of the rows that it writes.
func (r *reader) pinsOfWrite(target *pg.RangeVar, from []*pg.Node, where *pg.Node) {
	sc := scope{tables: map[string]*pg.RangeVar{}}
	on := sc.add(&pg.Node{Node: &pg.Node_RangeVar{RangeVar: target}}, nil)
	for _, n := range from {
		on = sc.add(n, on)
	}
	sc.conjuncts(where)
	for _, n := range on {
		sc.conjuncts(n)
	}
	sc.follow()
	for _, p := range sc.pins {
		if p.table == target {
			r.pin(p, analysis.PinOfOld)
		}
	}
}

// pinsAssigned finds the columns to which an UPDATE assigns literals.
func (r *reader) pinsAssigned(s *pg.UpdateStmt) {
	for _, t := range s.TargetList {
		x := t.GetResTarget()
		if v, ok := fixed(x.GetVal()); ok && len(x.Indirection) == 0 {
			r.pin(scopePin{scopeColumn: scopeColumn{s.Relation, x.Name}, values: v}, analysis.PinOfNew)
		}
	}
}

// pinsOfInsert finds the columns for which an INSERT gives literals in every row. Where it may find a row there and update it, those are
// pinned by which that is found.
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
		if of == analysis.PinOfConflict && !slices.Contains(only, column.GetName()) || len(column.GetIndirection()) > 0 ||
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
			r.pin(scopePin{scopeColumn: scopeColumn{s.Relation, column.GetName()}, values: all}, of)
		}
	}
}

// add takes in one item of FROM, and gives the conditions of its inner joins with those there were. Conditions of outer
// joins do not take rows out.
func (sc *scope) add(n *pg.Node, on []*pg.Node) []*pg.Node {
	switch x := n.GetNode().(type) {
	case *pg.Node_RangeVar:
		called := x.RangeVar.Relname
		if x.RangeVar.Alias != nil {
			called = x.RangeVar.Alias.Aliasname
			sc.vague = sc.vague || len(x.RangeVar.Alias.Colnames) > 0 // its columns have other names here
		}
		if _, twice := sc.tables[called]; twice {
			sc.vague = true
		}
		sc.tables[called] = x.RangeVar
	case *pg.Node_JoinExpr:
		j := x.JoinExpr
		on = sc.add(j.Larg, on)
		on = sc.add(j.Rarg, on)
		sc.vague = sc.vague || j.Alias != nil
		left, right := j.Jointype == pg.JoinType_JOIN_RIGHT || j.Jointype == pg.JoinType_JOIN_FULL, j.Jointype == pg.JoinType_JOIN_LEFT || j.Jointype == pg.JoinType_JOIN_FULL
		sc.maybe = sc.maybe || left && j.Larg.GetRangeVar() == nil || right && j.Rarg.GetRangeVar() == nil
		if j.Jointype == pg.JoinType_JOIN_INNER && j.Quals != nil {
			on = append(on, j.Quals)
		}
	default:
		sc.others = true
	}
	return on
}

// conjuncts looks at every condition that must hold.
func (sc *scope) conjuncts(n *pg.Node) {
	switch x := n.GetNode().(type) {
	case *pg.Node_BoolExpr:
		if x.BoolExpr.Boolop == pg.BoolExprType_AND_EXPR {
			for _, a := range x.BoolExpr.Args {
				sc.conjuncts(a)
			}
		}
	case *pg.Node_AExpr:
		e := x.AExpr
		if len(e.Name) != 1 || e.Name[0].GetString_().GetSval() != "=" {
			return
		}
		switch e.Kind {
		case pg.A_Expr_Kind_AEXPR_OP:
			if v, ok := fixed(e.Rexpr); ok {
				sc.pin(e.Lexpr, v)
			} else if v, ok := fixed(e.Lexpr); ok {
				sc.pin(e.Rexpr, v)
			} else {
				a, ok := sc.column(e.Lexpr)
				b, ok2 := sc.column(e.Rexpr)
				if ok && ok2 && a.table != nil && b.table != nil && a != b {
					sc.equal = append(sc.equal, [2]scopeColumn{a, b})
				}
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
			sc.pin(e.Lexpr, all)
		case pg.A_Expr_Kind_AEXPR_OP_ANY:
			if v, ok := fixed(e.Rexpr); ok {
				array := e.Rexpr
				for array.GetTypeCast() != nil {
					array = array.GetTypeCast().Arg
				}
				if array.GetAArrayExpr() == nil {
					v[0].Array = true
				}
				sc.pin(e.Lexpr, v)
			}
		}
	}
}

// follow pins columns that must be equal to pinned ones.
func (sc *scope) follow() {
	has := func(c scopeColumn) bool {
		return slices.ContainsFunc(sc.pins, func(p scopePin) bool { return p.scopeColumn == c })
	}
	for i := 0; i < len(sc.pins); i++ { // it grows on the way
		p := sc.pins[i]
		if p.table == nil {
			continue
		}
		for _, e := range sc.equal {
			for _, side := range [2][2]scopeColumn{{e[0], e[1]}, {e[1], e[0]}} {
				if side[0] == p.scopeColumn && !has(side[1]) {
					sc.pins = append(sc.pins, scopePin{side[1], p.values, append(slices.Clone(p.via), p.written())})
				}
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
		return []analysis.PinValue{{At: int(x.ParamRef.Location)}}, true
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

// column finds the column that an expression is.
func (sc *scope) column(n *pg.Node) (c scopeColumn, ok bool) {
	fields := n.GetColumnRef().GetFields()
	if len(fields) == 0 {
		return c, false
	}
	c.column = fields[len(fields)-1].GetString_().GetSval()
	if c.column == "" {
		return c, false
	}
	if len(fields) > 1 {
		c.table = sc.tables[fields[len(fields)-2].GetString_().GetSval()]
		return c, c.table != nil && !sc.vague
	}
	if len(sc.tables) == 1 && !sc.others {
		for _, t := range sc.tables {
			c.table = t
		}
	}
	return c, !sc.vague
}

func (sc *scope) pin(n *pg.Node, v []analysis.PinValue) {
	if c, ok := sc.column(n); ok {
		sc.pins = append(sc.pins, scopePin{scopeColumn: c, values: v})
	}
}

func (r *reader) pin(p scopePin, of analysis.PinOf) {
	if p.column != "" {
		r.f.Pins = append(r.f.Pins, analysis.Pin{Table: name(p.table), Column: p.column, Of: of, Values: p.values, Via: p.via})
	}
}
