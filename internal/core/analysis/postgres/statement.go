package postgres

import (
	"strings"
	"unicode"

	pg "github.com/pganalyze/pg_query_go/v6"

	"jollylarder/internal/core/analysis"
	"jollylarder/internal/core/reason"
)

// statement reads one whole statement.
// It is long, as it has a case of its own for each kind there is.
func (r *reader) statement(n *pg.Node) {
	f := r.f
	switch s := n.Node.(type) {
	case *pg.Node_SelectStmt:
		f.Kind = analysis.KindSelect
		r.outermost = true
		r.subquery(n)
	case *pg.Node_InsertStmt:
		f.Kind = analysis.KindInsert
		r.outermost = true
		r.subquery(n)
	case *pg.Node_UpdateStmt:
		f.Kind = analysis.KindUpdate
		r.outermost = true
		r.subquery(n)
	case *pg.Node_DeleteStmt:
		f.Kind = analysis.KindDelete
		r.outermost = true
		r.subquery(n)
	case *pg.Node_MergeStmt:
		f.Kind = analysis.KindMerge
		r.subquery(n)
	case *pg.Node_CopyStmt:
		r.copyStatement(s.CopyStmt)
	case *pg.Node_TruncateStmt:
		f.Kind = analysis.KindTruncate
		for _, t := range s.TruncateStmt.Relations {
			if v := t.GetRangeVar(); v != nil {
				r.write(v, analysis.Truncate)
			}
		}
		f.Cascade = s.TruncateStmt.Behavior == pg.DropBehavior_DROP_CASCADE
	case *pg.Node_ExplainStmt:
		f.Kind = analysis.KindExplain
		f.Bypasses(reason.ShowsPlan)
		if runs(s.ExplainStmt) {
			r.statement(s.ExplainStmt.Query)
			f.Kind = analysis.KindExplain
		}
	case *pg.Node_DeclareCursorStmt:
		f.Kind = analysis.KindDeclare
		f.Bypasses(reason.OpensCursor)
		r.walk(s.DeclareCursorStmt.Query)
	case *pg.Node_TransactionStmt:
		r.transaction(s.TransactionStmt)
	case *pg.Node_VariableSetStmt:
		r.setting(s.VariableSetStmt)
	case *pg.Node_DiscardStmt:
		f.Kind = analysis.KindDiscard
		f.Forgets = true
		f.Effect |= analysis.Settings | analysis.System
		f.Bypasses(reason.Discards)
	case *pg.Node_CallStmt:
		f.Kind = analysis.KindCall
		f.Effect |= analysis.Settings | analysis.Commits // a procedure may end its transaction on the way
		f.Bypasses(reason.RunsProcedure)
		r.walk(&pg.Node{Node: &pg.Node_FuncCall{FuncCall: s.CallStmt.Funccall}})
	case *pg.Node_DoStmt:
		f.Kind = analysis.KindDo
		r.anything(reason.RunsUnknownCode)
		f.Code = code(s.DoStmt)
	case *pg.Node_ExecuteStmt:
		f.Kind = analysis.KindExecute
		r.all(s.ExecuteStmt.Params)
		r.anything(reason.RunsUnknownPrepared)
		if len(f.Functions)+len(f.BuiltIns)+len(f.Types)+len(f.Fields)+len(f.Operators)+len(f.Reads) == 0 { // what it is run with does nothing of its own
			f.Executes = s.ExecuteStmt.Name
		}
	case *pg.Node_DeallocateStmt:
		f.Kind = analysis.KindDeallocate
		f.Bypasses(reason.ForgetsPrepared)
		f.Forgets, f.Forgotten = true, s.DeallocateStmt.Name
	case *pg.Node_LoadStmt:
		f.Kind = analysis.KindLoad
		r.anything(reason.LoadsCode)
	case *pg.Node_PrepareStmt:
		f.Kind = analysis.KindPrepare
		f.Bypasses(reason.Prepares)
		f.Prepares, f.Prepared = s.PrepareStmt.Name, preparedFacts(s.PrepareStmt)
	case *pg.Node_CommentStmt:
		if shared(n) {
			r.definition(n)
			break
		}
		f.Kind = analysis.KindComment
		f.Effect |= analysis.System
		f.Bypasses(reason.Comments)
	case *pg.Node_RefreshMatViewStmt:
		f.Kind = analysis.KindRefresh
		r.write(s.RefreshMatViewStmt.Relation, analysis.Insert|analysis.Delete)
		f.Effect |= analysis.System // whether it holds anything stands there
		if s.RefreshMatViewStmt.Concurrent {
			f.Effect |= analysis.Settings // it makes a temporary table, whose schema the session has from then on
		}
	case *pg.Node_ClusterStmt:
		r.maintenance(analysis.KindCluster)
	case *pg.Node_ReindexStmt:
		r.maintenance(analysis.KindReindex)
	default:
		if kind, why := inert(n); why != reason.None {
			f.Kind = kind
			f.Bypasses(why)
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
	r.f.Bypasses(reason.RunsPrepared)
	return r.f
}

// maintenance reads a statement that puts a table or index in order, and writes that down in the system catalogs.
func (r *reader) maintenance(k analysis.Kind) {
	r.f.Kind = k
	r.f.Effect |= analysis.System
	r.f.Bypasses(reason.Maintains)
}

func (r *reader) copyStatement(c *pg.CopyStmt) {
	f := r.f
	f.Kind = analysis.KindCopy
	f.Bypasses(reason.Copies)
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
		f.Bypasses(reason.RunsProgram)
	}
}

// definition reads a statement that defines, changes or removes something in the schema.
func (r *reader) definition(n *pg.Node) {
	f := r.f
	name := string(n.ProtoReflect().WhichOneof(n.ProtoReflect().Descriptor().Oneofs().Get(0)).Message().Name())
	f.Kind, f.Definition = analysis.KindDefinition, definitionOf(name)
	if f.Grants = granted(n); f.Grants != nil {
		f.Effect |= analysis.System
		f.Bypasses(reason.ChangesPrivileges)
		return
	}
	f.Makes, f.Drops = made(n), dropped(n)
	if temporary(n) {
		f.Effect |= analysis.System | analysis.Settings
		f.Bypasses(reason.MakesTemporary)
	} else if r.defines(n) {
		f.Effect |= analysis.System
		f.Bypasses(reason.ChangesDefinition)
	} else {
		f.Effect |= analysis.Schema
		if shared(n) {
			f.Effect |= analysis.Shared
		}
		f.Bypasses(reason.ChangesSchema)
	}
	switch c := n.Node.(type) {
	case *pg.Node_CreateTableAsStmt:
		if c.CreateTableAsStmt.Query.GetExecuteStmt() != nil {
			r.anything(reason.MakesFromPrepared)
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
		case pg.ObjectType_OBJECT_ROLE,
			pg.ObjectType_OBJECT_DATABASE,
			pg.ObjectType_OBJECT_TABLESPACE,
			pg.ObjectType_OBJECT_PARAMETER_ACL:
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

// definitionOf gives the words of a definition from the name of its kind: "CreateTrigStmt" is "create trigger".
func definitionOf(kind string) string {
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

func (r *reader) anything(why reason.Code) {
	r.f.Effect |= analysis.Unknown | analysis.Settings | analysis.Commits
	r.f.Bypasses(why)
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
func inert(n *pg.Node) (analysis.Kind, reason.Code) {
	switch n.Node.(type) {
	case *pg.Node_VariableShowStmt:
		return analysis.KindShow, reason.ShowsSetting
	case *pg.Node_ListenStmt:
		return analysis.KindListen, reason.Listens
	case *pg.Node_UnlistenStmt:
		return analysis.KindUnlisten, reason.Unlistens
	case *pg.Node_NotifyStmt:
		return analysis.KindNotify, reason.Notifies
	case *pg.Node_FetchStmt:
		return analysis.KindFetch, reason.ReadsCursor
	case *pg.Node_ClosePortalStmt:
		return analysis.KindClose, reason.ClosesCursor
	case *pg.Node_CheckPointStmt:
		return analysis.KindCheckpoint, reason.Maintains
	case *pg.Node_LockStmt:
		return analysis.KindLock, reason.LocksTable
	case *pg.Node_VacuumStmt:
		return analysis.KindVacuum, reason.Maintains
	case *pg.Node_ConstraintsSetStmt:
		return analysis.KindSetConstraints, reason.ChangesConstraints
	}
	return analysis.KindUnknown, reason.None
}

func (r *reader) transaction(t *pg.TransactionStmt) {
	f := r.f
	why := reason.BeginsOrEnds
	switch t.Kind {
	case pg.TransactionStmtKind_TRANS_STMT_BEGIN, pg.TransactionStmtKind_TRANS_STMT_START:
		f.Kind = analysis.KindBegin
		f.Effect |= analysis.Begins
		f.Isolation = isolation(t.Options)
		f.Certain = certain(t.Options)
	case pg.TransactionStmtKind_TRANS_STMT_COMMIT:
		f.Kind = analysis.KindCommit
		f.Effect |= analysis.Commits
		f.Certain = !t.Chain
	case pg.TransactionStmtKind_TRANS_STMT_ROLLBACK:
		f.Kind = analysis.KindRollback
		f.Effect |= analysis.Ends
		f.Certain = !t.Chain
	case pg.TransactionStmtKind_TRANS_STMT_PREPARE:
		f.Kind = analysis.KindPrepareTransaction
		f.Effect |= analysis.Ends // what it wrote counts when its name is committed
		why = reason.HandsOver
	case pg.TransactionStmtKind_TRANS_STMT_COMMIT_PREPARED:
		f.Kind = analysis.KindCommitPrepared
		f.Effect |= analysis.Unknown | analysis.Shared // what it wrote was sent by another session, perhaps before this program began
		why = reason.CommitsHandedOver
	case pg.TransactionStmtKind_TRANS_STMT_ROLLBACK_PREPARED:
		f.Kind = analysis.KindRollbackPrepared
		why = reason.EndsHandedOver
	case pg.TransactionStmtKind_TRANS_STMT_ROLLBACK_TO:
		f.Kind, why = analysis.KindSavepoint, reason.ReturnsToSavepoint
	case pg.TransactionStmtKind_TRANS_STMT_RELEASE:
		f.Kind, why = analysis.KindSavepoint, reason.ReleasesSavepoint
	default:
		f.Kind, why = analysis.KindSavepoint, reason.SetsSavepoint
	}
	if t.Chain {
		why = reason.EndsAndBegins
	}
	f.Bypasses(why)
}
