package postgres

import (
	"slices"
	"strconv"

	pg "github.com/pganalyze/pg_query_go/v6"

	"jollylarder/internal/core/analysis"
	"jollylarder/internal/core/reason"
)

// cte is a common table expression that can be named at one place, with those that could before it.
type cte struct {
	name    string
	columns []analysis.Output
	open    bool
	next    *cte
}

func (c *cte) find(name string) *cte {
	for ; c != nil; c = c.next {
		if c.name == name {
			return c
		}
	}
	return nil
}

// level begins a query within another, whose names it can see where outer is the scope there; what it gives goes back.
func (r *reader) level(outer *analysis.Scope) (back func()) {
	scope, ctes := r.scope, r.ctes
	r.scope = outer
	return func() { r.scope, r.ctes = scope, ctes }
}

// subquery reads a query that stands in an expression, and sees the names around it.
func (r *reader) subquery(n *pg.Node) (columns []analysis.Output, open bool) {
	defer r.level(r.scope)()
	for _, op := range []string{"=", "<", ">"} { // those of IN, DISTINCT, GROUP BY, ORDER BY, USING, and of keys
		r.AddText(&r.f.Operators, op)
	}
	switch s := n.GetNode().(type) {
	case nil:
	case *pg.Node_SelectStmt:
		return r.query(s.SelectStmt)
	case *pg.Node_InsertStmt:
		return r.insert(s.InsertStmt)
	case *pg.Node_UpdateStmt:
		return r.update(s.UpdateStmt)
	case *pg.Node_DeleteStmt:
		return r.delete(s.DeleteStmt)
	case *pg.Node_MergeStmt:
		return r.merge(s.MergeStmt)
	default:
		r.notUnderstood(n)
	}
	return nil, true
}

// with reads the common table expressions before a query.
func (r *reader) with(w *pg.WithClause) {
	if w == nil {
		return
	}
	if w.Recursive { // each sees all of them
		for _, n := range w.Ctes {
			c := n.GetCommonTableExpr()
			columns, open := namesOf(c.Ctequery.GetSelectStmt())
			r.ctes = &cte{c.Ctename, renamed(columns, c.Aliascolnames), open, r.ctes}
		}
	}
	for _, n := range w.Ctes {
		c := n.GetCommonTableExpr()
		if c.SearchClause != nil || c.CycleClause != nil {
			r.f.Bypasses(reason.SearchOrCycle)
			r.f.Star, r.f.Whole = true, true
			if c.CycleClause != nil {
				r.walk(c.CycleClause.CycleMarkValue)
				r.walk(c.CycleClause.CycleMarkDefault)
			}
		}
		columns, open := r.subquery(c.Ctequery)
		if w.Recursive {
			for i := range columns { // what the recursion adds may be of another kind
				columns[i].Ref = nil
			}
		}
		r.ctes = &cte{
			c.Ctename,
			renamed(columns, c.Aliascolnames),
			open || c.SearchClause != nil || c.CycleClause != nil,
			r.ctes,
		}
	}
}

// renamed gives columns under other names, as far as there are some.
func renamed(columns []analysis.Output, names []*pg.Node) []analysis.Output {
	out := slices.Clone(columns)
	for i, n := range names {
		if i < len(out) {
			out[i].Name = n.GetString_().GetSval()
		} else {
			out = append(out, analysis.Output{Name: n.GetString_().GetSval()})
		}
	}
	return out
}

