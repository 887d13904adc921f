package postgres

import (
	"slices"
	"strings"
	"testing"

	pg "github.com/pganalyze/pg_query_go/v6"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"google.golang.org/protobuf/reflect/protoreflect"

	"jollylarder/internal/core/analysis"
)

// Every field of every kind of node that stands in an expression or a query, and what becomes of it. The ones marked + are visited: the test puts
// something into them and looks whether it is found. Of the others it is said how they count, or why they do not.
const classified = `
Alias: aliasname=its item's name; colnames=its columns' names
RangeVar: catalogname=only this database's can be named; schemaname=+; relname=+; inh=children are read all the same; relpersistence=only in definitions; alias=its item's names
GroupingFunc: args=+; refs agglevelsup xpr=made by the server
MergeSupportFunc: !
NamedArgExpr: arg=+; name argnumber=which parameter of a function, all of which are followed; xpr=made by the server
BoolExpr: boolop=for pins; args=+; xpr=made by the server
SubLink: sub_link_type sub_link_id=the same names are read; testexpr=+; oper_name=an operator; subselect=+; xpr=made by the server
CaseExpr: arg=+; args=+; defresult=+; casetype casecollid xpr=made by the server
CaseWhen: expr=+; result=+; xpr=made by the server
RowExpr: args=+; row_typeid row_format colnames xpr=made by the server
CoalesceExpr: args=+; coalescetype coalescecollid xpr=made by the server
MinMaxExpr: op=whichever; args=+; minmaxtype minmaxcollid inputcollid xpr=made by the server
SQLValueFunction: op=the current time, or who asks; type typmod=of its result; xpr=made by the server
XmlExpr: op name indent=how it is written; named_args=+; args=+; arg_names xmloption=names in the result; type typmod xpr=made by the server
NullTest: arg=+; nulltesttype argisrow=whichever; xpr=made by the server
BooleanTest: arg=+; booltesttype=whichever; xpr=made by the server
SetToDefault: type_id type_mod collation xpr=made by the server
CurrentOfExpr: cursor_name cvarno cursor_param=some row of the table that is written; xpr=made by the server
JoinExpr: jointype=for pins; is_natural=all columns; larg=+; rarg=+; using_clause=columns of both; join_using_alias=an item; quals=+; alias=its item's names; rtindex=made by the server
TypeName: names=+; setof pct_type=only in definitions; typmods=+; array_bounds=an array is read as its elements are; type_oid typemod=made by the server
ColumnRef: fields=its path
ParamRef: number=its mentions are counted
A_Expr: kind=the operators that it implies; name=an operator; lexpr=+; rexpr=+
TypeCast: arg=+; type_name=+
CollateClause: arg=+; collname=a privilege
FuncCall: funcname=+; args=+; agg_order=+; agg_filter=+; over=+; agg_within_group agg_distinct=whichever; agg_star func_variadic=whichever; funcformat=AT TIME ZONE
A_Star:
A_Indices: is_slice=whichever; lidx=+; uidx=+
A_Indirection: arg=+; indirection=+
A_ArrayExpr: elements=+
ResTarget: name=of the result, or a column that is assigned; indirection=+; val=+
MultiAssignRef: source=+; colno ncolumns=which of its columns
SortBy: node=+; sortby_dir sortby_nulls=whichever; use_op=an operator
WindowDef: name refname=another of its query's, which is read; partition_clause=+; order_clause=+; frame_options=whichever; start_offset=+; end_offset=+
RangeSubselect: lateral=what names mean in it; subquery=+; alias=its item's names
RangeFunction: lateral=it always is; ordinality=a column more; is_rowsfrom=whichever; functions=+; alias=its item's names; coldeflist=+
RangeTableFunc: lateral=it always is; docexpr=+; rowexpr=+; namespaces=+; columns=+; alias=its item's names
RangeTableFuncCol: colname=its item's column; type_name=+; for_ordinality is_not_null=whichever; colexpr=+; coldefexpr=+
ColumnDef: colname=its item's column; type_name=+; coll_clause=a privilege; compression inhcount is_local is_not_null is_from_type storage storage_name raw_default cooked_default identity identity_sequence generated coll_oid constraints fdwoptions=only in definitions of tables
GroupingSet: kind=whichever; content=+
WithClause: ctes=+; recursive=what names mean in it
InferClause: index_elems=+; where_clause=+; conname=any index
IndexElem: name=a pin; expr=+; collation=a privilege; indexcolname opclass opclassopts ordering nulls_ordering=only in definitions of indexes
OnConflictClause: action=the kind of write; infer=+; target_list=+; where_clause=+
CommonTableExpr: ctename=what names mean; aliascolnames=its columns' names; ctematerialized=whichever; ctequery=+; search_clause=not understood; cycle_clause=not understood; cterecursive cterefcount ctecolnames ctecoltypes ctecoltypmods ctecolcollations=made by the server
MergeWhenClause: match_kind=whichever; command_type=the kind of write; override=whichever; condition=+; target_list=+; values=+
InsertStmt: relation=+; cols=+; select_stmt=+; on_conflict_clause=+; returning_list=+; with_clause=+; override=for pins
DeleteStmt: relation=+; using_clause=+; where_clause=+; returning_list=+; with_clause=+
UpdateStmt: relation=+; target_list=+; where_clause=+; from_clause=+; returning_list=+; with_clause=+
MergeStmt: relation=+; source_relation=+; join_condition=+; merge_when_clauses=+; returning_list=+; with_clause=+
SelectStmt: distinct_clause=+; into_clause=makes a table; target_list=+; from_clause=+; where_clause=+; group_clause=+; group_distinct=whichever; having_clause=+; window_clause=+; values_lists=+; sort_clause=+; limit_offset=+; limit_count=+; limit_option=whichever; locking_clause=a reason; with_clause=+; op all=for pins; larg=+; rarg=+
List: items=+
A_Const: ival fval boolval sval bsval isnull=constants
Integer: ival=a constant
Float: fval=a constant
Boolean: boolval=a constant
String: sval=a constant
BitString: bsval=a constant
`

