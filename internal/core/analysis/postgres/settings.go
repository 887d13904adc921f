package postgres

import (
	"slices"
	"strings"

	pg "github.com/pganalyze/pg_query_go/v6"

	"jollylarder/internal/core/analysis"
	"jollylarder/internal/core/reason"
)

// ResultSettings are the settings that can change the result of a statement that reads plain tables through functions
// known to be harmless: how names are resolved, how values are read and written, and who asks. No other has a part in
// what is kept, so that changing another changes nothing.
var ResultSettings = []string{
	"search_path", "role", "row_security", "TimeZone", "timezone_abbreviations", "DateStyle", "IntervalStyle",
	"client_encoding", "extra_float_digits", "bytea_output", "lc_monetary", "lc_numeric", "lc_time", "xmlbinary",
	"xmloption", "array_nulls", "transform_null_equals", "backslash_quote", "default_text_search_config",
	"gin_fuzzy_search_limit", "quote_all_identifiers", "client_min_messages", "session_replication_role",
	"plpgsql.variable_conflict", "restrict_nonsystem_relation_kind", "composite_type_mismatch",
	"pg_trgm.similarity_threshold", "pg_trgm.word_similarity_threshold", "pg_trgm.strict_word_similarity_threshold",
}

// otherSettings are those that decide in another way whether and how a session is answered from memory.
var otherSettings = []string{
	"session_authorization", "default_transaction_isolation", "transaction_isolation", "standard_conforming_strings", "jollylarder.caching",
}

// settingEffect says what changing a setting may do. Source: the grammar's names for the special forms of SET.
func settingEffect(name string) analysis.Effect {
	is := func(other string) bool { return strings.EqualFold(name, other) }
	switch {
	case name == "", slices.ContainsFunc(ResultSettings, is), slices.ContainsFunc(otherSettings, is):
		return analysis.Settings
	case is("statement_timeout"):
		return analysis.Patience
	}
	return 0
}

func (r *reader) setting(s *pg.VariableSetStmt) {
	f := r.f
	f.Kind = analysis.KindSet
	what := "the setting " + s.Name
	switch s.Kind {
	case pg.VariableSetKind_VAR_RESET:
		f.Kind = analysis.KindReset
	case pg.VariableSetKind_VAR_RESET_ALL:
		f.Kind, what = analysis.KindReset, "all settings"
	}
	switch s.Name {
	case "TRANSACTION SNAPSHOT":
		f.Effect |= analysis.Isolates
		f.Bypasses(reason.ChangesSnapshot)
		return
	case "TRANSACTION":
		if f.Isolation = isolation(s.Args); f.Isolation != analysis.DefaultIsolation {
			f.Effect |= analysis.Isolates
		}
		f.Bypasses(reason.ChangesTransaction)
		return
	case "SESSION CHARACTERISTICS":
		if isolation(s.Args) != analysis.DefaultIsolation {
			f.Effect |= analysis.Settings
		}
		f.Bypasses(reason.ChangesTransactions)
		return
	}
	f.Effect |= settingEffect(s.Name)
	if s.IsLocal {
		f.AddReason(reason.About(reason.ChangesForTransaction, what))
		return
	}
	f.AddReason(reason.About(reason.ChangesForSession, what))
}

// certain says whether a server always lets a block begin with a list of modes. A standby refuses SERIALIZABLE and READ
// WRITE.
func certain(modes []*pg.Node) bool {
	for _, o := range modes {
		d := o.GetDefElem()
		switch d.GetDefname() {
		case "transaction_isolation":
			switch d.Arg.GetAConst().GetSval().GetSval() {
			case "read committed", "read uncommitted", "repeatable read":
			default:
				return false
			}
		case "transaction_read_only":
			if d.Arg.GetAConst().GetIval().GetIval() == 0 {
				return false
			}
		default:
			return false
		}
	}
	return true
}

// isolation gives what a list of a transaction's modes says of its isolation.
func isolation(modes []*pg.Node) (i analysis.Isolation) {
	for _, o := range modes {
		d := o.GetDefElem()
		if d.GetDefname() != "transaction_isolation" {
			continue
		}
		switch d.Arg.GetAConst().GetSval().GetSval() {
		case "read committed", "read uncommitted":
			i = analysis.ReadCommitted
		case "repeatable read":
			i = analysis.RepeatableRead
		default:
			i = analysis.Serializable
		}
	}
	return i
}