// query reads a SELECT, which sees the names in r.scope, and gives its columns.
func (r *reader) query(s *pg.SelectStmt) (columns []analysis.Output, open bool) {
	f := r.f
	outermost := r.outermost
	r.outermost = false
	if (s.LimitCount != nil || s.LimitOffset != nil) ||
		len(s.DistinctClause) > 0 && s.DistinctClause[0].GetNode() != nil {
		f.AnyRows = true
	}
	if len(s.LockingClause) > 0 {
		f.Bypasses(reason.Locks)
	}
	if s.IntoClause != nil {
		f.Effect |= analysis.Schema
		f.Bypasses(reason.CreatesTable)
	}
	r.with(s.WithClause)
	outer := r.scope
	if s.Op != pg.SetOperation_SETOP_NONE {
		columns, open = r.arm(s.Larg, outer)
		r.arm(s.Rarg, outer)
		for i := range columns {
			columns[i].Ref = nil
		}
		for _, n := range s.SortClause { // which names columns of the result
			r.operator(n.GetSortBy().GetUseOp())
		}
		r.walk(s.LimitOffset)
		r.walk(s.LimitCount)
		return columns, open
	}
	from := r.from(s.FromClause, outer)
	r.scope = &analysis.Scope{Items: from.left, Outer: outer, Merges: from.merges}
	if outermost {
		r.pinsOfSelect(s, from)
	}
	for i, list := range s.ValuesLists {
		r.walk(list)
		if i == 0 {
			for range list.GetList().GetItems() {
				columns = append(columns, analysis.Output{Name: "column" + strconv.Itoa(len(columns)+1)})
			}
		}
	}
	for _, t := range s.TargetList {
		c, more := r.target(t)
		columns, open = append(columns, c...), open || more
	}
	r.walk(s.WhereClause)
	behind := *r.scope // what comes now may also mean results
	for _, c := range columns {
		behind.Results = append(behind.Results, c.Name)
	}
	r.scope = &behind
	r.all(s.DistinctClause)
	r.all(s.GroupClause)
	r.walk(s.HavingClause)
	r.all(s.WindowClause)
	r.all(s.SortClause)
	r.walk(s.LimitOffset)
	r.walk(s.LimitCount)
	return columns, open
}

// arm reads one side of a UNION or the like.
func (r *reader) arm(s *pg.SelectStmt, outer *analysis.Scope) (columns []analysis.Output, open bool) {
	if s == nil {
		return nil, true
	}
	defer r.level(outer)()
	return r.query(s)
}

// target reads an item of a list of results.
func (r *reader) target(n *pg.Node) (columns []analysis.Output, open bool) {
	t := n.GetResTarget()
	if t == nil {
		r.walk(n)
		return nil, true
	}
	if c := t.Val.GetColumnRef(); c != nil {
		ref := r.column(c)
		switch {
		case ref.All:
			return nil, true
		case t.Name != "":
			return []analysis.Output{{Name: t.Name, Ref: ref}}, false
		}
		return []analysis.Output{{Name: ref.Path[len(ref.Path)-1], Ref: ref}}, false
	}
	r.walk(t.Val)
	return nameOf(t)
}

// nameOf gives the name of a result that is more than a column.
func nameOf(t *pg.ResTarget) (columns []analysis.Output, open bool) {
	name := t.GetName()
	if name == "" {
		if x := t.GetVal().GetFuncCall(); x != nil {
			name = qualified(x.Funcname).Name
		}
	}
	if c := t.GetVal().GetColumnRef(); name == "" && c != nil {
		name = c.Fields[len(c.Fields)-1].GetString_().GetSval()
	}
	if x := t.GetVal().GetAIndirection(); x != nil && x.Indirection[len(x.Indirection)-1].GetAStar() != nil {
		return nil, true
	}
	return []analysis.Output{{Name: name}}, name == "" // the server gives it one
}

// namesOf gives the columns of a query's result without reading it.
func namesOf(s *pg.SelectStmt) (columns []analysis.Output, open bool) {
	if s == nil {
		return nil, true
	}
	if s.Op != pg.SetOperation_SETOP_NONE {
		return namesOf(s.Larg)
	}
	if len(s.ValuesLists) > 0 {
		for i := range s.ValuesLists[0].GetList().GetItems() {
			columns = append(columns, analysis.Output{Name: "column" + strconv.Itoa(i+1)})
		}
		return columns, false
	}
	for _, t := range s.TargetList {
		c, more := nameOf(t.GetResTarget())
		columns, open = append(columns, c...), open || more
	}
	return columns, open
}