// elsewhere are the kinds that no expression holds, or that are not understood in one, which its statement then passes for.
const elsewhere = `
TableFunc IntoClause Var Param Aggref WindowFunc WindowFuncRunCondition SubscriptingRef FuncExpr OpExpr DistinctExpr NullIfExpr ScalarArrayOpExpr SubPlan AlternativeSubPlan
FieldSelect FieldStore RelabelType CoerceViaIO ArrayCoerceExpr ConvertRowtypeExpr CollateExpr CaseTestExpr ArrayExpr RowCompareExpr JsonFormat JsonReturning JsonValueExpr
JsonConstructorExpr JsonIsPredicate JsonBehavior JsonExpr JsonTablePath JsonTablePathScan JsonTableSiblingJoin MergeAction CoerceToDomain CoerceToDomainValue NextValueExpr
InferenceElem TargetEntry RangeTblRef FromExpr OnConflictExpr Query RoleSpec RangeTableSample TableLikeClause DefElem LockingClause XmlSerialize PartitionElem PartitionSpec
PartitionBoundSpec PartitionRangeDatum SinglePartitionSpec PartitionCmd RangeTblEntry RTEPermissionInfo RangeTblFunction TableSampleClause WithCheckOption SortGroupClause
WindowClause RowMarkClause CTESearchClause CTECycleClause TriggerTransition JsonOutput JsonArgument JsonFuncExpr JsonTablePathSpec JsonTable JsonTableColumn JsonKeyValue
JsonParseExpr JsonScalarExpr JsonSerializeExpr JsonObjectConstructor JsonArrayConstructor JsonArrayQueryConstructor JsonAggConstructor JsonObjectAgg JsonArrayAgg RawStmt
SetOperationStmt ReturnStmt PLAssignStmt ReplicaIdentityStmt AlterTableCmd ObjectWithArgs AccessPriv Constraint CreateOpClassItem StatsElem FunctionParameter InlineCodeBlock
CallContext VacuumRelation PublicationTable PublicationObjSpec IntList OidList
`

