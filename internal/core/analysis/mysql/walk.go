package mysql

import (
	"reflect"
	"slices"
	"strings"

	"github.com/pingcap/tidb/pkg/parser/ast"
	"github.com/pingcap/tidb/pkg/parser/mysql"

	"jollylarder/internal/core/analysis"
	"jollylarder/internal/core/analysis/mysql/grammar"
	"jollylarder/internal/core/reason"
)

// walk reads a tree. It follows every field of every node, so that nothing is overlooked that the grammar has read. What
// it has no case for makes the statement pass, and is followed nevertheless.
func (r *reader) walk(list ...any) {
	for _, x := range list {
		if v := reflect.ValueOf(x); v.IsValid() {
			r.value(v)
		}
	}
}

// value reads what is in a field.
func (r *reader) value(v reflect.Value) {
	switch v.Kind() {
	case reflect.Interface:
		if !v.IsNil() {
			r.value(v.Elem())
		}
	case reflect.Pointer:
		if v.IsNil() || v.Elem().Kind() != reflect.Struct {
			return
		}
		if n, is := v.Interface().(ast.Node); is {
			r.node(n)
			return
		}
		r.fields(v.Elem())
	case reflect.Slice:
		for i := range v.Len() {
			r.value(v.Index(i))
		}
	case reflect.Struct:
		if v.CanAddr() {
			if n, is := v.Addr().Interface().(ast.Node); is {
				r.node(n)
				return
			}
		}
		r.fields(v)
	}
}

// grammarPackage is where the nodes are. What other packages have (types, privileges) holds no nodes.
var grammarPackage = reflect.TypeFor[ast.SelectStmt]().PkgPath()

func (r *reader) fields(v reflect.Value) {
	t := v.Type()
	if t.PkgPath() != grammarPackage {
		return
	}
	for i := range t.NumField() {
		if t.Field(i).IsExported() {
			r.value(v.Field(i))
		}
	}
}

// inside reads the fields of a node.
func (r *reader) inside(n ast.Node) { r.fields(reflect.ValueOf(n).Elem()) }

// node reads one node.
// It is long, as it has a case of its own for each kind there is.
func (r *reader) node(n ast.Node) {
	f := r.f
	switch x := n.(type) {
	case *grammar.Value, *grammar.Parameter:
	case *ast.SelectStmt:
		r.query(x.With, x)
	case *ast.SetOprStmt:
		f.AnyRows = f.AnyRows || x.Limit != nil
		r.query(x.With, x)
	case *ast.SetOprSelectList:
		f.AnyRows = f.AnyRows || x.Limit != nil
		r.query(x.With, x)
	case *ast.TableName:
		r.table(x)
	case *ast.TableSource:
		r.inside(x)
	case *ast.FuncCallExpr:
		r.functionCall(x)
	case *ast.AggregateFuncExpr:
		lower := strings.ToLower(x.F)
		if !aggregates[lower] {
			r.notUnderstood(lower)
		}
		f.AnyRows = f.AnyRows || unordered[lower]
		r.inside(x)
	case *ast.WindowFuncExpr:
		f.AnyRows = true // rows that are equal in what it orders by may come in any order
		r.inside(x)
	case *ast.FuncCastExpr:
		if x.Tp.GetType() == mysql.TypeDuration {
			f.Bypasses(reason.DependsOnToday)
		}
		r.inside(x)
	case *ast.VariableExpr:
		if x.IsSystem {
			f.Bypasses(reason.ReadsSetting)
			if name := strings.ToLower(x.Name); name == "warning_count" || name == "error_count" || name == "last_insert_id" || name == "identity" {
				f.Bypasses(reason.AsksOfEarlier)
			}
		} else {
			f.Bypasses(reason.UserVariables)
			if strings.EqualFold(x.Name, OptOut) { // and may be assigned
				f.Effect |= analysis.Settings
			}
		}
		r.inside(x)
	case *ast.SelectIntoOption:
		f.Bypasses(reason.Copies)
		r.inside(x)
	case *ast.ColumnName:
		f.Whole = true
		r.AddText(&f.Computed, x.Name.L)
	case *ast.WildCardField:
		f.Whole, f.Star = true, true
	case *ast.SelectField:
		if x.WildCard != nil {
			f.Whole, f.Star = true, true
		}
		if _, plain := x.Expr.(*ast.ColumnNameExpr); plain {
			f.Whole = true
		} else {
			r.inside(x)
		}
	case *ast.GroupByClause:
		f.AnyRows = true // a column that is not grouped by is that of any row
		r.inside(x)
	case *ast.Limit:
		f.AnyRows = true
		r.inside(x)
	case *ast.MatchAgainst, *ast.BetweenExpr, *ast.BinaryOperationExpr, *ast.CaseExpr, *ast.WhenClause, *ast.SubqueryExpr, *ast.CompareSubqueryExpr,
		*ast.ColumnNameExpr, *ast.ExistsSubqueryExpr, *ast.PatternInExpr, *ast.IsNullExpr, *ast.IsTruthExpr, *ast.PatternLikeOrIlikeExpr, *ast.ParenthesesExpr,
		*ast.PositionExpr, *ast.PatternRegexpExpr, *ast.RowExpr, *ast.UnaryOperationExpr, *ast.ValuesExpr, *ast.SetCollationExpr, *ast.TrimDirectionExpr,
		*ast.TimeUnitExpr, *ast.GetFormatSelectorExpr, *ast.Join, *ast.OnCondition, *ast.FieldList, *ast.TableRefsClause, *ast.ByItem, *ast.HavingClause,
		*ast.OrderByClause, *ast.CommonTableExpression, *ast.WithClause, *ast.Assignment, *ast.WindowSpec, *ast.PartitionByClause, *ast.FrameClause,
		*ast.FrameBound, *ast.DeleteTableList, *ast.VariableAssignment:
		r.inside(n)
	default:
		r.notUnderstood(reflect.TypeOf(n).Elem().Name())
		r.inside(n)
	}
}

