package standin

import (
	"strings"

	"github.com/jackc/pgx/v5/pgtype"
	pg "github.com/pganalyze/pg_query_go/v6"
)

// column is a column of a table or of a result: its name and its type's object id.
type column struct {
	name string
	oid  uint32
}

// declared gives the type of a column as its table declares it.
func declared(decl string) uint32 {
	d := strings.ToLower(decl)
	if i := strings.IndexByte(d, '('); i >= 0 {
		d = d[:i]
	}
	switch strings.TrimSpace(d) {
	case "int", "integer", "int4", "serial":
		return pgtype.Int4OID
	case "bigint", "int8", "bigserial":
		return pgtype.Int8OID
	case "smallint", "int2":
		return pgtype.Int2OID
	case "numeric", "decimal":
		return pgtype.NumericOID
	case "real", "float4":
		return pgtype.Float4OID
	case "double precision", "float8":
		return pgtype.Float8OID
	case "bool", "boolean":
		return pgtype.BoolOID
	case "timestamptz", "timestamp with time zone":
		return pgtype.TimestamptzOID
	case "timestamp", "timestamp without time zone":
		return pgtype.TimestampOID
	case "date":
		return pgtype.DateOID
	case "uuid":
		return pgtype.UUIDOID
	case "bytea":
		return pgtype.ByteaOID
	case "jsonb":
		return pgtype.JSONBOID
	case "json":
		return pgtype.JSONOID
	}
	return pgtype.TextOID
}

// inferred is what the text of a statement tells of its types.
type inferred struct {
	params  []uint32
	columns []column
}

// infer finds the types of a statement's parameters and of its result. Given are the parameter types that the client
// declared; what cannot be told is text.
func (o *Origin) infer(node *pg.Node, given []uint32) inferred {
	t := &typer{o: o, params: append([]uint32{}, given...)}
	cols := t.statement(node)
	for i, p := range t.params {
		if p == 0 {
			t.params[i] = pgtype.TextOID
		}
	}
	return inferred{t.params, cols}
}

// typer walks one statement.
type typer struct {
	o      *Origin
	params []uint32
	scope  []source
}

// source is a table in FROM.
type source struct {
	alias   string
	columns []column
}

func (t *typer) statement(n *pg.Node) []column {
	switch {
	case n.GetSelectStmt() != nil:
		return t.selects(n.GetSelectStmt())
	case n.GetInsertStmt() != nil:
		s := n.GetInsertStmt()
		t.with(s.WithClause)
		table := t.o.describe(s.Relation.Relname)
		t.scope = append(t.scope, source{s.Relation.Relname, table})
		var targets []uint32
		if len(s.Cols) == 0 {
			for _, c := range table {
				targets = append(targets, c.oid)
			}
		}
		for _, c := range s.Cols {
			targets = append(targets, find(table, c.GetResTarget().Name))
		}
		if sel := s.SelectStmt.GetSelectStmt(); sel != nil {
			for _, row := range sel.ValuesLists {
				for i, v := range row.GetList().Items {
					if i < len(targets) {
						t.want(v, targets[i])
					}
				}
			}
			if len(sel.ValuesLists) == 0 {
				for i, v := range sel.TargetList {
					if i < len(targets) {
						t.want(v.GetResTarget().GetVal(), targets[i])
					}
				}
				t.selects(sel)
			}
		}
		if c := s.OnConflictClause; c != nil {
			t.sets(c.TargetList, table)
			t.expr(c.WhereClause)
		}
		return t.targets(s.ReturningList)
	case n.GetUpdateStmt() != nil:
		s := n.GetUpdateStmt()
		t.with(s.WithClause)
		table := t.o.describe(s.Relation.Relname)
		t.add(s.Relation)
		t.from(s.FromClause)
		t.sets(s.TargetList, table)
		t.expr(s.WhereClause)
		return t.targets(s.ReturningList)
	case n.GetDeleteStmt() != nil:
		s := n.GetDeleteStmt()
		t.with(s.WithClause)
		t.add(s.Relation)
		t.from(s.UsingClause)
		t.expr(s.WhereClause)
		return t.targets(s.ReturningList)
	}
	return nil
}

func find(cols []column, name string) uint32 {
	for _, c := range cols {
		if strings.EqualFold(c.name, name) {
			return c.oid
		}
	}
	return 0
}

func (t *typer) sets(list []*pg.Node, table []column) {
	for _, n := range list {
		r := n.GetResTarget()
		t.want(r.GetVal(), find(table, r.GetName()))
	}
}

func (t *typer) with(w *pg.WithClause) {
	for _, n := range w.GetCtes() {
		c := n.GetCommonTableExpr()
		inner := &typer{o: t.o, params: t.params, scope: t.scope}
		cols := inner.statement(c.Ctequery)
		t.params = inner.params
		for i, a := range c.Aliascolnames {
			if i < len(cols) {
				cols[i].name = a.GetString_().GetSval()
			}
		}
		t.scope = append(t.scope, source{"\x00" + c.Ctename, cols})
	}
}

