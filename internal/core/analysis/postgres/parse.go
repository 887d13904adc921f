// Package postgres reads facts from the parse tree of PostgreSQL's own grammar.
package postgres

import (
	"fmt"

	pg "github.com/pganalyze/pg_query_go/v6"
	"google.golang.org/protobuf/reflect/protoreflect"

	"jollylarder/internal/core/analysis"
)

// Longest is the length in bytes of the longest statement that is parsed. The parser copies a statement several
// times over; a statement of megabytes is a load of data, not a question that is asked again.
const Longest = 1 << 20

// deepest bounds the nesting of brackets: the grammar's recursion and the tree's both use stack for each level.
const deepest = 500

// Facts parses one statement string and says what it does. It never fails: what cannot be read may do anything.
func Facts(sql string) *analysis.Facts {
	if len(sql) > Longest {
		return analysis.Unreadable("too long to be analysed")
	}
	if nested(sql) > deepest {
		return analysis.Unreadable("nested too deeply to be analysed")
	}
	tree, err := pg.Parse(sql)
	if err != nil {
		return analysis.Unreadable("its SQL is not understood: " + err.Error())
	}
	r := &reader{f: &analysis.Facts{}}
	for _, s := range tree.Stmts {
		if s.Stmt != nil {
			r.statement(s.Stmt)
		}
	}
	switch len(tree.Stmts) {
	case 0:
		r.f.Verb = "empty"
		r.f.AddReason("there is no statement in it")
	case 1:
	default:
		r.f.Verb = "several"
		r.f.AddReason("several statements in one string")
	}
	return r.f
}

func nested(sql string) int {
	depth, most := 0, 0
	for i := range len(sql) {
		switch sql[i] {
		case '(', '[':
			depth++
			most = max(most, depth)
		case ')', ']':
			depth--
		}
	}
	return most
}

// reader collects the facts of one statement string.
type reader struct {
	f *analysis.Facts
}

// statement reads one whole statement.
func (r *reader) statement(n *pg.Node) {
	f := r.f
	switch s := n.Node.(type) {
	case *pg.Node_SelectStmt:
		f.Verb = "select"
		f.Operators = append(f.Operators, "=", "<", ">") // those of IN, DISTINCT, GROUP BY, ORDER BY, USING
		r.walk(n)
	case *pg.Node_InsertStmt, *pg.Node_UpdateStmt, *pg.Node_DeleteStmt, *pg.Node_MergeStmt:
		f.Verb = map[bool]string{true: "merge"}[n.GetMergeStmt() != nil]
		switch {
		case n.GetInsertStmt() != nil:
			f.Verb = "insert"
		case n.GetUpdateStmt() != nil:
			f.Verb = "update"
		case n.GetDeleteStmt() != nil:
			f.Verb = "delete"
		}
		r.walk(n)
	case *pg.Node_CopyStmt:
		f.Verb = "copy"
		f.AddReason("copies data in or out")
		if c := s.CopyStmt; c.Relation != nil {
			if c.IsFrom {
				r.write(c.Relation)
			} else {
				r.read(c.Relation)
			}
		} else if c.Query != nil {
			r.walk(c.Query)
		}
		if s.CopyStmt.IsProgram {
			f.Effect |= analysis.Unknown
		}
	case *pg.Node_TruncateStmt:
		f.Verb = "truncate"
		f.AddReason("writes")
		for _, t := range s.TruncateStmt.Relations {
			if v := t.GetRangeVar(); v != nil {
				r.write(v)
			}
		}
		if s.TruncateStmt.Behavior == pg.DropBehavior_DROP_CASCADE {
			f.Effect |= analysis.Unknown
		}
	case *pg.Node_ExplainStmt:
		f.Verb = "explain"
		f.AddReason("shows a plan, which changes with statistics")
		if runs(s.ExplainStmt) {
			r.statement(s.ExplainStmt.Query)
			f.Verb = "explain"
		}
	case *pg.Node_DeclareCursorStmt:
		f.Verb = "declare"
		f.AddReason("opens a cursor, whose rows can be read only once")
		r.walk(s.DeclareCursorStmt.Query)
	case *pg.Node_TransactionStmt:
		r.transaction(s.TransactionStmt)
	case *pg.Node_VariableSetStmt:
		f.Verb = "set"
		f.Effect |= analysis.Settings
		f.AddReason("changes a setting of its session")
	case *pg.Node_DiscardStmt:
		f.Verb = "discard"
		f.Effect |= analysis.Settings
		f.AddReason("changes the state of its session")
	case *pg.Node_CallStmt:
		f.Verb = "call"
		r.anything("runs a procedure, which may do anything")
	case *pg.Node_DoStmt:
		f.Verb = "do"
		r.anything("runs code, which may do anything")
	case *pg.Node_ExecuteStmt:
		f.Verb = "execute"
		r.anything("runs a statement prepared in SQL, which is not followed")
	case *pg.Node_LoadStmt:
		f.Verb = "load"
		r.anything("loads code into the server")
	case *pg.Node_PrepareStmt:
		f.Verb = "prepare"
		f.AddReason("prepares a statement for its session")
	default:
		if verb, ok := inert(n); ok {
			f.Verb = verb
			f.AddReason("is about the session or the server, not a question")
			return
		}
		f.Verb = "define"
		f.Effect |= analysis.Schema
		f.AddReason("changes the schema, privileges or the like")
		if c := n.GetCreateTableAsStmt(); c != nil {
			r.walk(c.Query)
		}
	}
}

