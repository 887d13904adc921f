package postgres

import (
	pg "github.com/pganalyze/pg_query_go/v6"

	"jollylarder/internal/core/analysis"
)

// written gives the item of the table that a statement writes.
func (r *reader) written(v *pg.RangeVar) *analysis.Item {
	i := aliased(&analysis.Item{Name: v.GetRelname(), Table: name(v)}, v.GetAlias())
	i.Target = true
	return i
}

// returning reads what a write gives back.
func (r *reader) returning(list []*pg.Node) (columns []analysis.Output, open bool) {
	for _, t := range list {
		c, more := r.target(t)
		columns, open = append(columns, c...), open || more
	}
	return columns, open
}

func (r *reader) insert(s *pg.InsertStmt) (columns []analysis.Output, open bool) {
	outermost := r.outermost
	r.outermost = false
	r.with(s.WithClause)
	events := analysis.Insert
	conflict := s.OnConflictClause
	if conflict.GetAction() == pg.OnConflictAction_ONCONFLICT_UPDATE {
		events |= analysis.Update
	}
	r.write(s.Relation, events, targets(conflict.GetTargetList())...)
	if outermost {
		r.pinsOfInsert(s)
	}
	r.all(s.Cols)
	if s.SelectStmt != nil {
		r.subquery(s.SelectStmt)
	}
	outer, target := r.scope, r.written(s.Relation)
	if conflict != nil {
		r.scope = &analysis.Scope{
			Outer: outer,
			Items: []*analysis.Item{target, {Name: "excluded", Aliased: true, Table: target.Table, Hidden: true}},
		}
		for _, e := range conflict.Infer.GetIndexElems() {
			x := e.GetIndexElem()
			r.collation(x.Collation)
			r.walk(x.Expr)
		}
		r.walk(conflict.Infer.GetWhereClause())
		r.all(conflict.TargetList)
		r.walk(conflict.WhereClause)
	}
	if len(s.ReturningList) > 0 {
		r.mention(name(s.Relation))
	}
	r.scope = &analysis.Scope{Outer: outer, Items: []*analysis.Item{target}}
	return r.returning(s.ReturningList)
}

func (r *reader) update(s *pg.UpdateStmt) (columns []analysis.Output, open bool) {
	outermost := r.outermost
	r.outermost = false
	r.with(s.WithClause)
	r.write(s.Relation, analysis.Update, targets(s.TargetList)...)
	r.read(s.Relation)
	outer, target := r.scope, r.written(s.Relation)
	from := r.from(s.FromClause, outer)
	r.scope = &analysis.Scope{Outer: outer, Items: append([]*analysis.Item{target}, from.left...), Merges: from.merges}
	if outermost {
		r.pinsOfWrite(s.WhereClause, from)
		r.pinsAssigned(s)
	}
	r.all(s.TargetList)
	r.walk(s.WhereClause)
	return r.returning(s.ReturningList)
}

func (r *reader) delete(s *pg.DeleteStmt) (columns []analysis.Output, open bool) {
	outermost := r.outermost
	r.outermost = false
	r.with(s.WithClause)
	r.write(s.Relation, analysis.Delete)
	r.read(s.Relation)
	outer, target := r.scope, r.written(s.Relation)
	from := r.from(s.UsingClause, outer)
	r.scope = &analysis.Scope{Outer: outer, Items: append([]*analysis.Item{target}, from.left...), Merges: from.merges}
	if outermost {
		r.pinsOfWrite(s.WhereClause, from)
	}
	r.walk(s.WhereClause)
	return r.returning(s.ReturningList)
}

func (r *reader) merge(s *pg.MergeStmt) (columns []analysis.Output, open bool) {
	r.outermost = false
	r.with(s.WithClause)
	var events analysis.Events
	for _, w := range s.MergeWhenClauses {
		switch w.GetMergeWhenClause().GetCommandType() {
		case pg.CmdType_CMD_INSERT:
			events |= analysis.Insert
		case pg.CmdType_CMD_UPDATE:
			events |= analysis.Update
		case pg.CmdType_CMD_DELETE:
			events |= analysis.Delete
		}
	}
	r.write(s.Relation, events)
	r.read(s.Relation)
	outer, target := r.scope, r.written(s.Relation)
	r.scope = &analysis.Scope{
		Outer: outer,
		Items: append([]*analysis.Item{target}, r.from([]*pg.Node{s.SourceRelation}, outer).left...),
	}
	r.walk(s.JoinCondition)
	for _, n := range s.MergeWhenClauses {
		w := n.GetMergeWhenClause()
		r.walk(w.Condition)
		r.all(w.TargetList)
		r.all(w.Values)
	}
	return r.returning(s.ReturningList)
}
