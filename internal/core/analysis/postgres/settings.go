package postgres

import (
	"slices"
	"strings"

	pg "github.com/pganalyze/pg_query_go/v6"

	"jollylarder/internal/core/analysis"
	"jollylarder/internal/core/reason"
	"jollylarder/internal/core/statement"
)

// ResultSettings are the settings that can change the result of a statement that reads plain tables through functions
// known to be harmless: how names are resolved, how values are read and written, and who asks. They are part of every key,
// beside those that a server has and that nobody has reviewed.
var ResultSettings = []string{
	"search_path", "role", "row_security", "TimeZone", "timezone_abbreviations", "DateStyle", "IntervalStyle",
	"client_encoding", "extra_float_digits", "bytea_output", "lc_monetary", "lc_numeric", "lc_time", "xmlbinary",
	"xmloption", "array_nulls", "transform_null_equals", "backslash_quote", "default_text_search_config",
	"gin_fuzzy_search_limit", "quote_all_identifiers", "client_min_messages", "session_replication_role",
	"plpgsql.variable_conflict", "restrict_nonsystem_relation_kind", "composite_type_mismatch",
	"pg_trgm.similarity_threshold", "pg_trgm.word_similarity_threshold", "pg_trgm.strict_word_similarity_threshold",
	"isn.weak",
}

// otherSettings are those that decide in another way whether and how a session is answered from memory.
var otherSettings = []string{
	"session_authorization", "default_transaction_isolation", "transaction_isolation", "standard_conforming_strings", "jollylarder.caching",
}

// harmlessSettings are those that a session can change and that have no part in what is kept: they decide how a query is
// planned and run, what is logged, how long anything may take, how errors are told, or how what is written is stored; or
// what they decide makes a statement bypass the cache (current_setting, large objects). Some are those of one version, or
// of one vendor's packages. Source: "Server Configuration" in the manuals of PostgreSQL 10 to 18.
var harmlessSettings = statement.Words(`
allow_in_place_tablespaces allow_system_table_mods application_name backend_flush_after backtrace_functions check_function_bodies
client_connection_check_interval commit_delay commit_siblings compute_query_id constraint_exclusion cpu_index_tuple_cost cpu_operator_cost
cpu_tuple_cost createrole_self_grant cursor_tuple_fraction deadlock_timeout debug_discard_caches debug_logical_replication_streaming
debug_parallel_query debug_pretty_print debug_print_parse debug_print_plan debug_print_rewritten default_statistics_target
default_table_access_method default_tablespace default_toast_compression default_transaction_deferrable default_transaction_read_only
default_with_oids dynamic_library_path effective_cache_size effective_io_concurrency enable_async_append enable_bitmapscan
enable_distinct_reordering enable_gathermerge enable_group_by_reordering enable_hashagg enable_hashjoin enable_incremental_sort
enable_indexonlyscan enable_indexscan enable_material enable_memoize enable_mergejoin enable_nestloop enable_parallel_append
enable_parallel_hash enable_partition_pruning enable_partitionwise_aggregate enable_partitionwise_join enable_presorted_aggregate
enable_self_join_elimination enable_seqscan enable_sort enable_tidscan escape_string_warning event_triggers exit_on_error
extension_control_path extension_destdir file_copy_method force_parallel_mode from_collapse_limit geqo geqo_effort geqo_generations
geqo_pool_size geqo_seed geqo_selection_bias geqo_threshold gin_pending_list_limit hash_mem_multiplier icu_validation_level
idle_in_transaction_session_timeout idle_session_timeout ignore_checksum_failure io_combine_limit jit jit_above_cost jit_dump_bitcode
jit_expressions jit_inline_above_cost jit_optimize_above_cost jit_tuple_deforming join_collapse_limit lc_messages lo_compat_privileges
local_preload_libraries lock_timeout log_btree_build_stats log_duration log_error_verbosity log_executor_stats log_lock_failures
log_lock_waits log_min_duration_sample log_min_duration_statement log_min_error_statement log_min_messages log_parameter_max_length
log_parameter_max_length_on_error log_parser_stats log_planner_stats log_replication_commands log_statement log_statement_sample_rate
log_statement_stats log_temp_files log_transaction_sample_rate logical_decoding_work_mem maintenance_io_concurrency
maintenance_work_mem max_parallel_maintenance_workers max_parallel_workers max_parallel_workers_per_gather max_stack_depth
min_parallel_index_scan_size min_parallel_table_scan_size output_plugin_libraries parallel_leader_participation parallel_setup_cost
parallel_tuple_cost password_encryption plan_cache_mode random_page_cost recursive_worktable_factor
replacement_sort_tuples scram_iterations seq_page_cost session_preload_libraries stats_fetch_consistency synchronize_seqscans
synchronous_commit tcp_keepalives_count tcp_keepalives_idle tcp_keepalives_interval tcp_user_timeout temp_buffers temp_file_limit
temp_tablespaces trace_connection_negotiation trace_lock_oidmin trace_lock_table trace_locks trace_lwlocks trace_notify trace_sort
trace_syncscan trace_userlocks track_activities track_cost_delay_timing track_counts track_functions track_io_timing
track_wal_io_timing transaction_deferrable transaction_read_only transaction_timeout update_process_title vacuum_buffer_usage_limit
vacuum_cleanup_index_scale_factor vacuum_cost_delay vacuum_cost_limit vacuum_cost_page_dirty vacuum_cost_page_hit vacuum_cost_page_miss
vacuum_failsafe_age vacuum_freeze_min_age vacuum_freeze_table_age vacuum_max_eager_freeze_failure_rate
vacuum_multixact_failsafe_age vacuum_multixact_freeze_min_age vacuum_multixact_freeze_table_age vacuum_truncate wal_compression
wal_consistency_checking wal_init_zero wal_recycle wal_sender_timeout wal_skip_threshold work_mem zero_damaged_pages
`)

// Unreviewed says whether it is not known what a setting does to results. A name with a dot is one that an application or
// an extension makes up; what reads it is a function, of which it is known whether it may do anything.
func Unreviewed(setting string) bool {
	return !decides(setting) && !strings.EqualFold(setting, patience) && !isHarmless(setting)
}

// patience is the setting that bounds a statement's time.
const patience = "statement_timeout"

// decides says whether a setting has a part in whether and how a session is answered from memory.
func decides(setting string) bool {
	is := func(other string) bool { return strings.EqualFold(setting, other) }
	return slices.ContainsFunc(ResultSettings, is) || slices.ContainsFunc(otherSettings, is)
}

func isHarmless(setting string) bool {
	return harmlessSettings[strings.ToLower(setting)] || strings.Contains(setting, ".")
}

// settingEffect says what changing a setting may do; no name stands for all of them. Source: the grammar's names for the
// special forms of SET.
func settingEffect(name string) analysis.Effect {
	switch {
	case decides(name):
		return analysis.Settings
	case strings.EqualFold(name, patience):
		return analysis.Patience
	case isHarmless(name):
		return 0
	}
	return analysis.Settings
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
