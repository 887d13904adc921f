package mysql

import (
	"reflect"
	"strings"
	"unicode"

	"github.com/pingcap/tidb/pkg/parser/ast"
	"github.com/pingcap/tidb/pkg/parser/mysql"

	"jollylarder/internal/core/analysis"
	"jollylarder/internal/core/reason"
)

// statement reads one whole statement; it is false for one that is not understood.
// It is long, as it has a case of its own for each kind there is.
func (r *reader) statement(n ast.StmtNode) bool {
	f := r.f
	is := func(kind analysis.Kind, effect analysis.Effect, why reason.Code) {
		f.Kind = kind
		f.Effect |= effect
		f.Bypasses(why)
	}
	switch s := n.(type) {
	case *ast.SelectStmt, *ast.SetOprStmt:
		f.Kind = analysis.KindSelect
		r.walk(s)
		f.FromEach = fromEach(s)
		if q, is := s.(*ast.SelectStmt); is {
			r.pinsOfSelect(q)
		}
	case *ast.InsertStmt:
		f.Kind = analysis.KindInsert
		r.insert(s)
	case *ast.UpdateStmt:
		f.Kind = analysis.KindUpdate
		r.update(s)
	case *ast.DeleteStmt:
		f.Kind = analysis.KindDelete
		r.delete(s)
	case *ast.LoadDataStmt:
		f.Kind = analysis.KindLoad
		r.write(name(s.Table), analysis.Insert|analysis.Delete) // what is replaced is deleted
		r.walk(s.ColumnAssignments)
		f.Bypasses(reason.Copies)
	case *ast.TruncateTableStmt:
		f.Kind = analysis.KindTruncate
		f.Effect |= analysis.Commits
		r.write(name(s.Table), analysis.Truncate)
	case *ast.ExplainStmt:
		r.explain(s)
	case *ast.ShowStmt:
		is(analysis.KindShow, 0, shows(s.Tp))
	case *ast.HelpStmt:
		is(analysis.KindShow, 0, reason.ReadsCatalog)
	case *ast.SetStmt:
		r.set(s)
	case *ast.SetRoleStmt:
		is(analysis.KindSet, analysis.Settings, reason.ChangesSetting)
	case *ast.UseStmt:
		is(analysis.KindSet, analysis.Settings, reason.ChangesSetting)
		f.Definition = "use"
	case *ast.BeginStmt:
		// It commits what was open before it.
		is(analysis.KindBegin, analysis.Begins|analysis.Commits, reason.BeginsOrEnds)
		f.Snapshot = strings.Contains(strings.ToLower(s.OriginalText()), "snapshot") // which the grammar reads, and leaves out
	case *ast.CommitStmt:
		is(analysis.KindCommit, analysis.Commits|chained(s.CompletionType), ends(s.CompletionType))
	case *ast.RollbackStmt:
		if s.SavepointName != "" {
			is(analysis.KindSavepoint, 0, reason.ReturnsToSavepoint)
			break
		}
		is(analysis.KindRollback, analysis.Ends|chained(s.CompletionType), ends(s.CompletionType))
	case *ast.SavepointStmt:
		is(analysis.KindSavepoint, 0, reason.SetsSavepoint)
	case *ast.ReleaseSavepointStmt:
		is(analysis.KindSavepoint, 0, reason.ReleasesSavepoint)
	case *ast.CallStmt:
		is(analysis.KindCall, analysis.Settings|analysis.Commits, reason.RunsProcedure)
		r.own(analysis.Name{Schema: s.Procedure.Schema.O, Name: s.Procedure.FnName.O})
		r.walk(s.Procedure.Args)
	case *ast.DoStmt:
		is(analysis.KindCall, 0, reason.RunsCode)
		f.Definition = "do"
		r.walk(s.Exprs)
	case *ast.PrepareStmt:
		is(analysis.KindPrepare, 0, reason.Prepares)
		f.Prepares, f.Prepared = strings.ToLower(s.Name), unreadable()
		if s.SQLVar == nil {
			f.Prepared = Facts(r.syntax, s.SQLText)
		}
	case *ast.ExecuteStmt:
		f.Kind, f.Executes = analysis.KindExecute, strings.ToLower(s.Name)
		f.Effect |= analysis.Unknown | analysis.Shared | analysis.Commits | analysis.Settings
		f.Bypasses(reason.RunsUnknownPrepared)
	case *ast.DeallocateStmt:
		is(analysis.KindDeallocate, 0, reason.ForgetsPrepared)
		f.Forgets, f.Forgotten = true, strings.ToLower(s.Name)
	case *ast.LockTablesStmt, *ast.UnlockTablesStmt:
		is(analysis.KindLock, analysis.Commits, reason.LocksTable)
		f.Definition = called(n)
	case *ast.FlushStmt, *ast.AnalyzeTableStmt, *ast.OptimizeTableStmt:
		is(analysis.KindVacuum, analysis.Commits, reason.Maintains)
		f.Definition = called(n)
	case *ast.KillStmt:
		is(analysis.KindVacuum, 0, reason.EndsConnection)
		f.Definition = "kill"
	case *ast.GrantStmt, *ast.GrantRoleStmt, *ast.GrantProxyStmt, *ast.RevokeStmt, *ast.RevokeRoleStmt, *ast.CreateUserStmt, *ast.AlterUserStmt,
		*ast.DropUserStmt, *ast.RenameUserStmt, *ast.SetPwdStmt, *ast.SetDefaultRoleStmt:
		is(analysis.KindDefinition, analysis.Schema|analysis.Shared|analysis.Commits, reason.ChangesPrivileges)
		f.Definition, f.MayGrant = called(n), true
	case *ast.CreateTableStmt:
		f.Definition = "create table"
		if s.TemporaryKeyword != ast.TemporaryNone {
			is(analysis.KindDefinition, analysis.Settings, reason.MakesTemporary)
			f.Makes = name(s.Table).String()
		} else {
			is(analysis.KindDefinition, analysis.Schema|analysis.Commits, reason.CreatesTable)
		}
		r.walk(s.Select)
	case *ast.DropTableStmt:
		if s.TemporaryKeyword != ast.TemporaryNone {
			is(analysis.KindDefinition, 0, reason.MakesTemporary)
			f.Definition = "drop table"
			break
		}
		is(analysis.KindDefinition, analysis.Schema|analysis.Settings|analysis.Commits, reason.ChangesSchema)
		if f.Definition = "drop table"; s.IsView {
			f.Definition = "drop view"
		}
	case *ast.AlterTableStmt, *ast.RenameTableStmt, *ast.CreateIndexStmt, *ast.DropIndexStmt, *ast.CreateViewStmt, *ast.CreateDatabaseStmt,
		*ast.AlterDatabaseStmt, *ast.DropDatabaseStmt, *ast.CreateSequenceStmt, *ast.AlterSequenceStmt, *ast.DropSequenceStmt, *ast.ProcedureInfo,
		*ast.DropProcedureStmt:
		is(analysis.KindDefinition, analysis.Schema|analysis.Commits, reason.ChangesSchema)
		f.Definition = called(n)
	default:
		return false
	}
	return true
}