// notUnderstood makes a statement pass for something that the walk has no case for.
func (r *reader) notUnderstood(what string) {
	r.f.AddReason(reason.About(reason.UnsafeNode, what))
	r.f.Whole, r.f.Star, r.f.AnyRows = true, true, true
}

// query reads a query, or another statement with a WITH before it. The names of that mean no tables of the database
// there; they may in what each stands for itself, but for the names before it.
func (r *reader) query(with *ast.WithClause, n ast.Node) {
	r.within(with, func() {
		if s, is := n.(*ast.SelectStmt); is {
			r.options(s)
		}
		v := reflect.ValueOf(n).Elem()
		for i := range v.NumField() {
			if field := v.Type().Field(i); field.IsExported() && field.Name != "With" {
				r.value(v.Field(i))
			}
		}
	})
}

// within reads what stands behind a WITH.
func (r *reader) within(with *ast.WithClause, f func()) {
	before := len(r.ctes)
	if with != nil {
		for _, c := range with.CTEs {
			if with.IsRecursive {
				r.ctes = append(r.ctes, c.Name.O)
			}
			r.walk(c.Query)
			if !with.IsRecursive {
				r.ctes = append(r.ctes, c.Name.O)
			}
		}
	}
	f()
	r.ctes = r.ctes[:before]
}

// options reads what a query says beside what it asks for.
func (r *reader) options(s *ast.SelectStmt) {
	if s.SelectStmtOpts != nil && s.CalcFoundRows {
		r.f.Bypasses(reason.CountsFoundRows)
	}
	if s.LockInfo != nil && s.LockInfo.LockType != ast.SelectLockNone {
		r.f.Bypasses(reason.Locks)
	}
	if s.Kind == ast.SelectStmtKindTable {
		r.f.Whole, r.f.Star = true, true
	}
}

// table reads the name of a table that is read.
func (r *reader) table(t *ast.TableName) {
	if t.AsOf != nil || t.TableSample != nil {
		r.notUnderstood("a table of another time")
	}
	switch {
	case t.Schema.O == "" && slices.Contains(r.ctes, t.Name.O): // by the case that it is written in, as tables of servers are
	default:
		r.read(name(t))
	}
}

// functionCall reads a call of a function.
func (r *reader) functionCall(x *ast.FuncCallExpr) {
	switch n := (analysis.Name{Schema: x.Schema.O, Name: x.FnName.O}); x.FnName.L {
	case ast.DateLiteral, ast.TimestampLiteral:
	case ast.TimeLiteral:
		r.f.Bypasses(reason.DependsOnToday)
	case ast.CharFunc:
		r.call(analysis.Name{Name: "char"})
	case ast.InsertFunc:
		r.call(analysis.Name{Name: "insert"})
	case "unix_timestamp":
		if len(x.Args) == 0 {
			r.call(n)
		}
	case "nextval", "lastval", "setval":
		r.call(n)
		return // what it is called with is a sequence, and no table
	default:
		r.call(n)
	}
	r.walk(x.Args)
}