// kinds gives every kind of node of the grammar, by the name of its message.
func kinds() map[string]protoreflect.FieldDescriptor {
	out := map[string]protoreflect.FieldDescriptor{}
	fields := (&pg.Node{}).ProtoReflect().Descriptor().Fields()
	for i := range fields.Len() {
		out[string(fields.Get(i).Message().Name())] = fields.Get(i)
	}
	return out
}

// marker is something that is found wherever it is visited: a call, a table or a type of this name.
const marker = "marked_with_this"

func call() *pg.Node {
	return &pg.Node{Node: &pg.Node_FuncCall{FuncCall: &pg.FuncCall{Funcname: []*pg.Node{pg.MakeStrNode(marker)}}}}
}

func selects(n *pg.Node) *pg.SelectStmt {
	return &pg.SelectStmt{Op: pg.SetOperation_SETOP_NONE, TargetList: []*pg.Node{{Node: &pg.Node_ResTarget{ResTarget: &pg.ResTarget{Val: n}}}}}
}

// node puts a message into a node of its kind.
func node(m protoreflect.Message) *pg.Node {
	if s, ok := m.Interface().(*pg.SelectStmt); ok && s.Op == pg.SetOperation_SET_OPERATION_UNDEFINED {
		s.Op = pg.SetOperation_SETOP_NONE
	}
	n := &pg.Node{}
	n.ProtoReflect().Set(kinds()[string(m.Descriptor().Name())], protoreflect.ValueOfMessage(m))
	return n
}

// marked gives a value for a field of a kind with the marker in it.
func marked(t *testing.T, kind string, fd protoreflect.FieldDescriptor) protoreflect.Value {
	var m protoreflect.Message
	switch of := string(fd.Message().Name()); of {
	case "Node":
		n := call()
		switch kind + "." + string(fd.Name()) {
		case "FuncCall.funcname", "TypeName.names":
			n = pg.MakeStrNode(marker)
		case "RangeFunction.functions":
			n = &pg.Node{Node: &pg.Node_List{List: &pg.List{Items: []*pg.Node{n}}}}
		case "RangeFunction.coldeflist":
			n = &pg.Node{Node: &pg.Node_ColumnDef{ColumnDef: &pg.ColumnDef{TypeName: &pg.TypeName{Names: []*pg.Node{pg.MakeStrNode(marker)}}}}}
		case "RangeTableFunc.columns":
			n = &pg.Node{Node: &pg.Node_RangeTableFuncCol{RangeTableFuncCol: &pg.RangeTableFuncCol{Colexpr: n}}}
		case "A_Indirection.indirection", "ResTarget.indirection":
			n = &pg.Node{Node: &pg.Node_AIndices{AIndices: &pg.A_Indices{Uidx: n}}}
		case "InferClause.index_elems":
			n = &pg.Node{Node: &pg.Node_IndexElem{IndexElem: &pg.IndexElem{Expr: n}}}
		case "WithClause.ctes":
			n = &pg.Node{Node: &pg.Node_CommonTableExpr{CommonTableExpr: &pg.CommonTableExpr{Ctequery: node(selects(n).ProtoReflect())}}}
		case "SubLink.subselect", "RangeSubselect.subquery", "CommonTableExpr.ctequery", "InsertStmt.select_stmt":
			n = node(selects(n).ProtoReflect())
		case "JoinExpr.larg", "JoinExpr.rarg", "SelectStmt.from_clause", "UpdateStmt.from_clause", "DeleteStmt.using_clause", "MergeStmt.source_relation":
			n = &pg.Node{Node: &pg.Node_RangeVar{RangeVar: &pg.RangeVar{Relname: marker}}}
		case "MergeStmt.merge_when_clauses":
			n = &pg.Node{Node: &pg.Node_MergeWhenClause{MergeWhenClause: &pg.MergeWhenClause{Condition: n}}}
		case "InsertStmt.cols":
			n = &pg.Node{Node: &pg.Node_ResTarget{ResTarget: &pg.ResTarget{Val: n}}}
		}
		m = n.ProtoReflect()
	case "RangeVar":
		m = (&pg.RangeVar{Relname: marker}).ProtoReflect()
	case "TypeName":
		m = (&pg.TypeName{Names: []*pg.Node{pg.MakeStrNode(marker)}}).ProtoReflect()
	case "WindowDef":
		m = (&pg.WindowDef{OrderClause: []*pg.Node{call()}}).ProtoReflect()
	case "WithClause":
		m = (&pg.WithClause{Ctes: []*pg.Node{node((&pg.CommonTableExpr{Ctequery: node(selects(call()).ProtoReflect())}).ProtoReflect())}}).ProtoReflect()
	case "OnConflictClause":
		m = (&pg.OnConflictClause{WhereClause: call()}).ProtoReflect()
	case "InferClause":
		m = (&pg.InferClause{WhereClause: call()}).ProtoReflect()
	case "SelectStmt":
		m = selects(call()).ProtoReflect()
	default:
		require.Fail(t, "no marker for "+of)
	}
	return protoreflect.ValueOfMessage(m)
}