func (t *typer) add(v *pg.RangeVar) {
	alias := v.Relname
	if v.Alias != nil {
		alias = v.Alias.Aliasname
	}
	for _, s := range t.scope {
		if s.alias == "\x00"+v.Relname {
			t.scope = append(t.scope, source{alias, s.columns})
			return
		}
	}
	t.scope = append(t.scope, source{alias, t.o.describe(v.Relname)})
}

func (t *typer) from(list []*pg.Node) {
	for _, n := range list {
		switch {
		case n.GetRangeVar() != nil:
			t.add(n.GetRangeVar())
		case n.GetJoinExpr() != nil:
			j := n.GetJoinExpr()
			t.from([]*pg.Node{j.Larg, j.Rarg})
			t.expr(j.Quals)
		case n.GetRangeSubselect() != nil:
			r := n.GetRangeSubselect()
			t.scope = append(t.scope, source{r.GetAlias().GetAliasname(), t.sub(r.Subquery)})
		}
	}
}

// sub types a query within this one, which sees its tables.
func (t *typer) sub(n *pg.Node) []column {
	inner := &typer{o: t.o, params: t.params, scope: append([]source{}, t.scope...)}
	var cols []column
	if s := n.GetSelectStmt(); s != nil {
		cols = inner.selects(s)
	}
	t.params = inner.params
	return cols
}

func (t *typer) selects(s *pg.SelectStmt) []column {
	t.with(s.WithClause)
	if s.Larg != nil {
		cols := t.sub(&pg.Node{Node: &pg.Node_SelectStmt{SelectStmt: s.Larg}})
		t.sub(&pg.Node{Node: &pg.Node_SelectStmt{SelectStmt: s.Rarg}})
		t.limits(s)
		return cols
	}
	if len(s.ValuesLists) > 0 {
		var cols []column
		for i, v := range s.ValuesLists[0].GetList().Items {
			cols = append(cols, column{"column" + string(rune('1'+i)), orText(t.expr(v))})
		}
		return cols
	}
	base := len(t.scope)
	t.from(s.FromClause)
	outer := t.scope[:base]
	t.scope = append(append([]source{}, t.scope[base:]...), outer...) // the nearest first
	t.expr(s.WhereClause)
	t.expr(s.HavingClause)
	for _, g := range s.GroupClause {
		t.expr(g)
	}
	for _, b := range s.SortClause {
		t.expr(b.GetSortBy().GetNode())
	}
	t.limits(s)
	return t.targets(s.TargetList)
}

func (t *typer) limits(s *pg.SelectStmt) {
	t.want(s.LimitCount, pgtype.Int8OID)
	t.want(s.LimitOffset, pgtype.Int8OID)
}

func (t *typer) targets(list []*pg.Node) []column {
	var out []column
	for _, n := range list {
		r := n.GetResTarget()
		if ref := r.GetVal().GetColumnRef(); ref != nil && ref.Fields[len(ref.Fields)-1].GetAStar() != nil {
			for _, s := range t.scope {
				if !strings.HasPrefix(s.alias, "\x00") && (len(ref.Fields) == 1 || ref.Fields[0].GetString_().GetSval() == s.alias) {
					out = append(out, s.columns...)
				}
			}
			continue
		}
		name := r.GetName()
		if name == "" {
			name = resultName(r.GetVal())
		}
		out = append(out, column{name, orText(t.expr(r.GetVal()))})
	}
	return out
}

// resultName gives the name that PostgreSQL gives to a column without one.
func resultName(n *pg.Node) string {
	switch {
	case n.GetColumnRef() != nil:
		f := n.GetColumnRef().Fields
		return f[len(f)-1].GetString_().GetSval()
	case n.GetFuncCall() != nil:
		f := n.GetFuncCall().Funcname
		return f[len(f)-1].GetString_().GetSval()
	case n.GetTypeCast() != nil:
		if inner := resultName(n.GetTypeCast().Arg); inner != "?column?" {
			return inner
		}
		names := n.GetTypeCast().TypeName.GetNames()
		return names[len(names)-1].GetString_().GetSval()
	case n.GetCoalesceExpr() != nil:
		return "coalesce"
	case n.GetCaseExpr() != nil:
		return "case"
	case n.GetSubLink() != nil && n.GetSubLink().SubLinkType == pg.SubLinkType_EXISTS_SUBLINK:
		return "exists"
	case n.GetSqlvalueFunction() != nil:
		return "current_user"
	}
	return "?column?"
}

func orText(oid uint32) uint32 {
	if oid == 0 {
		return pgtype.TextOID
	}
	return oid
}

// want types an expression that stands where a value of a type is wanted.
func (t *typer) want(n *pg.Node, oid uint32) {
	if n == nil {
		return
	}
	if p := n.GetParamRef(); p != nil {
		t.param(int(p.Number), oid)
		return
	}
	t.expr(n)
}

