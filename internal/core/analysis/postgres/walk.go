package postgres

import (
	"strings"

	pg "github.com/pganalyze/pg_query_go/v6"
	"google.golang.org/protobuf/reflect/protoreflect"

	"jollylarder/internal/core/analysis"
	"jollylarder/internal/core/freshness"
	"jollylarder/internal/core/reason"
	"jollylarder/internal/core/statement"
	syntax "jollylarder/internal/core/statement/postgres"
)

// The walk visits every node of an expression. Each kind of node that the grammar makes has a case below, or makes its
// statement pass: TestEveryFieldIsClassified holds both against the grammar's own description.

// all reads a list of expressions.
func (r *reader) all(list []*pg.Node) {
	for _, n := range list {
		r.walk(n)
	}
}

// walk reads an expression, or a query within one.
// It is long, as it has a case of its own for each kind there is.
func (r *reader) walk(n *pg.Node) {
	f := r.f
	switch x := n.GetNode().(type) {
	case nil:
	case *pg.Node_ColumnRef:
		r.column(x.ColumnRef)
	case *pg.Node_AConst:
		f.Folds = f.Folds || x.AConst.Isnull
		// A date, a time, an interval or an amount of money is not written without a digit, nor is null in an array
		// without braces.
		f.Remembers = f.Remembers || r.plans && strings.ContainsAny(x.AConst.GetSval().GetSval(), "0123456789{")
		if s := x.AConst.GetSval(); s != nil && r.body && !freshness.Off(freshness.NowInBodies) && syntax.Syntax.MayMeanNow([]byte(s.Sval)) {
			f.Bypasses(reason.TextMayMeanTime)
		}
	case *pg.Node_ParamRef:
		r.parameters[int(x.ParamRef.Number)]++
	case *pg.Node_AExpr:
		r.expression(x.AExpr)
	case *pg.Node_BoolExpr:
		r.all(x.BoolExpr.Args)
	case *pg.Node_FuncCall:
		r.call(x.FuncCall)
		r.all(x.FuncCall.Args)
		r.all(x.FuncCall.AggOrder)
		r.walk(x.FuncCall.AggFilter)
		r.window(x.FuncCall.Over)
	case *pg.Node_TypeCast:
		r.cast(x.TypeCast)
		r.walk(x.TypeCast.Arg)
	case *pg.Node_SubLink:
		r.walk(x.SubLink.Testexpr)
		r.operator(x.SubLink.OperName)
		r.subquery(x.SubLink.Subselect)
	case *pg.Node_SelectStmt, *pg.Node_InsertStmt, *pg.Node_UpdateStmt, *pg.Node_DeleteStmt, *pg.Node_MergeStmt:
		r.subquery(n)
	case *pg.Node_CaseExpr:
		r.walk(x.CaseExpr.Arg)
		r.all(x.CaseExpr.Args)
		r.walk(x.CaseExpr.Defresult)
	case *pg.Node_CaseWhen:
		r.walk(x.CaseWhen.Expr)
		r.walk(x.CaseWhen.Result)
	case *pg.Node_CoalesceExpr:
		r.all(x.CoalesceExpr.Args)
	case *pg.Node_MinMaxExpr:
		r.all(x.MinMaxExpr.Args)
	case *pg.Node_NullTest:
		r.walk(x.NullTest.Arg)
	case *pg.Node_BooleanTest:
		r.walk(x.BooleanTest.Arg)
	case *pg.Node_RowExpr:
		r.all(x.RowExpr.Args)
	case *pg.Node_AArrayExpr:
		r.all(x.AArrayExpr.Elements)
	case *pg.Node_AIndirection:
		r.indirection(x.AIndirection)
	case *pg.Node_AIndices:
		r.walk(x.AIndices.Lidx)
		r.walk(x.AIndices.Uidx)
	case *pg.Node_CollateClause:
		r.collation(x.CollateClause.Collname)
		r.walk(x.CollateClause.Arg)
	case *pg.Node_ResTarget:
		r.walk(x.ResTarget.Val)
		for _, i := range x.ResTarget.Indirection { // of a column that is assigned
			if i.GetString_() == nil {
				r.walk(i)
			}
		}
	case *pg.Node_SortBy:
		r.operator(x.SortBy.UseOp)
		r.walk(x.SortBy.Node)
	case *pg.Node_GroupingSet:
		r.all(x.GroupingSet.Content)
	case *pg.Node_GroupingFunc:
		r.all(x.GroupingFunc.Args)
	case *pg.Node_WindowDef:
		r.window(x.WindowDef)
	case *pg.Node_NamedArgExpr:
		r.walk(x.NamedArgExpr.Arg)
	case *pg.Node_MultiAssignRef:
		r.walk(x.MultiAssignRef.Source)
	case *pg.Node_XmlExpr:
		r.all(x.XmlExpr.NamedArgs)
		r.all(x.XmlExpr.Args)
		f.AnyRows = true // xmlagg is a call, but what orders it is not looked for
	case *pg.Node_List:
		r.all(x.List.Items)
	case *pg.Node_SqlvalueFunction:
		switch x.SqlvalueFunction.Op {
		case pg.SQLValueFunctionOp_SVFOP_CURRENT_ROLE, pg.SQLValueFunctionOp_SVFOP_CURRENT_USER, pg.SQLValueFunctionOp_SVFOP_USER,
			pg.SQLValueFunctionOp_SVFOP_SESSION_USER:
			f.NamesUser = true
		case pg.SQLValueFunctionOp_SVFOP_CURRENT_CATALOG, pg.SQLValueFunctionOp_SVFOP_CURRENT_SCHEMA:
		default:
			f.Bypasses(reason.AsksForTime)
		}
	case *pg.Node_SetToDefault, *pg.Node_AStar, *pg.Node_String_, *pg.Node_CurrentOfExpr:
	default:
		r.notUnderstood(n)
	}
}