// place puts a message of a kind where the grammar puts it, in a whole statement.
func place(m protoreflect.Message) *pg.Node {
	table := &pg.RangeVar{Relname: "t"}
	from := func(n *pg.Node) *pg.Node { return node((&pg.SelectStmt{FromClause: []*pg.Node{n}}).ProtoReflect()) }
	source := node(table.ProtoReflect())
	switch x := m.Interface().(type) {
	case *pg.RangeVar, *pg.RangeSubselect, *pg.RangeFunction, *pg.RangeTableFunc:
		return from(node(m))
	case *pg.JoinExpr:
		for _, side := range []**pg.Node{&x.Larg, &x.Rarg} {
			if *side == nil {
				*side = source
			}
		}
		return from(node(m))
	case *pg.RangeTableFuncCol:
		return from(node((&pg.RangeTableFunc{Columns: []*pg.Node{node(m)}}).ProtoReflect()))
	case *pg.ColumnDef:
		return from(node((&pg.RangeFunction{Coldeflist: []*pg.Node{node(m)}}).ProtoReflect()))
	case *pg.WithClause:
		return node((&pg.SelectStmt{WithClause: x}).ProtoReflect())
	case *pg.CommonTableExpr:
		return node((&pg.SelectStmt{WithClause: &pg.WithClause{Ctes: []*pg.Node{node(m)}}}).ProtoReflect())
	case *pg.OnConflictClause:
		return node((&pg.InsertStmt{Relation: table, OnConflictClause: x}).ProtoReflect())
	case *pg.InferClause:
		return node((&pg.InsertStmt{Relation: table, OnConflictClause: &pg.OnConflictClause{Infer: x}}).ProtoReflect())
	case *pg.IndexElem:
		return node((&pg.InsertStmt{Relation: table, OnConflictClause: &pg.OnConflictClause{Infer: &pg.InferClause{IndexElems: []*pg.Node{node(m)}}}}).ProtoReflect())
	case *pg.MergeWhenClause:
		return node((&pg.MergeStmt{Relation: table, SourceRelation: source, MergeWhenClauses: []*pg.Node{node(m)}}).ProtoReflect())
	case *pg.TypeName:
		return node(selects(node((&pg.TypeCast{TypeName: x}).ProtoReflect())).ProtoReflect())
	case *pg.MergeStmt:
		if x.Relation == nil {
			x.Relation = table
		}
		if x.SourceRelation == nil {
			x.SourceRelation = source
		}
		return node(m)
	case *pg.InsertStmt:
		if x.Relation == nil {
			x.Relation = table
		}
	case *pg.UpdateStmt:
		if x.Relation == nil {
			x.Relation = table
		}
	case *pg.DeleteStmt:
		if x.Relation == nil {
			x.Relation = table
		}
	case *pg.SelectStmt:
		if x.Larg != nil || x.Rarg != nil {
			x.Op = pg.SetOperation_SETOP_UNION
		}
	case *pg.TypeCast:
		if x.TypeName == nil {
			x.TypeName = &pg.TypeName{Names: []*pg.Node{pg.MakeStrNode("int4")}}
		}
	case *pg.A_Indirection:
		x.Indirection = append(x.Indirection, pg.MakeStrNode("f"))
	case *pg.FuncCall:
		if x.Funcname == nil {
			x.Funcname = []*pg.Node{pg.MakeStrNode("lower")}
		}
	}
	return node(selects(node(m)).ProtoReflect())
}