func (r *reader) anything(reason string) {
	r.f.Effect |= analysis.Unknown | analysis.Settings | analysis.Commits
	r.f.AddReason(reason)
}

// runs says whether EXPLAIN may also run its statement. What the option is set to may be a literal, which is another in
// the next statement of the pattern, so that it counts whatever it says.
func runs(e *pg.ExplainStmt) bool {
	for _, o := range e.Options {
		if o.GetDefElem().GetDefname() == "analyze" {
			return true
		}
	}
	return false
}

// inert says whether a statement changes nothing that a result could rest on.
func inert(n *pg.Node) (verb string, ok bool) {
	switch n.Node.(type) {
	case *pg.Node_VariableShowStmt:
		return "show", true
	case *pg.Node_ListenStmt:
		return "listen", true
	case *pg.Node_UnlistenStmt:
		return "unlisten", true
	case *pg.Node_NotifyStmt:
		return "notify", true
	case *pg.Node_FetchStmt:
		return "fetch", true
	case *pg.Node_ClosePortalStmt:
		return "close", true
	case *pg.Node_DeallocateStmt:
		return "deallocate", true
	case *pg.Node_CheckPointStmt:
		return "checkpoint", true
	case *pg.Node_LockStmt:
		return "lock", true
	case *pg.Node_VacuumStmt:
		return "vacuum", true
	case *pg.Node_ClusterStmt:
		return "cluster", true
	case *pg.Node_ReindexStmt:
		return "reindex", true
	case *pg.Node_ConstraintsSetStmt:
		return "set constraints", true
	}
	return "", false
}

func (r *reader) transaction(t *pg.TransactionStmt) {
	f := r.f
	f.AddReason("begins or ends a transaction")
	switch t.Kind {
	case pg.TransactionStmtKind_TRANS_STMT_BEGIN, pg.TransactionStmtKind_TRANS_STMT_START:
		f.Verb = "begin"
		f.Effect |= analysis.Begins
		for _, o := range t.Options {
			d := o.GetDefElem()
			if d.GetDefname() != "transaction_isolation" {
				continue
			}
			switch d.Arg.GetAConst().GetSval().GetSval() {
			case "read committed", "read uncommitted":
				f.Isolation = analysis.ReadCommitted
			default:
				f.Isolation = analysis.SnapshotIsolation
			}
		}
	case pg.TransactionStmtKind_TRANS_STMT_COMMIT:
		f.Verb = "commit"
		f.Effect |= analysis.Commits
	case pg.TransactionStmtKind_TRANS_STMT_ROLLBACK:
		f.Verb = "rollback"
		f.Effect |= analysis.Ends
	case pg.TransactionStmtKind_TRANS_STMT_PREPARE:
		f.Verb = "prepare transaction"
		f.Effect |= analysis.Commits
	case pg.TransactionStmtKind_TRANS_STMT_COMMIT_PREPARED:
		f.Verb = "commit prepared"
		f.Effect |= analysis.Unknown // what it wrote was sent by another session, perhaps before this program began
	case pg.TransactionStmtKind_TRANS_STMT_ROLLBACK_PREPARED:
		f.Verb = "rollback prepared"
	default:
		f.Verb = "savepoint"
	}
}

