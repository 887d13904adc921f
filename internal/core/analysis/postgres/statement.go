package postgres

import (
	"fmt"
	"strings"
	"unicode"

	pg "github.com/pganalyze/pg_query_go/v6"

	"jollylarder/internal/core/analysis"
)

// statement reads one whole statement.
func (r *reader) statement(n *pg.Node) {
	f := r.f
	switch s := n.Node.(type) {
	case *pg.Node_SelectStmt:
		f.Verb = "select"
		r.outermost = true
		r.subquery(n)
	case *pg.Node_InsertStmt:
		f.Verb = "insert"
		r.outermost = true
		r.subquery(n)
	case *pg.Node_UpdateStmt:
		f.Verb = "update"
		r.outermost = true
		r.subquery(n)
	case *pg.Node_DeleteStmt:
		f.Verb = "delete"
		r.outermost = true
		r.subquery(n)
	case *pg.Node_MergeStmt:
		f.Verb = "merge"
		r.subquery(n)
	case *pg.Node_CopyStmt:
		r.copyStatement(s.CopyStmt)
	case *pg.Node_TruncateStmt:
		f.Verb = "truncate"
		for _, t := range s.TruncateStmt.Relations {
			if v := t.GetRangeVar(); v != nil {
				r.write(v, analysis.Truncate)
			}
		}
		f.Cascade = s.TruncateStmt.Behavior == pg.DropBehavior_DROP_CASCADE
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
		r.setting(s.VariableSetStmt)
	case *pg.Node_DiscardStmt:
		f.Verb = "discard"
		f.Forgets = true
		f.Effect |= analysis.Settings | analysis.System
		f.AddReason("throws away the state of its session")
	case *pg.Node_CallStmt:
		f.Verb = "call"
		f.Effect |= analysis.Settings | analysis.Commits // a procedure may end its transaction on the way
		f.AddReason("runs a procedure")
		r.walk(&pg.Node{Node: &pg.Node_FuncCall{FuncCall: s.CallStmt.Funccall}})
	case *pg.Node_DoStmt:
		f.Verb = "do"
		r.anything("runs code, which may do anything")
		f.Code = code(s.DoStmt)
	case *pg.Node_ExecuteStmt:
		f.Verb = "execute"
		r.all(s.ExecuteStmt.Params)
		r.anything("runs a statement that was prepared in SQL, and is not known")
		if len(f.Functions)+len(f.BuiltIns)+len(f.Types)+len(f.Fields)+len(f.Operators)+len(f.Reads) == 0 { // what it is run with does nothing of its own
			f.Executes = s.ExecuteStmt.Name
		}
	case *pg.Node_DeallocateStmt:
		f.Verb = "deallocate"
		f.AddReason("forgets a prepared statement")
		f.Forgets, f.Forgotten = true, s.DeallocateStmt.Name
	case *pg.Node_LoadStmt:
		f.Verb = "load"
		r.anything("loads code into the server")
	case *pg.Node_PrepareStmt:
		f.Verb = "prepare"
		f.AddReason("prepares a statement for its session")
		f.Prepares, f.Prepared = s.PrepareStmt.Name, preparedFacts(s.PrepareStmt)
	case *pg.Node_CommentStmt:
		if shared(n) {
			r.definition(n)
			break
		}
		f.Verb = "comment"
		f.Effect |= analysis.System
		f.AddReason("changes a comment in the system catalogs")
	case *pg.Node_RefreshMatViewStmt:
		f.Verb = "refresh materialized view"
		r.write(s.RefreshMatViewStmt.Relation, analysis.Insert|analysis.Delete)
		f.Effect |= analysis.System // whether it holds anything stands there
	case *pg.Node_ClusterStmt:
		r.maintenance("cluster")
	case *pg.Node_ReindexStmt:
		r.maintenance("reindex")
	default:
		if verb, why, ok := inert(n); ok {
			f.Verb = verb
			f.AddReason(why)
			return
		}
		r.definition(n)
	}
}

// preparedFacts says what a statement does that is prepared in SQL, each time that it is run.
func preparedFacts(p *pg.PrepareStmt) *analysis.Facts {
	r := newReader()
	for _, t := range p.Argtypes {
		r.castTo(t.GetTypeName(), nil)
	}
	r.statement(p.Query)
	r.finish()
	r.f.Pins = nil // its values are those that it is run with
	r.f.AddReason("runs a statement that was prepared in SQL")
	return r.f
}

// maintenance reads a statement that puts a table or index in order, and writes that down in the system catalogs.
func (r *reader) maintenance(verb string) {
	r.f.Verb = verb
	r.f.Effect |= analysis.System
	r.f.AddReason("is work of the server on itself")
}