// from reads the items of a FROM.
func (r *reader) from(list []*pg.Node, outer *analysis.Scope) *source {
	before := r.scope
	defer func() { r.scope = before }()
	x := &source{r: r, outer: outer}
	for _, n := range list {
		x.left = append(x.left, x.item(n)...)
	}
	return x
}

// source is a FROM that is being read, or has been.
type source struct {
	r      *reader
	outer  *analysis.Scope
	left   []*analysis.Item // what stands to the left of what is being read, and in the end all items whose names can be used beside it
	on     []condition      // of inner joins
	merges bool             // there is a USING or NATURAL
	maybe  bool             // some of these are of a side of an outer join of which there may be no row
}

// condition is one that must hold, and what names mean in it.
type condition struct {
	*pg.Node
	scope *analysis.Scope
}

// lateral has names mean what stands to the left.
func (x *source) lateral() {
	x.r.scope = &analysis.Scope{Items: slices.Clone(x.left), Outer: x.outer}
}

func (x *source) item(n *pg.Node) []*analysis.Item {
	r := x.r
	switch v := n.GetNode().(type) {
	case *pg.Node_RangeVar:
		return []*analysis.Item{r.table(v.RangeVar)}
	case *pg.Node_RangeSubselect:
		s := v.RangeSubselect
		if r.scope = x.outer; s.Lateral {
			x.lateral()
		}
		columns, open := r.subquery(s.Subquery)
		return []*analysis.Item{aliased(&analysis.Item{Columns: columns, Open: open}, s.Alias)}
	case *pg.Node_RangeFunction:
		x.lateral()
		return []*analysis.Item{r.functions(v.RangeFunction)}
	case *pg.Node_RangeTableFunc:
		x.lateral()
		t := v.RangeTableFunc
		r.walk(t.Docexpr)
		r.walk(t.Rowexpr)
		r.all(t.Namespaces)
		i := &analysis.Item{}
		for _, n := range t.Columns {
			c := n.GetRangeTableFuncCol()
			if c.TypeName != nil {
				r.castTo(c.TypeName, nil)
			}
			r.walk(c.Colexpr)
			r.walk(c.Coldefexpr)
			i.Columns = append(i.Columns, analysis.Output{Name: c.Colname})
		}
		return []*analysis.Item{aliased(i, t.Alias)}
	case *pg.Node_JoinExpr:
		return x.join(v.JoinExpr)
	}
	x.lateral()
	r.notUnderstood(n)
	return []*analysis.Item{{Open: true}}
}

// join reads a join, and gives the items whose names can be used beside it.
func (x *source) join(j *pg.JoinExpr) []*analysis.Item {
	r := x.r
	left := x.item(j.Larg)
	before := x.left
	x.left = append(slices.Clone(before), left...)
	right := x.item(j.Rarg)
	x.left = before
	both := slices.Concat(left, right)
	l, rt := &analysis.Scope{Items: left, Merges: x.merges}, &analysis.Scope{Items: right, Merges: x.merges}
	if j.IsNatural { // by which columns, the tables say
		r.f.Star = true
		r.f.Refs = append(r.f.Refs, &analysis.Ref{Scope: l, All: true}, &analysis.Ref{Scope: rt, All: true})
	}
	var used []analysis.Output
	for _, c := range j.UsingClause {
		name := c.GetString_().GetSval()
		r.AddText(&r.f.Columns, name)
		r.f.Refs = append(
			r.f.Refs,
			&analysis.Ref{Scope: l, Path: []string{name}},
			&analysis.Ref{Scope: rt, Path: []string{name}},
		)
		used = append(used, analysis.Output{Name: name})
	}
	x.merges = x.merges || j.IsNatural || len(used) > 0
	r.scope = &analysis.Scope{Items: both, Outer: x.outer, Merges: x.merges}
	r.walk(j.Quals)
	// Conditions of outer joins do not take rows out.
	mayLackLeft, mayLackRight := j.Jointype == pg.JoinType_JOIN_RIGHT ||
		j.Jointype == pg.JoinType_JOIN_FULL, j.Jointype == pg.JoinType_JOIN_LEFT ||
		j.Jointype == pg.JoinType_JOIN_FULL
	x.maybe = x.maybe || mayLackLeft && j.Larg.GetRangeVar() == nil || mayLackRight && j.Rarg.GetRangeVar() == nil
	if j.Jointype == pg.JoinType_JOIN_INNER && j.Quals != nil {
		x.on = append(x.on, condition{j.Quals, r.scope})
	}
	if j.JoinUsingAlias != nil {
		both = append(
			both,
			&analysis.Item{Name: j.JoinUsingAlias.Aliasname, Aliased: true, Columns: used, Hidden: true},
		)
	}
	if j.Alias != nil {
		return []*analysis.Item{aliased(&analysis.Item{Joined: both, Open: true}, j.Alias)}
	}
	return both
}