// walk reads everything below a node.
func (r *reader) walk(m interface{ ProtoReflect() protoreflect.Message }) {
	r.message(m.ProtoReflect())
}

func (r *reader) message(m protoreflect.Message) {
	if !m.IsValid() {
		return
	}
	f := r.f
	switch n := m.Interface().(type) {
	case *pg.Node:
		r.children(m)
		return
	case *pg.RangeVar:
		r.read(n)
		return
	case *pg.InsertStmt:
		r.write(n.Relation)
		n.Relation = nil
	case *pg.UpdateStmt:
		r.write(n.Relation)
	case *pg.DeleteStmt:
		r.write(n.Relation)
	case *pg.MergeStmt:
		r.write(n.Relation)
	case *pg.SelectStmt:
		if len(n.LockingClause) > 0 {
			f.AddReason("locks the rows it reads")
		}
		if n.IntoClause != nil {
			f.Effect |= analysis.Schema
			f.AddReason("creates a table")
			n.IntoClause = nil
		}
	case *pg.ColumnRef:
		r.attributes(n.Fields[1:])
	case *pg.A_Indirection:
		r.attributes(n.Indirection)
	case *pg.CommonTableExpr:
		f.Locals = append(f.Locals, n.Ctename)
		if n.SearchClause != nil || n.CycleClause != nil {
			f.AddReason("uses SEARCH or CYCLE, which is not followed")
		}
	case *pg.FuncCall:
		r.call(n)
		n.Funcname = nil
	case *pg.A_Expr:
		r.operator(n.Name)
		switch n.Kind {
		case pg.A_Expr_Kind_AEXPR_BETWEEN, pg.A_Expr_Kind_AEXPR_NOT_BETWEEN, pg.A_Expr_Kind_AEXPR_BETWEEN_SYM, pg.A_Expr_Kind_AEXPR_NOT_BETWEEN_SYM:
			f.Operators = append(f.Operators, ">=", "<=", "<", ">")
		}
		n.Name = nil
	case *pg.SubLink:
		r.operator(n.OperName)
	case *pg.SortBy:
		r.operator(n.UseOp)
	case *pg.TypeCast:
		r.cast(n)
		r.message(n.Arg.ProtoReflect())
		return
	case *pg.SQLValueFunction:
		switch n.Op {
		case pg.SQLValueFunctionOp_SVFOP_CURRENT_ROLE, pg.SQLValueFunctionOp_SVFOP_CURRENT_USER, pg.SQLValueFunctionOp_SVFOP_USER,
			pg.SQLValueFunctionOp_SVFOP_SESSION_USER, pg.SQLValueFunctionOp_SVFOP_CURRENT_CATALOG, pg.SQLValueFunctionOp_SVFOP_CURRENT_SCHEMA:
		default:
			f.AddReason("asks for the current time")
		}
	default:
		if !known[string(m.Descriptor().Name())] {
			f.AddReason(fmt.Sprintf("uses %s, which is not known to be safe", m.Descriptor().Name()))
		}
	}
	r.children(m)
}

