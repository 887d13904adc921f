package postgres_test

import (
	"slices"
	"strings"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	facts "jollylarder/internal/core/analysis/postgres"
	wire "jollylarder/internal/wire/postgres"
)

// What was reviewed by hand is held here against the server that the tests run on: one of a version that has more makes them fail, until that is
// reviewed as well.

// otherSettings can be changed in a session and are in no key: they decide how a query is planned and run, what is logged, how long anything may take,
// how errors are told, or how what is written is stored; or what they decide makes a statement pass (current_setting, large objects).
const otherSettings = `
allow_in_place_tablespaces allow_system_table_mods application_name backend_flush_after backtrace_functions check_function_bodies client_connection_check_interval commit_delay commit_siblings compute_query_id
constraint_exclusion cpu_index_tuple_cost cpu_operator_cost cpu_tuple_cost cursor_tuple_fraction deadlock_timeout debug_discard_caches debug_pretty_print debug_print_parse debug_print_plan debug_print_rewritten
default_statistics_target default_table_access_method default_tablespace default_toast_compression default_transaction_deferrable default_transaction_isolation default_transaction_read_only dynamic_library_path
effective_cache_size effective_io_concurrency enable_async_append enable_bitmapscan enable_gathermerge enable_hashagg enable_hashjoin enable_incremental_sort enable_indexonlyscan enable_indexscan enable_material
enable_memoize enable_mergejoin enable_nestloop enable_parallel_append enable_parallel_hash enable_partition_pruning enable_partitionwise_aggregate enable_partitionwise_join enable_seqscan enable_sort enable_tidscan
escape_string_warning exit_on_error extension_destdir force_parallel_mode from_collapse_limit geqo geqo_effort geqo_generations geqo_pool_size geqo_seed geqo_selection_bias geqo_threshold gin_pending_list_limit
hash_mem_multiplier idle_in_transaction_session_timeout idle_session_timeout ignore_checksum_failure jit jit_above_cost jit_dump_bitcode jit_expressions jit_inline_above_cost jit_optimize_above_cost
jit_tuple_deforming join_collapse_limit lc_messages lo_compat_privileges local_preload_libraries lock_timeout log_duration log_error_verbosity log_executor_stats log_lock_waits log_min_duration_sample
log_min_duration_statement log_min_error_statement log_min_messages log_parameter_max_length log_parameter_max_length_on_error log_parser_stats log_planner_stats log_replication_commands log_statement
log_statement_sample_rate log_statement_stats log_temp_files log_transaction_sample_rate logical_decoding_work_mem maintenance_io_concurrency maintenance_work_mem max_parallel_maintenance_workers
max_parallel_workers max_parallel_workers_per_gather max_stack_depth min_parallel_index_scan_size min_parallel_table_scan_size output_plugin_libraries parallel_leader_participation parallel_setup_cost parallel_tuple_cost
password_encryption plan_cache_mode random_page_cost recursive_worktable_factor seq_page_cost session_preload_libraries standard_conforming_strings statement_timeout stats_fetch_consistency synchronize_seqscans
synchronous_commit tcp_keepalives_count tcp_keepalives_idle tcp_keepalives_interval tcp_user_timeout temp_buffers temp_file_limit temp_tablespaces trace_notify trace_sort track_activities track_counts
track_functions track_io_timing track_wal_io_timing transaction_deferrable transaction_isolation transaction_read_only update_process_title vacuum_cost_delay vacuum_cost_limit vacuum_cost_page_dirty
vacuum_cost_page_hit vacuum_cost_page_miss vacuum_failsafe_age vacuum_freeze_min_age vacuum_freeze_table_age vacuum_multixact_failsafe_age vacuum_multixact_freeze_min_age vacuum_multixact_freeze_table_age
wal_compression wal_consistency_checking wal_init_zero wal_recycle wal_sender_timeout wal_skip_threshold work_mem zero_damaged_pages
`

// Every setting that a session may change is in the key, or was reviewed.
func TestEverySettingIsReviewed(t *testing.T) {
	if server == nil {
		t.Skip("no PostgreSQL here")
	}
	c := connect(t, server.URL("postgres", "postgres"), pgx.QueryExecModeSimpleProtocol)
	inKey := func(name string) bool {
		return slices.ContainsFunc(wire.SettingNames, func(s string) bool { return strings.EqualFold(s, name) })
	}
	for name := range strings.FieldsSeq(text(t, c, "select string_agg(name, ' ') from pg_settings where context in ('user', 'superuser') and name not like '%.%'")) {
		name = strings.TrimSuffix(name, "|")
		assert.True(t, inKey(name) != slices.Contains(strings.Fields(otherSettings), name), "%s is either in the key or reviewed", name)
	}
}

// stableAndKept are the server's functions that are stable, which may rest on settings and catalogs, and whose results are kept: each by the settings in
// the key, or by the definitions, which all clocks follow.
const stableAndKept = `
array_to_json array_to_string concat concat_ws convert convert_from convert_to current_database current_schema current_user date_part date_trunc enum_first enum_last enum_range
extract format generate_series getdatabaseencoding json_build_array json_build_object jsonb_build_array jsonb_build_object length make_timestamptz pg_client_encoding pg_size_pretty
phraseto_tsquery plainto_tsquery quote_literal quote_nullable row_to_json session_user to_char to_date to_json to_jsonb to_number to_timestamp to_tsquery to_tsvector ts_headline version websearch_to_tsquery
`

// The stable functions whose results are kept are those that were reviewed.
func TestStableFunctionsThatAreKept(t *testing.T) {
	l, schema := hidden(t)
	c := connect(t, l.direct, pgx.QueryExecModeSimpleProtocol)
	rows, err := c.Query(ctx, `select p.proname from pg_proc p join pg_namespace n on n.oid = p.pronamespace where n.nspname = 'pg_catalog' and p.prokind = 'f'
		group by p.proname having max(p.provolatile::text) = 's' order by 1`)
	require.NoError(t, err)
	names, err := pgx.CollectRows(rows, pgx.RowTo[string])
	require.NoError(t, err)
	var kept []string
	for _, name := range names {
		if r := schema.Resolve(facts.Facts(`select pg_catalog."`+name+`"()`), publicPath); len(r.Reasons) == 0 && !r.System {
			kept = append(kept, name)
		}
	}
	assert.Greater(t, len(kept), 30)
	reviewed := strings.Fields(stableAndKept)
	for _, name := range kept {
		assert.Contains(t, reviewed, name, "it is kept, and was not reviewed")
	}
}
