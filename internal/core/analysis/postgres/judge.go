package postgres

import (
	"strings"

	pg "github.com/pganalyze/pg_query_go/v6"

	"jollylarder/internal/core/analysis"
	"jollylarder/internal/core/analysis/postgres/grammar"
	"jollylarder/internal/core/reason"
	"jollylarder/internal/core/statement"
)

// judged says what is known of one of the server's own functions by its name.
func judged(name string) (j analysis.Judged) {
	why := func(c reason.Code) reason.Reason { return reason.Of(c).Behind(reason.Way("").Calls().Within(name)) }
	switch {
	case steady[name]:
		j.Known = true
	case timed[name]:
		j.Known, j.Reason = true, why(reason.ChangesWithTime)
	case readsCatalog(name):
		j.Known, j.System = true, true
	default:
		if c := harmlessReason(name); c != reason.None {
			j.Known, j.Reason = true, why(c)
		}
	}
	return j
}

// call judges a function by its name.
func (r *reader) call(c *pg.FuncCall) {
	f := r.f
	n := qualified(c.Funcname)
	if unordered[n.Name] || n.Schema != "" && n.Schema != "pg_catalog" {
		f.AnyRows = true // what it gives may rest on the order of rows
	}
	if n.Schema != "" && n.Schema != "pg_catalog" {
		r.AddName(&f.Functions, n)
		return
	}
	if n.Schema == "" {
		r.AddText(&f.BuiltIns, n.Name)
	}
	f.Private = f.Private || searchesText[n.Name]
	switch j := judged(n.Name); {
	case n.Name == "age" && len(c.Args) == 2:
	case n.Name == "timezone" && c.Funcformat == pg.CoercionForm_COERCE_SQL_SYNTAX: // AT TIME ZONE
		r.shifted(c.Args[len(c.Args)-1])
	case n.Name == "set_config":
		f.Effect |= analysis.Settings
		f.Bypasses(reason.ChangesSetting)
	case !j.Known:
		f.AnyRows = true // it may be an aggregate
		r.AddName(&f.Functions, n)
	case j.Reason.Some():
		f.AddReason(j.Reason)
	default:
		f.NamesUser = f.NamesUser || n.Name == "current_user" || n.Name == "session_user"
		f.System = f.System || j.System
	}
}

// unordered are the aggregates whose result rests on the order of what they are given, where an ORDER BY leaves ties.
var unordered = statement.Words(`array_agg string_agg json_agg jsonb_agg json_object_agg jsonb_object_agg xmlagg mode`)

// searchesText are functions that use a configuration, dictionary or parser, which may be in a schema that not
// everybody may use.
var searchesText = statement.Words(`to_tsvector to_tsquery plainto_tsquery phraseto_tsquery websearch_to_tsquery ts_headline`)

// shifted reads what AT TIME ZONE is asked of. Of a time without a date the answer is that of today.
func (r *reader) shifted(n *pg.Node) {
	switch ok, refs := stamps(n); {
	case !ok:
		r.f.Bypasses(reason.ZoneOfToday)
	default:
		for _, c := range refs {
			if ref := plain(c, r.scope); ref != nil {
				r.f.Shifted = append(r.f.Shifted, ref)
			} else {
				r.f.Bypasses(reason.ZoneOfToday)
			}
		}
	}
}

// stamps says whether an expression can only be a time with a date, if all of some columns are.
func stamps(n *pg.Node) (ok bool, columns []*pg.Node) {
	all := func(list ...*pg.Node) (bool, []*pg.Node) {
		for _, n := range list {
			ok, here := stamps(n)
			if !ok {
				return false, nil
			}
			columns = append(columns, here...)
		}
		return len(list) > 0, columns
	}
	switch e := n.GetNode().(type) {
	case *pg.Node_ColumnRef:
		return true, []*pg.Node{n}
	case *pg.Node_TypeCast:
		t := qualified(e.TypeCast.TypeName.GetNames()).Name
		return (t == "timestamp" || t == "timestamptz" || t == "date") && len(e.TypeCast.TypeName.ArrayBounds) == 0, nil
	case *pg.Node_SqlvalueFunction:
		switch e.SqlvalueFunction.Op {
		case pg.SQLValueFunctionOp_SVFOP_CURRENT_TIME, pg.SQLValueFunctionOp_SVFOP_CURRENT_TIME_N, pg.SQLValueFunctionOp_SVFOP_LOCALTIME, pg.SQLValueFunctionOp_SVFOP_LOCALTIME_N:
			return false, nil
		}
		return true, nil
	case *pg.Node_FuncCall:
		switch name := qualified(e.FuncCall.Funcname).Name; {
		case name == "timezone" && e.FuncCall.Funcformat == pg.CoercionForm_COERCE_SQL_SYNTAX:
			return all(e.FuncCall.Args[len(e.FuncCall.Args)-1])
		case name == "min", name == "max":
			return all(e.FuncCall.Args...)
		case dateFunctions[name], timed[name] && name != "timeofday":
			return true, nil
		}
	case *pg.Node_CoalesceExpr:
		return all(e.CoalesceExpr.Args...)
	case *pg.Node_MinMaxExpr:
		return all(e.MinMaxExpr.Args...)
	case *pg.Node_AExpr: // and an interval
		if op := qualified(e.AExpr.Name).Name; (op == "+" || op == "-") && e.AExpr.Lexpr != nil {
			return all(e.AExpr.Lexpr)
		}
	}
	return false, nil
}