func (t *typer) param(number int, oid uint32) uint32 {
	if number < 1 || number > 65535 {
		return 0
	}
	for len(t.params) < number {
		t.params = append(t.params, 0)
	}
	if t.params[number-1] == 0 {
		t.params[number-1] = oid
	}
	return t.params[number-1]
}

// expr gives the type of an expression, or 0.
// It is long, as it has a case of its own for each kind there is.
func (t *typer) expr(n *pg.Node) uint32 {
	switch {
	case n == nil:
	case n.GetColumnRef() != nil:
		f := n.GetColumnRef().Fields
		name := f[len(f)-1].GetString_().GetSval()
		for _, s := range t.scope {
			if len(f) > 1 && f[len(f)-2].GetString_().GetSval() != s.alias {
				continue
			}
			if oid := find(s.columns, name); oid != 0 {
				return oid
			}
		}
	case n.GetAConst() != nil:
		c := n.GetAConst()
		switch {
		case c.GetIval() != nil:
			return pgtype.Int4OID
		case c.GetFval() != nil:
			if !strings.ContainsAny(c.GetFval().Fval, ".eE") {
				return pgtype.Int8OID
			}
			return pgtype.NumericOID
		case c.GetBoolval() != nil:
			return pgtype.BoolOID
		}
	case n.GetParamRef() != nil:
		return t.param(int(n.GetParamRef().Number), 0)
	case n.GetTypeCast() != nil:
		names := n.GetTypeCast().TypeName.GetNames()
		oid := declared(names[len(names)-1].GetString_().GetSval())
		t.want(n.GetTypeCast().Arg, oid)
		return oid
	case n.GetFuncCall() != nil:
		return t.call(n.GetFuncCall())
	case n.GetAExpr() != nil:
		return t.operator(n.GetAExpr())
	case n.GetBoolExpr() != nil:
		for _, a := range n.GetBoolExpr().Args {
			t.expr(a)
		}
		return pgtype.BoolOID
	case n.GetNullTest() != nil:
		t.expr(n.GetNullTest().Arg)
		return pgtype.BoolOID
	case n.GetCaseExpr() != nil:
		var oid uint32
		for _, w := range n.GetCaseExpr().Args {
			t.expr(w.GetCaseWhen().Expr)
			if r := t.expr(w.GetCaseWhen().Result); oid == 0 {
				oid = r
			}
		}
		if r := t.expr(n.GetCaseExpr().Defresult); oid == 0 {
			oid = r
		}
		return oid
	case n.GetCoalesceExpr() != nil:
		var oid uint32
		for _, a := range n.GetCoalesceExpr().Args {
			if r := t.expr(a); oid == 0 {
				oid = r
			}
		}
		return oid
	case n.GetSubLink() != nil:
		l := n.GetSubLink()
		cols := t.sub(l.Subselect)
		t.expr(l.Testexpr)
		if l.SubLinkType == pg.SubLinkType_EXPR_SUBLINK && len(cols) > 0 {
			return cols[0].oid
		}
		return pgtype.BoolOID
	case n.GetList() != nil:
		for _, i := range n.GetList().Items {
			t.expr(i)
		}
	}
	return 0
}

func (t *typer) call(c *pg.FuncCall) uint32 {
	var first uint32
	for i, a := range c.Args {
		if oid := t.expr(a); i == 0 {
			first = oid
		}
	}
	switch c.Funcname[len(c.Funcname)-1].GetString_().GetSval() {
	case "count", "row_number", "rank", "dense_rank":
		return pgtype.Int8OID
	case "sum":
		switch first {
		case pgtype.Int2OID, pgtype.Int4OID:
			return pgtype.Int8OID
		case pgtype.Int8OID:
			return pgtype.NumericOID
		}
		return first
	case "avg":
		if first == pgtype.Float4OID || first == pgtype.Float8OID {
			return pgtype.Float8OID
		}
		return pgtype.NumericOID
	case "min", "max", "abs", "round", "nullif", "lag", "lead", "first_value":
		return first
	case "length", "char_length", "position":
		return pgtype.Int4OID
	case "now", "date_trunc":
		return pgtype.TimestamptzOID
	}
	return pgtype.TextOID
}

func (t *typer) operator(e *pg.A_Expr) uint32 {
	left, right := t.expr(e.Lexpr), t.expr(e.Rexpr)
	if left == 0 {
		t.want(e.Lexpr, right)
	}
	if right == 0 {
		right = left
		t.want(e.Rexpr, left)
		for _, i := range e.Rexpr.GetList().GetItems() {
			t.want(i, left)
		}
	}
	switch op := e.Name[len(e.Name)-1].GetString_().GetSval(); op {
	case "+", "-", "*", "/", "%":
		for _, wide := range []uint32{pgtype.TimestamptzOID, pgtype.TimestampOID, pgtype.DateOID, pgtype.Float8OID, pgtype.NumericOID, pgtype.Int8OID} {
			if left == wide || right == wide {
				return wide
			}
		}
		return max(left, right)
	case "||":
		return pgtype.TextOID
	}
	return pgtype.BoolOID
}