// table gives the item that a table's name is, which may be that of a common table expression.
func (r *reader) table(v *pg.RangeVar) *analysis.Item {
	i := &analysis.Item{Name: v.Relname}
	if c := r.ctes.find(v.Relname); c != nil && v.Schemaname == "" {
		i.Columns, i.Open = c.columns, c.open
	} else {
		i.Table = name(v)
		r.read(v)
	}
	return aliased(i, v.Alias)
}

// aliased gives an item the names that it is given.
func aliased(i *analysis.Item, a *pg.Alias) *analysis.Item {
	if a == nil {
		return i
	}
	i.Name, i.Aliased = a.Aliasname, true
	if i.Table.Name == "" && i.Joined == nil {
		i.Columns = renamed(i.Columns, a.Colnames)
		return i
	}
	for _, n := range a.Colnames {
		i.Renamed = append(i.Renamed, n.GetString_().GetSval())
	}
	return i
}

// single are functions that give rows of one column, under these names beside that of the item.
var single = map[string]string{
	"generate_series": "", "generate_subscripts": "", "regexp_split_to_table": "", "string_to_table": "", "json_object_keys": "", "jsonb_object_keys": "",
	"json_array_elements": "value", "json_array_elements_text": "value", "jsonb_array_elements": "value", "jsonb_array_elements_text": "value",
}

// functions reads the functions of one item of a FROM.
func (r *reader) functions(x *pg.RangeFunction) *analysis.Item {
	i := &analysis.Item{Open: true}
	for _, n := range x.Functions { // each a list of the call and its columns' types
		parts := n.GetList().GetItems()
		for _, p := range parts {
			if l := p.GetList(); l != nil {
				r.definitions(l.Items, i)
				continue
			}
			r.walk(p)
			if call := p.GetFuncCall(); call != nil {
				i.Name = qualified(call.Funcname).Name
			}
		}
		if column, ok := single[i.Name]; ok && len(x.Functions) == 1 && !x.Ordinality {
			i.Open = false
			i.Columns = []analysis.Output{{Name: i.Name}}
			if x.Alias != nil {
				i.Columns[0].Name = x.Alias.Aliasname
			}
			if column != "" && len(x.Alias.GetColnames()) == 0 {
				i.Columns = append(i.Columns, analysis.Output{Name: column})
			}
		}
	}
	r.definitions(x.Coldeflist, i)
	return aliased(i, x.Alias)
}

// definitions reads the types that a function's columns are said to have.
func (r *reader) definitions(list []*pg.Node, i *analysis.Item) {
	for _, n := range list {
		d := n.GetColumnDef()
		if d == nil {
			r.walk(n)
			continue
		}
		r.castTo(d.TypeName, nil)
		if d.CollClause != nil {
			r.collation(d.CollClause.Collname)
		}
		i.Columns = append(i.Columns, analysis.Output{Name: d.Colname})
	}
}
