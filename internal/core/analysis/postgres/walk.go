package postgres

import (
	"fmt"
	"slices"

	pg "github.com/pganalyze/pg_query_go/v6"
	"google.golang.org/protobuf/reflect/protoreflect"

	"jollylarder/internal/core/analysis"
)

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
		events := analysis.Insert
		if n.OnConflictClause.GetAction() == pg.OnConflictAction_ONCONFLICT_UPDATE {
			events |= analysis.Update
		}
		r.write(n.Relation, events, targets(n.OnConflictClause.GetTargetList())...)
		if len(n.ReturningList) > 0 {
			r.mention(name(n.Relation))
		}
		n.Relation = nil
	case *pg.UpdateStmt:
		r.write(n.Relation, analysis.Update, targets(n.TargetList)...)
	case *pg.DeleteStmt:
		r.write(n.Relation, analysis.Delete)
	case *pg.MergeStmt:
		var events analysis.Events
		for _, w := range n.MergeWhenClauses {
			switch w.GetMergeWhenClause().GetCommandType() {
			case pg.CmdType_CMD_INSERT:
				events |= analysis.Insert
			case pg.CmdType_CMD_UPDATE:
				events |= analysis.Update
			case pg.CmdType_CMD_DELETE:
				events |= analysis.Delete
			}
		}
		r.write(n.Relation, events)
	case *pg.SelectStmt:
		if (n.LimitCount != nil || n.LimitOffset != nil || len(n.DistinctClause) > 0 && n.DistinctClause[0].GetNode() != nil) && len(n.SortClause) == 0 {
			f.AnyRows = true
		}
		if len(n.LockingClause) > 0 {
			f.AddReason("locks the rows it reads")
		}
		if n.IntoClause != nil {
			f.Effect |= analysis.Schema
			f.AddReason("creates a table")
			n.IntoClause = nil
		}
	case *pg.Alias:
		r.aliases = append(r.aliases, n.Aliasname)
		for _, c := range n.Colnames {
			r.renamed = append(r.renamed, c.GetString_().GetSval())
		}
	case *pg.RangeFunction:
		r.tableFunctions = true
	case *pg.ResTarget:
		r.renamed = append(r.renamed, n.Name)
	case *pg.JoinExpr:
		f.Star = f.Star || n.IsNatural
		for _, c := range n.UsingClause {
			f.Columns = appendNew(f.Columns, c.GetString_().GetSval())
		}
	case *pg.ColumnRef:
		r.attributes(n.Fields[1:])
		switch last := n.Fields[len(n.Fields)-1]; {
		case last.GetAStar() != nil:
			f.Star = true
		default:
			f.Columns = appendNew(f.Columns, last.GetString_().GetSval())
		}
	case *pg.A_Indirection:
		r.attributes(n.Indirection)
	case *pg.CommonTableExpr:
		for _, c := range n.Aliascolnames {
			r.renamed = append(r.renamed, c.GetString_().GetSval())
		}
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
			for _, op := range []string{">=", "<=", "<", ">"} {
				f.Operators = appendNew(f.Operators, op)
			}
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
			pg.SQLValueFunctionOp_SVFOP_SESSION_USER:
			f.NamesUser = true
		case pg.SQLValueFunctionOp_SVFOP_CURRENT_CATALOG, pg.SQLValueFunctionOp_SVFOP_CURRENT_SCHEMA:
		default:
			f.AddReason(analysis.AsksForTime)
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
InferClause IndexElem SetToDefault MultiAssignRef MergeWhenClause CurrentOfExpr RangeTableFunc RangeTableFuncCol XmlExpr
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

func name(v *pg.RangeVar) analysis.Name {
	return analysis.Name{Schema: v.GetSchemaname(), Name: v.GetRelname()}
}

func (r *reader) mention(n analysis.Name) {
	if slices.Contains(r.mentioned, n) {
		r.f.Again = analysis.AddName(r.f.Again, n)
		return
	}
	r.mentioned = append(r.mentioned, n)
}

func (r *reader) read(v *pg.RangeVar) {
	r.f.Reads = analysis.AddName(r.f.Reads, name(v))
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
	if slices.ContainsFunc(r.f.Writes, func(w analysis.Write) bool { return w.Name == name(v) }) {
		r.f.Rewritten = analysis.AddName(r.f.Rewritten, name(v))
	}
	r.f.Writes = analysis.AddWrite(r.f.Writes, analysis.Write{Name: name(v), Events: events, Sets: sets})
	r.f.AddReason("writes")
}

func appendNew(list []string, s string) []string {
	if slices.Contains(list, s) {
		return list
	}
	return append(list, s)
}

func (r *reader) attributes(fields []*pg.Node) {
	for _, n := range fields {
		if s := n.GetString_(); s != nil {
			r.f.Attributes = appendNew(r.f.Attributes, s.Sval)
		}
	}
}

func (r *reader) operator(name []*pg.Node) {
	if len(name) > 0 {
		r.f.Operators = appendNew(r.f.Operators, name[len(name)-1].GetString_().GetSval())
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
		f.BuiltIns = appendNew(f.BuiltIns, n.Name)
	}
	switch {
	case steady[n.Name]:
		f.NamesUser = f.NamesUser || n.Name == "current_user" || n.Name == "session_user"
	case n.Name == "age" && len(c.Args) == 2:
	case n.Name == "timezone" && c.Funcformat == pg.CoercionForm_COERCE_SQL_SYNTAX: // AT TIME ZONE
	case timed[n.Name]:
		f.AddReason("calls " + n.Name + "(), which " + analysis.ChangesWithTime)
	case n.Name == "set_config":
		f.Effect |= analysis.Settings
		f.AddReason("changes a setting of its session")
	default:
		if readsCatalog(n.Name) {
			f.System = true
			return
		}
		if reason := harmlessReason(n.Name); reason != "" {
			f.AddReason("calls " + n.Name + "(), which " + reason)
			return
		}
		f.Functions = analysis.AddName(f.Functions, n)
	}
}

// cast judges a cast by its type and by what is cast.
func (r *reader) cast(c *pg.TypeCast) {
	f := r.f
	n := qualified(c.TypeName.GetNames())
	system := n.Schema == "" || n.Schema == "pg_catalog"
	switch {
	case system && steadyTypes[n.Name]:
	case system && dateTypes[n.Name]:
		if column := c.Arg.GetColumnRef().GetFields(); len(column) > 0 && column[len(column)-1].GetString_() != nil {
			f.DateCasts = appendNew(f.DateCasts, column[len(column)-1].GetString_().Sval)
		} else if !dated(c.Arg) {
			f.AddReason("casts to " + n.Name + " what " + analysis.MayMeanTime)
		}
	case system && catalogTypes[n.Name]:
		f.System = true
	case n.Schema == "pg_catalog":
		f.AddReason("casts to " + n.Name + ", a type that is not known")
	default:
		f.Types = analysis.AddName(f.Types, n)
	}
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