// notUnderstood reads what the walk has no case for. It makes the statement pass, and every name below it counts as one
// may: for its tables as a whole, and for what its functions may do.
func (r *reader) notUnderstood(n *pg.Node) {
	m := n.ProtoReflect()
	kind := m.WhichOneof(m.Descriptor().Oneofs().Get(0)).Message().Name()
	r.f.AddReason(reason.About(reason.UnsafeNode, string(kind)))
	r.f.Star, r.f.Whole = true, true
	r.below(m.Get(m.WhichOneof(m.Descriptor().Oneofs().Get(0))).Message())
}

// below has every node of the grammar below a message walked.
func (r *reader) below(m protoreflect.Message) {
	m.Range(func(fd protoreflect.FieldDescriptor, v protoreflect.Value) bool {
		visit := func(m protoreflect.Message) {
			switch x := m.Interface().(type) {
			case *pg.Node:
				if v := x.GetRangeVar(); v != nil {
					r.read(v)
				} else {
					r.walk(x)
				}
			case *pg.RangeVar:
				r.read(x)
			case *pg.TypeName:
				r.castTo(x, nil)
			default:
				r.below(m)
			}
		}
		switch {
		case fd.Message() == nil || fd.IsMap():
		case fd.IsList():
			for i := range v.List().Len() {
				visit(v.List().Get(i).Message())
			}
		default:
			visit(v.Message())
		}
		return true
	})
}

// changing are the system columns that change though nobody writes their row: by locks, writes that are rolled back,
// and the server's own work.
var changing = statement.Words("xmin xmax cmin cmax ctid")

// column reads a column's name.
func (r *reader) column(c *pg.ColumnRef) *analysis.Ref {
	f := r.f
	ref := &analysis.Ref{Scope: r.scope}
	for _, n := range c.Fields {
		switch {
		case n.GetAStar() != nil:
			ref.All = true
		default:
			ref.Path = append(ref.Path, n.GetString_().GetSval())
		}
	}
	f.Refs = append(f.Refs, ref)
	if ref.All {
		f.Star = true
		return ref
	}
	last := ref.Path[len(ref.Path)-1]
	r.AddText(&f.Columns, last)
	if changing[last] && !freshness.Off(freshness.SystemColumns) {
		f.AddReason(reason.About(reason.SystemColumn, last))
	}
	if len(ref.Path) > 1 {
		f.Fields = append(f.Fields, analysis.Field{Ref: ref, Name: last, Function: judged(last)})
	}
	return ref
}

