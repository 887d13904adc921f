package postgres

import (
	"strings"

	pg "github.com/pganalyze/pg_query_go/v6"

	"jollylarder/internal/core/analysis"
	"jollylarder/internal/core/statement"
)

// Most definitions concern a relation that they name, and nothing else: a new table, an index, a column more. What
// rests on other relations is not touched by them. These are read here, one kind after the other; what is not among
// them may change any definition.

// longestDefined is the length in bytes of the longest name of a relation that is followed: the server cuts the names
// of its indexes and sequences, which begin with it.
const longestDefined = 30

// defines reads a definition that concerns some relations only, and says whether it is one.
func (r *reader) defines(n *pg.Node) bool {
	var d analysis.Definition
	ok := false
	switch s := n.Node.(type) {
	case *pg.Node_CreateStmt:
		d, ok = r.createsTable(s.CreateStmt)
	case *pg.Node_IndexStmt:
		i := s.IndexStmt
		d = analysis.Definition{Names: []analysis.Name{name(i.Relation)}, Quiet: analysis.QuietAll, Calls: true, Same: true}
		if i.Idxname != "" { // by which a table of that name in another schema may not be found any more
			r.f.Defines = append(r.f.Defines, analysis.Definition{Names: []analysis.Name{{Schema: i.Relation.Schemaname, Name: i.Idxname}}, Quiet: analysis.QuietAll})
		}
		ok = r.indexed(i.IndexParams) && r.indexed(i.IndexIncludingParams)
		r.walk(i.WhereClause)
	case *pg.Node_ViewStmt:
		d, ok = analysis.Definition{Names: []analysis.Name{name(s.ViewStmt.View)}, Quiet: analysis.QuietReads}, true
	case *pg.Node_CreateTableAsStmt:
		c := s.CreateTableAsStmt
		d, ok = analysis.Definition{Names: []analysis.Name{name(c.Into.GetRel())}, Quiet: analysis.QuietReads}, c.Query.GetExecuteStmt() == nil
		if c.Objtype == pg.ObjectType_OBJECT_TABLE {
			d.Quiet = analysis.QuietAll
		}
	case *pg.Node_CreateSeqStmt:
		d, ok = analysis.Definition{Names: []analysis.Name{name(s.CreateSeqStmt.Sequence)}, Quiet: analysis.QuietAll}, true
	case *pg.Node_AlterSeqStmt:
		d, ok = analysis.Definition{Names: []analysis.Name{name(s.AlterSeqStmt.Sequence)}, Quiet: analysis.QuietAll}, true
	case *pg.Node_CreateTrigStmt:
		d, ok = analysis.Definition{Names: []analysis.Name{name(s.CreateTrigStmt.Relation)}, Quiet: analysis.QuietReads}, true
	case *pg.Node_AlterTableStmt:
		d, ok = r.altersTable(s.AlterTableStmt)
	case *pg.Node_RenameStmt:
		d, ok = renames(s.RenameStmt)
	case *pg.Node_DropStmt:
		d, ok = drops(s.DropStmt)
	}
	for _, n := range d.Names {
		// In that schema it is a temporary one, whatever else is said.
		ok = ok && n.Name != "" && len(n.Name) <= longestDefined && !strings.HasPrefix(n.Schema, "pg_temp")
	}
	if !ok || len(d.Names) == 0 {
		r.f.Defines = nil
		return false
	}
	r.f.Defines = append(r.f.Defines, d)
	return true
}

func (r *reader) createsTable(s *pg.CreateStmt) (d analysis.Definition, ok bool) {
	d = analysis.Definition{Names: []analysis.Name{name(s.Relation)}, Quiet: analysis.QuietAll}
	for _, n := range s.InhRelations { // also the table of which it becomes a part
		if n.GetRangeVar() == nil {
			return d, false
		}
		d.Names, d.Part = append(d.Names, name(n.GetRangeVar())), true
	}
	if len(s.InhRelations) > 0 && s.Partbound == nil { // by inheritance, with the checks and defaults of others
		d.Quiet, d.Part = analysis.QuietReads, false
	}
	if s.OfTypename != nil {
		return d, false
	}
	for _, p := range s.Partspec.GetPartParams() {
		if e := p.GetPartitionElem(); e == nil || e.Expr != nil || len(e.Opclass) > 0 {
			return d, false
		}
	}
	ok = true
	for _, list := range [][]*pg.Node{s.TableElts, s.Constraints} {
		for _, n := range list {
			quiet, understood := r.tablePart(n)
			ok = ok && understood
			if !quiet {
				d.Quiet = min(d.Quiet, analysis.QuietReads)
			}
		}
	}
	return d, ok
}