func (r *reader) copyStatement(c *pg.CopyStmt) {
	f := r.f
	f.Verb = "copy"
	f.AddReason("copies data in or out")
	switch {
	case c.Relation != nil && c.IsFrom:
		r.write(c.Relation, analysis.Insert)
		if c.WhereClause != nil {
			r.walk(c.WhereClause)
		}
	case c.Relation != nil:
		r.read(c.Relation)
	case c.Query != nil:
		r.walk(c.Query)
	}
	if c.IsProgram {
		f.Effect |= analysis.Unknown | analysis.Shared
		f.AddReason("runs a program on the server")
	}
}

// definition reads a statement that defines, changes or removes something in the schema.
func (r *reader) definition(n *pg.Node) {
	f := r.f
	name := string(n.ProtoReflect().WhichOneof(n.ProtoReflect().Descriptor().Oneofs().Get(0)).Message().Name())
	f.Verb = verbOf(name)
	if f.Grants = granted(n); f.Grants != nil {
		f.Effect |= analysis.System
		f.AddReason("changes privileges")
		return
	}
	f.Makes, f.Drops = made(n), dropped(n)
	if temporary(n) {
		f.Effect |= analysis.System | analysis.Settings
		f.AddReason("makes something temporary for its session")
	} else if r.defines(n) {
		f.Effect |= analysis.System
		f.AddReason("changes the definition of what it names")
	} else {
		f.Effect |= analysis.Schema
		if shared(n) {
			f.Effect |= analysis.Shared
		}
		f.AddReason("changes the schema, privileges or the like")
	}
	switch c := n.Node.(type) {
	case *pg.Node_CreateTableAsStmt:
		if c.CreateTableAsStmt.Query.GetExecuteStmt() != nil {
			r.anything("runs a statement prepared in SQL, which is not followed")
			return
		}
		r.walk(c.CreateTableAsStmt.Query)
	case *pg.Node_ViewStmt:
		r.walk(c.ViewStmt.Query)
	}
}

// shared says whether a definition may be of something that all databases of a server have in common.
func shared(n *pg.Node) bool {
	common := func(t pg.ObjectType) bool {
		switch t {
		case pg.ObjectType_OBJECT_ROLE, pg.ObjectType_OBJECT_DATABASE, pg.ObjectType_OBJECT_TABLESPACE, pg.ObjectType_OBJECT_PARAMETER_ACL:
			return true
		}
		return false
	}
	switch c := n.Node.(type) {
	case *pg.Node_RenameStmt:
		return common(c.RenameStmt.RenameType)
	case *pg.Node_GrantStmt:
		return common(c.GrantStmt.Objtype)
	case *pg.Node_AlterOwnerStmt:
		return common(c.AlterOwnerStmt.ObjectType)
	case *pg.Node_CommentStmt:
		return common(c.CommentStmt.Objtype)
	case *pg.Node_CreateStmt, *pg.Node_CreateTableAsStmt, *pg.Node_ViewStmt, *pg.Node_IndexStmt, *pg.Node_AlterTableStmt, *pg.Node_CreateSeqStmt, *pg.Node_AlterSeqStmt,
		*pg.Node_CreateFunctionStmt, *pg.Node_AlterFunctionStmt, *pg.Node_CreateTrigStmt, *pg.Node_RuleStmt, *pg.Node_CreatePolicyStmt, *pg.Node_AlterPolicyStmt,
		*pg.Node_CreateEnumStmt, *pg.Node_AlterEnumStmt, *pg.Node_CompositeTypeStmt, *pg.Node_CreateRangeStmt, *pg.Node_CreateDomainStmt, *pg.Node_AlterDomainStmt,
		*pg.Node_AlterTypeStmt, *pg.Node_CreateStatsStmt, *pg.Node_AlterStatsStmt, *pg.Node_CreateSchemaStmt, *pg.Node_DropStmt, *pg.Node_DefineStmt, *pg.Node_AlterObjectSchemaStmt,
		*pg.Node_AlterOperatorStmt, *pg.Node_CreateCastStmt, *pg.Node_CreateConversionStmt, *pg.Node_CreateOpClassStmt, *pg.Node_CreateOpFamilyStmt, *pg.Node_AlterOpFamilyStmt,
		*pg.Node_AlterCollationStmt, *pg.Node_AlterDefaultPrivilegesStmt, *pg.Node_ReindexStmt, *pg.Node_CreateExtensionStmt, *pg.Node_AlterExtensionStmt,
		*pg.Node_AlterExtensionContentsStmt, *pg.Node_AlterTsconfigurationStmt, *pg.Node_AlterTsdictionaryStmt, *pg.Node_CreatePublicationStmt, *pg.Node_AlterPublicationStmt:
		return false
	}
	return true
}

