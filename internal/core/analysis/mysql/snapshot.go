package mysql

import "github.com/pingcap/tidb/pkg/parser/ast"

// fromEach says whether a row of a query's result can only come from a row of each of the tables that stand behind FROM,
// which are joined so that none can be left out. An aggregate has a row of nothing, too, and any function may be one.
func fromEach(n ast.Node) bool {
	s, is := n.(*ast.SelectStmt)
	if !is || s.Kind != ast.SelectStmtKindSelect || s.From == nil || s.With != nil || s.GroupBy != nil || s.Having != nil ||
		s.LockInfo != nil && s.LockInfo.LockType != ast.SelectLockNone || !plainJoin(s.From.TableRefs) {
		return false
	}
	c := &calls{}
	s.Fields.Accept(c)
	if s.OrderBy != nil {
		s.OrderBy.Accept(c)
	}
	return !c.some
}

// calls looks for calls of functions.
type calls struct{ some bool }

// Enter implements ast.Visitor.
func (c *calls) Enter(n ast.Node) (ast.Node, bool) {
	switch n.(type) {
	case *ast.FuncCallExpr, *ast.AggregateFuncExpr, *ast.WindowFuncExpr:
		c.some = true
	}
	return n, c.some
}

// Leave implements ast.Visitor.
func (c *calls) Leave(n ast.Node) (ast.Node, bool) { return n, true }

// plainJoin says whether nothing is joined but tables, and none of them by an outer join.
func plainJoin(n ast.ResultSetNode) bool {
	switch x := n.(type) {
	case *ast.Join:
		return x.Tp != ast.LeftJoin && x.Tp != ast.RightJoin && plainJoin(x.Left) && (x.Right == nil || plainJoin(x.Right))
	case *ast.TableSource:
		return plainJoin(x.Source)
	case *ast.TableName:
		return true
	}
	return false
}
