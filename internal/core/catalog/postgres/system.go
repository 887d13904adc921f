package postgres

import (
	"slices"
	"strings"

	"jollylarder/internal/core/analysis"
	"jollylarder/internal/core/freshness"
	"jollylarder/internal/core/reason"
)

// isSystem says whether a name is of the system catalogs: of those that the server has by itself, where the schema's
// description says which these are, since anybody may put a table of such a name, or into such a schema, who has the
// right.
func (s *Schema) isSystem(n analysis.Name) bool {
	if s.system == nil || freshness.Off(freshness.SystemByNumber) {
		return n.Schema == "pg_catalog" || n.Schema == "information_schema" ||
			n.Schema == "" && strings.HasPrefix(n.Name, "pg_")
	}
	switch n.Schema {
	case "":
		return s.system["pg_catalog."+n.Name]
	case "pg_catalog", "information_schema":
		return s.system[n.String()]
	}
	return false
}

// defined are the system catalogs and views whose rows change by definitions only, but for the columns in drifting.
// Source: the server's manual, "System Catalogs" and "System Views", reviewed one by one.
var defined = strings.Fields(`
pg_aggregate pg_am pg_amop pg_amproc pg_attrdef pg_attribute pg_auth_members pg_cast pg_class pg_collation pg_constraint
pg_conversion pg_database pg_db_role_setting pg_default_acl pg_depend pg_description pg_enum pg_event_trigger
pg_extension pg_foreign_data_wrapper pg_foreign_server pg_foreign_table pg_index pg_inherits pg_init_privs pg_language
pg_namespace pg_opclass pg_operator pg_opfamily pg_partitioned_table pg_policy pg_proc pg_publication
pg_publication_namespace pg_publication_rel pg_range pg_rewrite pg_roles pg_seclabel pg_sequence pg_shdepend
pg_shdescription pg_statistic_ext pg_tablespace pg_transform pg_trigger pg_ts_config pg_ts_config_map pg_ts_dict
pg_ts_parser pg_ts_template pg_type pg_user_mapping pg_user_mappings pg_views pg_tables pg_indexes pg_rules pg_policies
pg_user pg_group
`)

// drifting are columns of those that also change without a definition: by vacuum, by analyse, or on their own.
var drifting = strings.Fields(`
reltuples relpages relallvisible relallfrozen relfrozenxid relminmxid relfilenode relhasindex relhasrules relhastriggers
relhassubclass datfrozenxid datminmxid indisvalid indcheckxmin indisready indislive hasindexes hasrules hastriggers
age xmin xmax cmin cmax ctid atthasmissing attmissingval
`)

// withDrifting are the catalogs that have such columns, so that asking for all of a row asks for them.
var withDrifting = strings.Fields("pg_class pg_database pg_index pg_tables pg_attribute")

// shifting says why what a statement reads in a system table may change without a definition, if it may.
func shifting(f *analysis.Facts, n analysis.Name) reason.Reason {
	if n.Schema != "information_schema" && !slices.Contains(defined, n.Name) {
		return reason.About(reason.TellsOfActivity, n.Name)
	}
	for _, c := range f.Columns {
		if slices.Contains(drifting, c) && n.Schema != "information_schema" {
			return reason.About(reason.DriftingColumn, c).Behind(reason.Way("").Reads(n.Name))
		}
	}
	if f.Star && slices.Contains(withDrifting, n.Name) {
		return reason.About(reason.DriftingColumns, n.Name)
	}
	return reason.Reason{}
}