// temporary says whether a definition is of something that its session alone sees.
func temporary(n *pg.Node) bool {
	var v *pg.RangeVar
	switch c := n.Node.(type) {
	case *pg.Node_CreateStmt:
		v = c.CreateStmt.Relation
	case *pg.Node_CreateTableAsStmt:
		v = c.CreateTableAsStmt.Into.GetRel()
	case *pg.Node_ViewStmt:
		v = c.ViewStmt.View
	case *pg.Node_CreateSeqStmt:
		v = c.CreateSeqStmt.Sequence
	}
	return v.GetRelpersistence() == "t"
}

// verbOf gives the words of a definition from the name of its kind: "CreateTrigStmt" is "create trigger".
func verbOf(kind string) string {
	switch kind = strings.TrimSuffix(kind, "Stmt"); kind {
	case "Create":
		return "create table"
	case "CreateTableAs":
		return "create table as"
	case "View", "Index":
		return "create " + strings.ToLower(kind)
	case "CreateTrig":
		return "create trigger"
	case "Rule":
		return "create rule"
	}
	var words strings.Builder
	for i, c := range kind {
		if i > 0 && unicode.IsUpper(c) {
			words.WriteByte(' ')
		}
		words.WriteRune(unicode.ToLower(c))
	}
	return words.String()
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

// inert says whether a statement changes nothing that a result could rest on, and why its own is not kept.
func inert(n *pg.Node) (verb, why string, ok bool) {
	switch n.Node.(type) {
	case *pg.Node_VariableShowStmt:
		return "show", "shows a setting of its session", true
	case *pg.Node_ListenStmt:
		return "listen", "waits for notifications", true
	case *pg.Node_UnlistenStmt:
		return "unlisten", "waits for notifications no more", true
	case *pg.Node_NotifyStmt:
		return "notify", "sends a notification", true
	case *pg.Node_FetchStmt:
		return "fetch", "reads from a cursor, which moves it", true
	case *pg.Node_ClosePortalStmt:
		return "close", "closes a cursor", true
	case *pg.Node_CheckPointStmt:
		return "checkpoint", "is work of the server on itself", true
	case *pg.Node_LockStmt:
		return "lock", "locks a table", true
	case *pg.Node_VacuumStmt:
		return "vacuum", "is work of the server on itself", true
	case *pg.Node_ConstraintsSetStmt:
		return "set constraints", "changes when its transaction checks constraints", true
	}
	return "", "", false
}

func (r *reader) transaction(t *pg.TransactionStmt) {
	f := r.f
	kind := "begins or ends a transaction"
	switch t.Kind {
	case pg.TransactionStmtKind_TRANS_STMT_BEGIN, pg.TransactionStmtKind_TRANS_STMT_START:
		f.Verb = "begin"
		f.Effect |= analysis.Begins
		f.Isolation = isolation(t.Options)
	case pg.TransactionStmtKind_TRANS_STMT_COMMIT:
		f.Verb = "commit"
		f.Effect |= analysis.Commits
	case pg.TransactionStmtKind_TRANS_STMT_ROLLBACK:
		f.Verb = "rollback"
		f.Effect |= analysis.Ends
	case pg.TransactionStmtKind_TRANS_STMT_PREPARE:
		f.Verb = "prepare transaction"
		f.Effect |= analysis.Ends // what it wrote counts when its name is committed
		kind = "hands its transaction over to a name, for whoever ends it"
	case pg.TransactionStmtKind_TRANS_STMT_COMMIT_PREPARED:
		f.Verb = "commit prepared"
		f.Effect |= analysis.Unknown | analysis.Shared // what it wrote was sent by another session, perhaps before this program began
		kind = "commits what another session may have written"
	case pg.TransactionStmtKind_TRANS_STMT_ROLLBACK_PREPARED:
		f.Verb = "rollback prepared"
		kind = "ends a transaction that was handed over to a name"
	case pg.TransactionStmtKind_TRANS_STMT_ROLLBACK_TO:
		f.Verb, kind = "savepoint", "goes back to a savepoint"
	case pg.TransactionStmtKind_TRANS_STMT_RELEASE:
		f.Verb, kind = "savepoint", "forgets a savepoint"
	default:
		f.Verb, kind = "savepoint", "sets a savepoint"
	}
	if t.Chain {
		kind = fmt.Sprintf("%s and begins the next", kind)
	}
	f.AddReason(kind)
}