// tablePart reads a column or a constraint of a table, and says whether nothing happens by it that its expressions do
// not say, when the table is written.
func (r *reader) tablePart(n *pg.Node) (quiet, understood bool) {
	switch p := n.Node.(type) {
	case *pg.Node_ColumnDef:
		c := p.ColumnDef
		if c.TypeName == nil || len(c.Fdwoptions) > 0 {
			return false, false
		}
		if t := qualified(c.TypeName.Names); t.Schema != "" || !serials[t.Name] {
			r.castTo(c.TypeName, nil)
		}
		r.walk(c.RawDefault)
		quiet, understood = true, true
		for _, k := range c.Constraints {
			q, u := r.tablePart(k)
			quiet, understood = quiet && q, understood && u
		}
		return quiet, understood
	case *pg.Node_Constraint:
		c := p.Constraint
		r.walk(c.RawExpr)
		r.walk(c.WhereClause)
		switch c.Contype {
		case pg.ConstrType_CONSTR_NULL, pg.ConstrType_CONSTR_NOTNULL, pg.ConstrType_CONSTR_PRIMARY, pg.ConstrType_CONSTR_UNIQUE, pg.ConstrType_CONSTR_DEFAULT,
			pg.ConstrType_CONSTR_CHECK, pg.ConstrType_CONSTR_IDENTITY, pg.ConstrType_CONSTR_GENERATED, pg.ConstrType_CONSTR_FOREIGN,
			pg.ConstrType_CONSTR_ATTR_DEFERRABLE, pg.ConstrType_CONSTR_ATTR_NOT_DEFERRABLE, pg.ConstrType_CONSTR_ATTR_DEFERRED, pg.ConstrType_CONSTR_ATTR_IMMEDIATE:
			if c.Pktable != nil && (acts(c.FkUpdAction) || acts(c.FkDelAction)) { // a write of the other table goes on to this one, and from there on
				r.f.Defines = append(r.f.Defines, analysis.Definition{Names: []analysis.Name{name(c.Pktable)}, Quiet: analysis.QuietReads, Same: true})
			}
			return true, true
		}
		return false, false
	case *pg.Node_TableLikeClause: // with the other's defaults and checks, perhaps
		return false, true
	}
	return false, false
}

// acts says whether the letter of a reference's action is of one that writes. Source: FKCONSTR_ACTION_* in the server's
// parsenodes.h.
func acts(action string) bool { return action == "c" || action == "n" || action == "d" }

// serials are the types that stand for a number from a sequence of the column's own.
var serials = statement.Words("serial bigserial smallserial serial2 serial4 serial8")

// indexed reads what an index is made of, which is worked out for every row there is.
func (r *reader) indexed(list []*pg.Node) bool {
	for _, n := range list {
		e := n.GetIndexElem()
		if e == nil {
			return false
		}
		r.walk(e.Expr)
	}
	return true
}