// found says whether a statement's facts hold the marker.
func found(f *analysis.Facts) bool {
	is := func(n analysis.Name) bool { return n.Name == marker || n.Schema == marker }
	return slices.ContainsFunc(f.Functions, is) || slices.ContainsFunc(f.Reads, is) || slices.ContainsFunc(f.Types, is) ||
		slices.ContainsFunc(f.Writes, func(w analysis.Write) bool { return is(w.Name) })
}

func factsOf(n *pg.Node) *analysis.Facts {
	r := newReader()
	r.statement(n)
	r.finish()
	return r.f
}

// Every field of the grammar is visited, or it is said why not; what is visited is found in each of them.
func TestEveryFieldIsClassified(t *testing.T) {
	all := kinds()
	seen := map[string]bool{}
	for line := range strings.SplitSeq(strings.TrimSpace(classified), "\n") {
		kind, rest, ok := strings.Cut(line, ":")
		require.True(t, ok, line)
		require.NotNil(t, all[kind], kind)
		seen[kind] = true
		if strings.TrimSpace(rest) == "!" { // not understood
			assert.False(t, factsOf(place(emptyOf(all[kind]))).Plain(), kind)
			continue
		}
		how := map[string]string{}
		for part := range strings.SplitSeq(rest, ";") {
			names, what, ok := strings.Cut(strings.TrimSpace(part), "=")
			for name := range strings.FieldsSeq(names) {
				require.True(t, ok && what != "", "%s.%s", kind, name)
				how[name] = what
			}
		}
		fields := all[kind].Message().Fields()
		for i := range fields.Len() {
			fd := fields.Get(i)
			name := string(fd.Name())
			if strings.HasSuffix(name, "location") {
				continue
			}
			what, ok := how[name]
			if !assert.True(t, ok, "%s.%s is not classified", kind, name) || what != "+" {
				continue
			}
			delete(how, name)
			m := emptyOf(all[kind])
			switch {
			case fd.Message() == nil:
				m.Set(fd, protoreflect.ValueOfString(marker))
			case fd.IsList():
				m.Mutable(fd).List().Append(marked(t, kind, fd))
			default:
				m.Set(fd, marked(t, kind, fd))
			}
			assert.True(t, found(factsOf(place(m))), "%s.%s is not visited", kind, name)
		}
	}
	for kind := range strings.FieldsSeq(elsewhere) {
		require.NotNil(t, all[kind], kind)
		assert.False(t, seen[kind], kind)
		seen[kind] = true
		f := factsOf(node(selects(node(emptyOf(all[kind]))).ProtoReflect()))
		assert.False(t, f.Plain(), "%s in an expression is not taken for harmless", kind)
		assert.True(t, f.Whole, kind)
	}
	for kind := range all {
		switch {
		case seen[kind]:
		case strings.HasSuffix(kind, "Stmt"): // a whole statement: what is not known of is a definition, which may change anything
			m := emptyOf(all[kind])
			switch x := m.Interface().(type) { // what the grammar never leaves out
			case *pg.CallStmt:
				x.Funccall = &pg.FuncCall{Funcname: []*pg.Node{pg.MakeStrNode("lower")}}
			case *pg.PrepareStmt:
				x.Query = node(selects(call()).ProtoReflect())
			case *pg.TruncateStmt:
				x.Relations = []*pg.Node{node((&pg.RangeVar{Relname: "t"}).ProtoReflect())}
			case *pg.RefreshMatViewStmt:
				x.Relation = &pg.RangeVar{Relname: "t"}
			}
			f := factsOf(node(m))
			assert.False(t, f.Plain(), kind)
		default:
			assert.Fail(t, "a kind of node that is not classified", kind)
		}
	}
}

// emptyOf gives a message of a kind with nothing in it.
func emptyOf(fd protoreflect.FieldDescriptor) protoreflect.Message {
	return (&pg.Node{}).ProtoReflect().NewField(fd).Message()
}
