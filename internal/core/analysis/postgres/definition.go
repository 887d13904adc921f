package postgres

import (
	"strings"

	pg "github.com/pganalyze/pg_query_go/v6"

	"jollylarder/internal/core/analysis"
	"jollylarder/internal/core/reason"
)

// code says what the code of a DO does, or gives nil where that is not known.
func code(d *pg.DoStmt) *analysis.Facts {
	language, source := "plpgsql", ""
	for _, n := range d.Args {
		switch e := n.GetDefElem(); e.GetDefname() {
		case "language":
			language = e.Arg.GetString_().GetSval()
		case "as":
			source = e.Arg.GetString_().GetSval()
		}
	}
	if language != "plpgsql" {
		return nil
	}
	f, err := Body(
		"create function code() returns void language plpgsql as '" + strings.ReplaceAll(source, "'", "''") + "'",
	)
	if err != nil || strings.Contains(source, "\\") {
		return nil
	}
	f.Kind = analysis.KindDo
	f.Bypasses(reason.RunsCode)
	return f
}

// granted gives the tables to which a statement gives or takes privileges, if it does nothing else.
func granted(n *pg.Node) (tables []analysis.Name) {
	g := n.GetGrantStmt()
	if g == nil || g.Targtype != pg.GrantTargetType_ACL_TARGET_OBJECT || g.Objtype != pg.ObjectType_OBJECT_TABLE {
		return nil
	}
	for _, o := range g.Objects {
		if o.GetRangeVar() == nil {
			return nil
		}
		tables = append(tables, name(o.GetRangeVar()))
	}
	return tables
}

// dropped gives the tables that a statement takes away, if it does nothing else.
func dropped(n *pg.Node) (tables []analysis.Name) {
	d := n.GetDropStmt()
	if d == nil || d.RemoveType != pg.ObjectType_OBJECT_TABLE || d.Behavior == pg.DropBehavior_DROP_CASCADE {
		return nil
	}
	for _, o := range d.Objects {
		tables = append(tables, qualified(o.GetList().GetItems()))
	}
	return tables
}

// made gives the name of a temporary table that a statement makes, if nothing happens when it is written.
func made(n *pg.Node) string {
	if !temporary(n) {
		return ""
	}
	switch c := n.Node.(type) {
	case *pg.Node_CreateTableAsStmt:
		if c.CreateTableAsStmt.Objtype == pg.ObjectType_OBJECT_TABLE {
			return c.CreateTableAsStmt.Into.GetRel().GetRelname()
		}
	case *pg.Node_CreateStmt:
		s := c.CreateStmt
		if len(s.InhRelations) > 0 || s.Partbound != nil || s.Partspec != nil || s.OfTypename != nil || !plainParts(s.TableElts) || !plainParts(s.Constraints) {
			return ""
		}
		return s.Relation.Relname
	}
	return ""
}

// plainParts says whether the parts of a table's definition call nothing when it is written.
func plainParts(list []*pg.Node) bool {
	for _, n := range list {
		switch p := n.Node.(type) {
		case *pg.Node_ColumnDef:
			d := p.ColumnDef
			t := qualified(d.TypeName.GetNames())
			system := t.Schema == "" || t.Schema == "pg_catalog"
			if !system || !steadyTypes[t.Name] && !dateTypes[t.Name] && !foreignTypes[t.Name] || d.RawDefault != nil || d.Identity != "" || d.Generated != "" || !plainParts(d.Constraints) {
				return false
			}
		case *pg.Node_Constraint:
			switch c := p.Constraint; c.Contype {
			case pg.ConstrType_CONSTR_NULL, pg.ConstrType_CONSTR_NOTNULL, pg.ConstrType_CONSTR_PRIMARY, pg.ConstrType_CONSTR_UNIQUE:
			case pg.ConstrType_CONSTR_DEFAULT:
				if c.RawExpr.GetAConst() == nil {
					return false
				}
			default:
				return false
			}
		default:
			return false
		}
	}
	return true
}