func (r *reader) altersTable(s *pg.AlterTableStmt) (d analysis.Definition, ok bool) {
	switch s.Objtype {
	case pg.ObjectType_OBJECT_TABLE,
		pg.ObjectType_OBJECT_VIEW,
		pg.ObjectType_OBJECT_MATVIEW,
		pg.ObjectType_OBJECT_SEQUENCE:
	default:
		return d, false
	}
	d = analysis.Definition{Names: []analysis.Name{name(s.Relation)}, Quiet: analysis.QuietAll, Calls: true}
	for _, n := range s.Cmds {
		c := n.GetAlterTableCmd()
		switch c.Subtype {
		case pg.AlterTableType_AT_DropColumn,
			pg.AlterTableType_AT_DropNotNull,
			pg.AlterTableType_AT_SetNotNull,
			pg.AlterTableType_AT_DropConstraint,
			pg.AlterTableType_AT_ValidateConstraint,
			pg.AlterTableType_AT_AlterConstraint,
			pg.AlterTableType_AT_SetStatistics,
			pg.AlterTableType_AT_SetStorage,
			pg.AlterTableType_AT_SetCompression,
			pg.AlterTableType_AT_ClusterOn,
			pg.AlterTableType_AT_DropCluster,
			pg.AlterTableType_AT_SetLogged,
			pg.AlterTableType_AT_SetUnLogged,
			pg.AlterTableType_AT_SetTableSpace,
			pg.AlterTableType_AT_SetRelOptions,
			pg.AlterTableType_AT_ResetRelOptions,
			pg.AlterTableType_AT_ReplicaIdentity,
			pg.AlterTableType_AT_AddIdentity,
			pg.AlterTableType_AT_SetIdentity,
			pg.AlterTableType_AT_DropIdentity,
			pg.AlterTableType_AT_DropExpression,
			pg.AlterTableType_AT_ChangeOwner:
		case pg.AlterTableType_AT_ColumnDefault:
			r.walk(c.Def)
		case pg.AlterTableType_AT_AddColumn, pg.AlterTableType_AT_AddConstraint:
			quiet, understood := r.tablePart(c.Def)
			if !understood {
				return d, false
			}
			if !quiet {
				d.Quiet = min(d.Quiet, analysis.QuietReads)
			}
		case pg.AlterTableType_AT_AlterColumnType:
			if quiet, understood := r.tablePart(c.Def); !quiet || !understood {
				return d, false
			}
		case pg.AlterTableType_AT_AttachPartition,
			pg.AlterTableType_AT_DetachPartition,
			pg.AlterTableType_AT_AddInherit,
			pg.AlterTableType_AT_DropInherit:
			other := c.Def.GetRangeVar()
			if p := c.Def.GetPartitionCmd(); p != nil {
				other = p.Name
			}
			if other == nil {
				return d, false
			}
			d.Names, d.Quiet = append(d.Names, name(other)), min(d.Quiet, analysis.QuietReads)
		case pg.AlterTableType_AT_EnableTrig,
			pg.AlterTableType_AT_EnableAlwaysTrig,
			pg.AlterTableType_AT_EnableReplicaTrig,
			pg.AlterTableType_AT_DisableTrig,
			pg.AlterTableType_AT_EnableTrigAll,
			pg.AlterTableType_AT_DisableTrigAll,
			pg.AlterTableType_AT_EnableTrigUser,
			pg.AlterTableType_AT_DisableTrigUser:
			d.Quiet = min(d.Quiet, analysis.QuietReads)
		default:
			return d, false
		}
	}
	return d, true
}

func renames(s *pg.RenameStmt) (d analysis.Definition, ok bool) {
	if s.Relation == nil {
		return d, false
	}
	d.Names = []analysis.Name{name(s.Relation)}
	switch s.RenameType {
	case pg.ObjectType_OBJECT_TABLE,
		pg.ObjectType_OBJECT_VIEW,
		pg.ObjectType_OBJECT_MATVIEW,
		pg.ObjectType_OBJECT_SEQUENCE:
		d.Names = append(d.Names, analysis.Name{Schema: s.Relation.Schemaname, Name: s.Newname})
	case pg.ObjectType_OBJECT_COLUMN, pg.ObjectType_OBJECT_TABCONSTRAINT:
		if s.RenameType == pg.ObjectType_OBJECT_COLUMN && s.RelationType != pg.ObjectType_OBJECT_TABLE &&
			s.RelationType != pg.ObjectType_OBJECT_VIEW {
			return d, false
		}
		d.Quiet = analysis.QuietAll
	default:
		return d, false
	}
	return d, true
}

func drops(s *pg.DropStmt) (d analysis.Definition, ok bool) {
	d = analysis.Definition{Quiet: analysis.QuietAll}
	for _, o := range s.Objects {
		parts := o.GetList().GetItems()
		switch s.RemoveType {
		case pg.ObjectType_OBJECT_TABLE,
			pg.ObjectType_OBJECT_VIEW,
			pg.ObjectType_OBJECT_MATVIEW,
			pg.ObjectType_OBJECT_SEQUENCE:
		case pg.ObjectType_OBJECT_INDEX:
			d.Indexes = true
		case pg.ObjectType_OBJECT_TRIGGER:
			if len(parts) < 2 {
				return d, false
			}
			parts = parts[:len(parts)-1]
		default:
			return d, false
		}
		d.Names = append(d.Names, qualified(parts))
	}
	return d, true
}