// called gives the name of a kind of statement by that of its node: "create index".
func called(n ast.StmtNode) string {
	var out strings.Builder
	kind := strings.TrimSuffix(reflect.TypeOf(n).Elem().Name(), "Stmt")
	switch kind {
	case "ProcedureInfo":
		return "create procedure"
	case "SetPwd":
		return "set password"
	}
	for i, c := range kind {
		if i > 0 && unicode.IsUpper(c) {
			out.WriteByte(' ')
		}
		out.WriteRune(unicode.ToLower(c))
	}
	return out.String()
}

// chained says whether the end of a transaction begins the next.
func chained(c ast.CompletionType) analysis.Effect {
	if c == ast.CompletionTypeChain {
		return analysis.Begins
	}
	return 0
}

func ends(c ast.CompletionType) reason.Code {
	if c == ast.CompletionTypeChain {
		return reason.EndsAndBegins
	}
	return reason.BeginsOrEnds
}

// shows gives the reason of a SHOW.
func shows(t ast.ShowStmtType) reason.Code {
	switch t {
	case ast.ShowWarnings, ast.ShowErrors:
		return reason.AsksOfEarlier
	case ast.ShowVariables:
		return reason.ShowsSetting
	case ast.ShowStatus, ast.ShowProcessList, ast.ShowProfile, ast.ShowProfiles, ast.ShowMasterStatus, ast.ShowBinlogStatus, ast.ShowReplicaStatus,
		ast.ShowOpenTables, ast.ShowTableStatus:
		return reason.ReportsActivity
	}
	return reason.ReadsCatalog
}

// explain reads an EXPLAIN, which runs its statement where that is to be measured, and a DESCRIBE.
func (r *reader) explain(s *ast.ExplainStmt) {
	if _, table := s.Stmt.(*ast.ShowStmt); table {
		r.f.Kind = analysis.KindShow
		r.f.Bypasses(reason.ReadsCatalog)
		return
	}
	defer func() { r.f.Kind, r.f.Definition = analysis.KindExplain, "" }()
	r.f.Bypasses(reason.ShowsPlan)
	if s.Analyze && !r.statement(s.Stmt) {
		r.f.Effect |= analysis.Unknown | analysis.Shared | analysis.Commits | analysis.Settings
	}
}