// known are the kinds of nodes that add nothing to the facts by themselves. A kind that is not here, perhaps one of
// a later grammar, makes the statement pass.
var known = set(`
ResTarget A_Star String Integer Float Boolean BitString A_Const ParamRef BoolExpr NullTest
BooleanTest Alias JoinExpr RangeSubselect RangeFunction WindowDef CaseExpr CaseWhen CoalesceExpr MinMaxExpr A_ArrayExpr
A_Indices RowExpr WithClause List GroupingSet GroupingFunc CollateClause NamedArgExpr OnConflictClause
InferClause IndexElem SetToDefault MultiAssignRef MergeWhenClause CurrentOfExpr
`)

// children reads what stands below, in the grammar's order, so that the same statement always gives the same facts.
func (r *reader) children(m protoreflect.Message) {
	fields := m.Descriptor().Fields()
	for i := range fields.Len() {
		fd := fields.Get(i)
		switch {
		case fd.Message() == nil || fd.IsMap() || !m.Has(fd):
		case fd.IsList():
			list := m.Get(fd).List()
			for j := range list.Len() {
				r.message(list.Get(j).Message())
			}
		default:
			r.message(m.Get(fd).Message())
		}
	}
}

func (r *reader) read(v *pg.RangeVar) {
	n := analysis.Name{Schema: v.Schemaname, Name: v.Relname}
	r.f.Reads = analysis.AddName(r.f.Reads, n)
}

func (r *reader) write(v *pg.RangeVar) {
	if v == nil {
		return
	}
	r.f.Writes = analysis.AddName(r.f.Writes, analysis.Name{Schema: v.Schemaname, Name: v.Relname})
	r.f.AddReason("writes")
}

func (r *reader) attributes(fields []*pg.Node) {
	for _, n := range fields {
		if s := n.GetString_(); s != nil {
			r.f.Attributes = append(r.f.Attributes, s.Sval)
		}
	}
}

func (r *reader) operator(name []*pg.Node) {
	if len(name) > 0 {
		r.f.Operators = append(r.f.Operators, name[len(name)-1].GetString_().GetSval())
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

// call judges a function by its name.
func (r *reader) call(c *pg.FuncCall) {
	f := r.f
	n := qualified(c.Funcname)
	if n.Schema != "" && n.Schema != "pg_catalog" {
		f.Functions = analysis.AddName(f.Functions, n)
		return
	}
	if n.Schema == "" {
		f.BuiltIns = append(f.BuiltIns, n.Name)
	}
	switch {
	case steady[n.Name]:
	case n.Name == "age" && len(c.Args) == 2:
	case n.Name == "timezone" && c.Funcformat == pg.CoercionForm_COERCE_SQL_SYNTAX: // AT TIME ZONE
	case timed[n.Name]:
		f.AddReason("calls " + n.Name + "(), which changes with time")
	case n.Name == "set_config":
		f.Effect |= analysis.Settings
		f.AddReason("changes a setting of its session")
	default:
		if reason := harmlessReason(n.Name); reason != "" {
			f.AddReason("calls " + n.Name + "(), which " + reason)
			return
		}
		f.Functions = analysis.AddName(f.Functions, n)
	}
}

// cast judges a cast by its type and by what is cast.
func (r *reader) cast(c *pg.TypeCast) {
	n := qualified(c.TypeName.GetNames())
	if n.Schema == "" || n.Schema == "pg_catalog" {
		if steadyTypes[n.Name] {
			return
		}
		if dateTypes[n.Name] && dated(c.Arg) {
			return
		}
		if dateTypes[n.Name] {
			r.f.AddReason("casts to " + n.Name + " what may be a text meaning the current time")
			return
		}
	}
	r.f.AddReason("casts to " + n.Name + ", a type that is not known")
}

// dated says whether an expression is a constant, a parameter, or a date or time already.
func dated(n *pg.Node) bool {
	switch e := n.GetNode().(type) {
	case *pg.Node_AConst, *pg.Node_ParamRef:
		return true
	case *pg.Node_TypeCast:
		return dateTypes[qualified(e.TypeCast.TypeName.GetNames()).Name]
	case *pg.Node_FuncCall:
		return dateFunctions[qualified(e.FuncCall.Funcname).Name]
	case *pg.Node_SqlvalueFunction:
		return true
	}
	return false
}
