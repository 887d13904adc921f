package mysql

import (
	"slices"
	"strings"

	"jollylarder/internal/core/statement"
)

// Setting is something of a session's state that decides how its statements are read, and its value. That is in lower case
// but for a schema, and empty where it is not known.
type Setting struct{ Name, Value string }

// The settings. The schema in use is that in which names without one are looked up.
const (
	SchemaInUse = "schema"
	Encoding    = "character_set_client"
	SQLMode     = "sql_mode"
)

// Settings gives those that a string of statements sets in so many words, in their order.
func Settings(syntax *statement.Syntax, sql []byte) (out []Setting) {
	list := syntax.Tokens(sql)
	written := func(i int) string {
		if i >= len(list) {
			return ""
		}
		return string(sql[list[i].Start:list[i].End])
	}
	at := func(i int) string { return strings.ToLower(written(i)) }
	ends := func(i int) bool {
		return i >= len(list) || list[i].Kind == statement.CommaToken || list[i].Kind == statement.SemicolonToken || at(i) == "collate"
	}
	for i := range list {
		name, behind := "", i+1
		switch what := strings.TrimPrefix(at(i), "@@"); {
		case what == "use" && i+1 < len(list) && (i == 0 || list[i-1].Kind == statement.SemicolonToken):
			out = append(out, Setting{SchemaInUse, nameOf(list[i+1].Kind, written(i+1))})
			continue
		case what == "names", what == "charset":
			name = Encoding
		case what == "character" && at(i+1) == "set":
			name, behind = Encoding, i+2
		case what == Encoding, what == SQLMode:
			name = what
		}
		assigned := at(behind) == "=" || at(behind) == ":="
		switch {
		case name == "", (at(i) == "names" || at(i) == "charset" || at(i) == "character") == assigned:
			continue
		case assigned:
			behind++
		}
		value := strings.Trim(at(behind), `'"`)
		if !ends(behind+1) || strings.HasPrefix(value, "@") || value == "?" {
			value = "" // it is computed
		}
		out = append(out, Setting{name, value})
	}
	return out
}

// nameOf gives a name as it is without quotes.
func nameOf(kind statement.TokenKind, written string) string {
	if kind != statement.NameToken || len(written) < 2 {
		return written
	}
	quote := written[:1]
	return strings.ReplaceAll(written[1:len(written)-1], quote+quote, quote)
}

// Assigned is what a string of statements assigns to the session's variables, beside what Settings tells.
type Assigned struct {
	// Literal is set if it is one SET of the session's variables to values that stand there, so that what it does rests on
	// nothing but what these were before.
	Literal bool
	// Once is set if it is for the session's next transaction, and no other.
	Once bool
	// Unreviewed is set if it assigns a variable of which it is not known what that does to results.
	Unreviewed bool
}

// Assignments reads them.
func Assignments(syntax *statement.Syntax, sql []byte) (a Assigned) {
	list := syntax.Tokens(sql)
	at := func(i int) string {
		if i < 0 || i >= len(list) {
			return ""
		}
		return strings.ToLower(string(sql[list[i].Start:list[i].End]))
	}
	begins := func(i int) bool { return i == 0 || list[i-1].Kind == statement.SemicolonToken }
	a.Literal = at(0) == "set"
	within := false // a SET
	for i := range list {
		if begins(i) {
			within = at(i) == "set"
		}
		switch list[i].Kind {
		case statement.WordToken, statement.NameToken:
		case statement.SemicolonToken:
			a.Literal = a.Literal && i == len(list)-1
			continue
		case statement.CommaToken, statement.LiteralToken, statement.DotToken:
			continue
		default:
			a.Literal = a.Literal && (at(i) == "=" || at(i) == ":=")
			continue
		}
		word := at(i)
		if computed[word] || strings.HasPrefix(word, "@") && !strings.HasPrefix(word, "@@") || strings.HasPrefix(word, "@@global") {
			a.Literal = false
		}
		if word == "transaction" && (begins(i-1) || at(i-1) == "set") {
			a.Once = true
		}
		if next := at(i + 1); !within || next != "=" && next != ":=" {
			continue
		}
		name := strings.Trim(strings.TrimPrefix(word, "@@"), "`")
		if strings.HasPrefix(name, "@") {
			continue
		}
		scope := at(i - 1)
		if list[max(i-1, 0)].Kind == statement.DotToken {
			scope = strings.TrimPrefix(at(i-2), "@@")
		}
		switch {
		case scope == "global" || scope == "persist" || scope == "persist_only":
		case ofTransactions[name] && scope != "session" && scope != "local":
			a.Once = true
		case !reviewed[name]:
			a.Unreviewed = true
		}
	}
	return a
}

// computed are the words by which a SET does something that rests on more than the session's variables.
var computed = statement.Words("global persist persist_only default select password role resource statement character charset")

// Reviewed says whether it is known what a variable of sessions does to results.
func Reviewed(name string) bool { return reviewed[strings.ToLower(name)] }

// ofTransactions are the variables of which an assignment without a scope is for the next transaction alone. Source:
// "SET TRANSACTION Statement" in MySQL's manual.
var ofTransactions = statement.Words("tx_isolation transaction_isolation tx_read_only transaction_read_only")