// indirection reads what is asked of a value: its elements, and its fields, which may be calls.
func (r *reader) indirection(x *pg.A_Indirection) {
	var of *analysis.Ref
	if c := x.Arg.GetColumnRef(); c != nil {
		of = r.column(c)
	} else {
		r.walk(x.Arg)
	}
	for _, n := range x.Indirection {
		switch {
		case n.GetString_() != nil:
			name := n.GetString_().Sval
			r.AddText(&r.f.Columns, name)
			r.f.Fields = append(r.f.Fields, analysis.Field{Of: of, Name: name, Function: judged(name)})
		case n.GetAStar() != nil:
			r.f.Star = true
		default:
			r.walk(n)
		}
		of = nil
	}
}

// expression reads an operator and what it works on.
func (r *reader) expression(x *pg.A_Expr) {
	f := r.f
	r.operator(x.Name)
	switch x.Kind {
	case pg.A_Expr_Kind_AEXPR_BETWEEN,
		pg.A_Expr_Kind_AEXPR_NOT_BETWEEN,
		pg.A_Expr_Kind_AEXPR_BETWEEN_SYM,
		pg.A_Expr_Kind_AEXPR_NOT_BETWEEN_SYM:
		for _, op := range []string{">=", "<=", "<", ">"} {
			r.AddText(&f.Operators, op)
		}
	}
	r.walk(x.Lexpr)
	r.walk(x.Rexpr)
}

// window reads how a window is laid.
func (r *reader) window(w *pg.WindowDef) {
	if w == nil {
		return
	}
	r.f.AnyRows = true // rows that are equal in what it orders by may come in any order
	r.all(w.PartitionClause)
	r.all(w.OrderClause)
	r.walk(w.StartOffset)
	r.walk(w.EndOffset)
}

// collation notes that a collation is named: where it is in a schema, that may be one which not everybody may use.
func (r *reader) collation(name []*pg.Node) {
	r.f.Private = r.f.Private || len(name) > 0 && qualified(name).Schema != "pg_catalog"
}

func name(v *pg.RangeVar) analysis.Name {
	return analysis.Name{Schema: v.GetSchemaname(), Name: v.GetRelname()}
}

func (r *reader) mention(n analysis.Name) {
	if !r.First(&r.mentioned, n) {
		r.AddName(&r.f.Again, n)
	}
}

func (r *reader) read(v *pg.RangeVar) {
	r.AddName(&r.f.Reads, name(v))
	r.mention(name(v))
}

// targets gives the columns that are assigned.
func targets(list []*pg.Node) (columns []string) {
	for _, t := range list {
		columns = append(columns, t.GetResTarget().GetName())
	}
	return columns
}

func (r *reader) write(v *pg.RangeVar, events analysis.Events, sets ...string) {
	if v == nil {
		return
	}
	w := analysis.Write{Name: name(v), Events: events, Sets: sets}
	if r.First(&r.f.Writes, w.Name) {
		r.f.Writes = append(r.f.Writes, w)
	} else {
		r.AddName(&r.f.Rewritten, w.Name)
		r.f.Writes = analysis.AddWrite(r.f.Writes, w)
	}
	r.f.Bypasses(reason.Writes)
}

func (r *reader) operator(name []*pg.Node) {
	if len(name) > 0 {
		r.AddText(&r.f.Operators, name[len(name)-1].GetString_().GetSval())
	}
}

func qualified(parts []*pg.Node) analysis.Name {
	var n analysis.Name
	if k := len(parts); k > 0 {
		n.Name = parts[k-1].GetString_().GetSval()
		if k > 1 {
			n.Schema = parts[k-2].GetString_().GetSval()
		}
	}
	return n
}