// set reads a SET of variables.
func (r *reader) set(s *ast.SetStmt) {
	f := r.f
	f.Kind = analysis.KindSet
	for _, v := range s.Variables {
		r.walk(v.Value)
		if !v.IsSystem && v.Name != ast.SetNames && v.Name != ast.SetCharset {
			f.Bypasses(reason.UserVariables)
			if strings.EqualFold(v.Name, OptOut) {
				f.Effect |= analysis.Settings
			}
			continue
		}
		f.Effect |= analysis.Settings
		f.Bypasses(reason.ChangesSetting)
		if v.IsGlobal {
			f.Effect |= analysis.Schema | analysis.Shared // of whatever sessions begin from now on, or are under way
		}
		if strings.EqualFold(v.Name, "autocommit") {
			f.Effect |= analysis.Commits
		}
	}
}

// targets reads the tables of a statement that writes some of them: all that stand there by their own names, and those
// within queries, count as read.
func (r *reader) targets(refs *ast.TableRefsClause) (list []*ast.TableSource) {
	if refs == nil {
		return nil
	}
	var find func(n ast.ResultSetNode)
	find = func(n ast.ResultSetNode) {
		switch x := n.(type) {
		case *ast.Join:
			if x == nil {
				return
			}
			find(x.Left)
			find(x.Right)
			r.walk(x.On)
		case *ast.TableSource:
			if _, is := x.Source.(*ast.TableName); is {
				list = append(list, x)
				return
			}
			if j, is := x.Source.(*ast.Join); is {
				find(j)
				return
			}
			r.walk(x.Source)
		case *ast.TableName:
			list = append(list, &ast.TableSource{Source: x})
		default:
			r.walk(n)
		}
	}
	find(refs.TableRefs)
	return list
}

// written gives a table of targets.
func written(t *ast.TableSource) analysis.Name { return name(t.Source.(*ast.TableName)) }

func (r *reader) insert(s *ast.InsertStmt) {
	events := analysis.Insert
	r.f.Later = r.f.Later || s.Priority == mysql.DelayedPriority
	if s.IsReplace {
		events |= analysis.Delete
	}
	var sets []string
	if len(s.OnDuplicate) > 0 {
		events |= analysis.Update
		for _, a := range s.OnDuplicate {
			sets = append(sets, a.Column.Name.O)
			r.walk(a.Expr)
		}
	}
	list := r.targets(s.Table)
	for _, t := range list {
		r.write(written(t), events, sets...)
	}
	if len(list) == 1 && s.Select == nil {
		r.pinsOfInsert(written(list[0]), s)
	}
	r.walk(s.Lists, s.Select)
}

// update reads an UPDATE. Where it names several tables, only the schema tells whose columns it sets.
func (r *reader) update(s *ast.UpdateStmt) {
	r.within(s.With, func() {
		list := r.targets(s.TableRefs)
		var sets []string
		for _, a := range s.List {
			sets = append(sets, a.Column.Name.O)
			r.walk(a.Expr)
		}
		if len(list) > 1 {
			sets = nil // which of the tables a column is of, the schema tells
		}
		for _, t := range list {
			if n := written(t); len(list) == 1 || !r.standsForQuery(n) {
				r.write(n, analysis.Update, sets...)
			}
			if len(list) > 1 {
				r.walk(t)
			}
		}
		if len(list) == 1 {
			r.pinsOfWrite(list[0], s.Where)
			r.pinsAssigned(written(list[0]), s.List)
		}
		r.walk(s.Where, s.Order, s.Limit)
	})
}

// delete reads a DELETE. Where it names several tables, those are written whose names or aliases it gives.
func (r *reader) delete(s *ast.DeleteStmt) {
	r.within(s.With, func() {
		list := r.targets(s.TableRefs)
		for _, t := range list {
			if s.IsMultiTable {
				r.walk(t)
			} else {
				r.write(written(t), analysis.Delete)
			}
		}
		if s.IsMultiTable && s.Tables != nil {
			for _, d := range s.Tables.Tables {
				r.deletes(d, list)
			}
		}
		if len(list) == 1 && !s.IsMultiTable {
			r.pinsOfWrite(list[0], s.Where)
		}
		r.walk(s.Where, s.Order, s.Limit)
	})
}

// deletes notes what a DELETE of several tables deletes from, by a table's name or alias.
func (r *reader) deletes(d *ast.TableName, list []*ast.TableSource) {
	found := false
	for _, t := range list {
		if n := written(t); strings.EqualFold(t.AsName.O, d.Name.O) || strings.EqualFold(n.Name, d.Name.O) {
			r.write(n, analysis.Delete)
			found = true
		}
	}
	if !found {
		r.write(name(d), analysis.Delete)
	}
}

// standsForQuery says whether a name is that of a query by WITH.
func (r *reader) standsForQuery(n analysis.Name) bool {
	for _, c := range r.ctes {
		if n.Schema == "" && c == n.Name {
			return true
		}
	}
	return false
}