// ResultSettings are the variables of a session that may change what it is answered, or whether that has warnings. Servers
// lack some of them.
var ResultSettings = strings.Fields(`
autocommit big_tables block_encryption_mode character_set_client character_set_collations character_set_connection character_set_results
collation_connection cte_max_recursion_depth default_collation_for_utf8mb4 default_regex_flags default_week_format div_precision_increment
explicit_defaults_for_timestamp group_concat_max_len innodb_snapshot_isolation lc_messages lc_time_names max_allowed_packet max_error_count max_join_size
max_recursive_iterations max_sort_length max_session_mem_used note_verbosity old old_mode optimizer_switch regexp_stack_limit regexp_time_limit sql_auto_is_null
sql_big_selects sql_buffer_result sql_mode sql_notes sql_safe_updates sql_select_limit sql_warnings standard_compliant_cte system_versioning_asof
time_zone tx_isolation transaction_isolation tx_read_only transaction_read_only updatable_views_with_limit use_secondary_engine windowing_use_high_precision
wsrep_sync_wait
`)

// Variables are those of ResultSettings that are about more than the session's transactions.
var Variables = slices.DeleteFunc(slices.Clone(ResultSettings), func(name string) bool { return ofTransactions[name] })

// reviewed are the variables of sessions that are among these, or change nothing of what is answered: how fast it comes,
// what is written to logs, how tables are made, who waits how long. Not among them are those that stand for the present
// moment, or for what a function gives next. Source: "Server System Variables" of MariaDB's manual.
var reviewed = statement.Words(strings.Join(ResultSettings, " ") + `
alter_algorithm analyze_max_length analyze_sample_percentage aria_repair_threads aria_sort_buffer_size aria_stats_method auto_increment_increment auto_increment_offset
binlog_alter_two_phase binlog_annotate_row_events binlog_direct_non_transactional_updates binlog_format binlog_row_image binlog_row_metadata
binlog_row_value_options binlog_rows_query_log_events bulk_insert_buffer_size character_set_database character_set_filesystem character_set_server check_constraint_checks
collation_database collation_server column_compression_threshold column_compression_zlib_level column_compression_zlib_strategy column_compression_zlib_wrap
completion_type connection_memory_chunk_size deadlock_search_depth_long deadlock_search_depth_short deadlock_timeout_long deadlock_timeout_short default_master_connection
default_storage_engine default_tmp_storage_engine enforce_storage_engine eq_range_index_dive_limit expensive_subquery_limit foreign_key_checks
gtid_domain_id gtid_seq_no generated_random_password_length global_connection_memory_tracking histogram_generation_max_mem_size histogram_size histogram_type
idle_readonly_transaction_timeout idle_transaction_timeout idle_write_transaction_timeout in_predicate_conversion_threshold information_schema_stats_expiry
innodb_compression_default innodb_default_encryption_key_id innodb_ft_enable_stopword innodb_ft_user_stopword_table innodb_ddl_buffer_size innodb_ddl_threads innodb_lock_wait_timeout innodb_parallel_read_threads innodb_strict_mode
innodb_table_locks innodb_tmpdir interactive_timeout join_buffer_size join_buffer_space_limit join_cache_level keep_files_on_create
lock_wait_timeout log_disabled_statements log_queries_not_using_indexes log_slow_admin_statements log_slow_disabled_statements log_slow_filter
log_slow_max_warnings log_slow_min_examined_row_limit log_slow_query log_slow_query_time log_slow_rate_limit log_slow_slave_statements
log_slow_verbosity log_warnings long_query_time low_priority_updates max_delayed_threads max_execution_time max_heap_table_size max_insert_delayed_threads
max_length_for_sort_data max_points_in_geometry max_relay_log_size max_rowid_filter_size max_seeks_for_key max_sp_recursion_depth max_statement_time
max_tmp_tables max_user_connections min_examined_row_limit mrr_buffer_size myisam_repair_threads myisam_sort_buffer_size myisam_stats_method
net_buffer_length net_read_timeout net_retry_count net_write_timeout offline_mode old_alter_table old_passwords
optimizer_adjust_secondary_key_costs optimizer_extra_pruning_depth optimizer_join_limit_pref_ratio optimizer_max_sel_arg_weight
optimizer_max_sel_args optimizer_prune_level optimizer_search_depth optimizer_selectivity_sampling_limit optimizer_trace optimizer_trace_features
optimizer_trace_limit optimizer_trace_max_mem_size optimizer_trace_offset optimizer_use_condition_selectivity parser_max_mem_size preload_buffer_size print_identified_with_as_hex
profiling profiling_history_size progress_report_time pseudo_replica_mode pseudo_slave_mode query_alloc_block_size
query_cache_strip_comments query_cache_type query_cache_wlock_invalidate query_prealloc_size range_alloc_block_size range_optimizer_max_mem_size
read_buffer_size read_rnd_buffer_size require_row_format resultset_metadata rowid_merge_buff_size select_into_buffer_size select_into_disk_sync select_into_disk_sync_delay
server_id session_track_gtids session_track_schema session_track_state_change session_track_system_variables session_track_transaction_info
set_operations_buffer_size show_create_table_skip_secondary_engine show_create_table_verbosity show_gipk_in_create_table_and_information_schema skip_parallel_replication
skip_replication slow_query_log sort_buffer_size sql_generate_invisible_primary_key sql_if_exists sql_log_bin sql_log_off sql_quote_show_create
sql_require_primary_key sql_slave_skip_counter storage_engine system_versioning_alter_history system_versioning_insert_history
tcp_nodelay terminology_use_previous thread_pool_high_priority_connection thread_pool_priority tmp_disk_table_size tmp_memory_table_size tmp_table_size
transaction_alloc_block_size transaction_allow_batching transaction_prealloc_size unique_checks use_stat_tables wait_timeout
wsrep_causal_reads wsrep_dirty_reads wsrep_gtid_seq_no wsrep_on wsrep_osu_method wsrep_retry_autocommit wsrep_trx_fragment_size wsrep_trx_fragment_unit xa_detach_on_prepare
`)