// cast judges a cast by its type and by what is cast.
func (r *reader) cast(c *pg.TypeCast) { r.castTo(c.TypeName, c.Arg) }

// castTo judges a cast to a type of an expression, or of anything if that is nil.
func (r *reader) castTo(t *pg.TypeName, of *pg.Node) {
	f := r.f
	n := qualified(t.GetNames())
	r.all(t.GetTypmods())
	r.AddText(&f.CastTo, n.Name)
	system := n.Schema == "" || n.Schema == "pg_catalog"
	switch {
	case system && steadyTypes[n.Name]:
	case system && dateTypes[n.Name]:
		if ref := plain(of, r.scope); ref != nil {
			f.DateCasts = append(f.DateCasts, ref)
		} else if !dated(of) {
			f.AddReason(reason.About(reason.CastMayMeanTime, n.Name))
		}
	case system && catalogTypes[n.Name]:
		f.System = true
		f.Remembers = f.Remembers || r.plans // by the search path of then
	case n.Schema == "pg_catalog":
		f.AddReason(reason.About(reason.CastsToUnknown, n.Name))
	default:
		r.AddName(&f.Types, n)
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

// variable reads the type of a function's variable, parameter or result, as it is written in PL/pgSQL.
func (r *reader) variable(written string) {
	t := strings.TrimSpace(strings.ToLower(written))
	for { // arrays of it
		cut := strings.TrimSpace(strings.TrimSuffix(t, "[]"))
		if cut == t {
			break
		}
		t = cut
	}
	v := analysis.VariableType{}
	switch {
	case strings.HasSuffix(t, "%rowtype"):
		v.Name = writtenName(strings.TrimSuffix(t, "%rowtype"))
	case strings.HasSuffix(t, "%type"):
		path := strings.TrimSuffix(t, "%type")
		at := strings.LastIndexByte(path, '.')
		if at < 0 { // of another variable, whose own counts
			return
		}
		v.Name, v.Column = writtenName(path[:at]), strings.Trim(path[at+1:], `" `)
	default:
		tree, err := grammar.Parse("select null::" + written)
		var cast *pg.TypeCast
		if err == nil && len(tree.Stmts) == 1 {
			if list := tree.Stmts[0].Stmt.GetSelectStmt().GetTargetList(); len(list) == 1 {
				cast = list[0].GetResTarget().GetVal().GetTypeCast()
			}
		}
		n := qualified(cast.GetTypeName().GetNames())
		if cast == nil {
			r.f.AddReason(reason.About(reason.VariableNotUnderstood, written))
			r.f.Effect |= analysis.Unknown
			return
		}
		if pseudo(n) {
			return
		}
		r.castTo(cast.TypeName, nil)
		if n.Schema != "pg_catalog" && !(steadyTypes[n.Name] || dateTypes[n.Name]) {
			v.Name = n
		}
	}
	if v.Name.Name != "" {
		r.f.Variables = append(r.f.Variables, v)
	}
}

// writtenName reads a name as it is written, perhaps with a schema, in lower case.
func writtenName(text string) (n analysis.Name) {
	n.Name = text
	if schema, rest, ok := strings.Cut(text, "."); ok {
		n.Schema, n.Name = strings.Trim(schema, `" `), rest
	}
	n.Name = strings.Trim(n.Name, `" `)
	return n
}

// pseudo says whether a type is that of no value in particular.
func pseudo(n analysis.Name) bool {
	return (n.Schema == "" || n.Schema == "pg_catalog") && (pseudoTypes[n.Name] || strings.HasPrefix(n.Name, "any"))
}

var pseudoTypes = statement.Words(
	`record refcursor trigger event_trigger void cstring internal language_handler fdw_handler index_am_handler table_am_handler unknown pg_ddl_command`,
)

// foreignTypes are the server's own types whose reading is judged where a text is cast to them, and which come as they
// are to a function.
var foreignTypes = statement.Words(
	`xml money timetz pg_lsn xid xid8 cid pg_snapshot txid_snapshot int4multirange int8multirange nummultirange datemultirange tsmultirange tstzmultirange`,
)
