package postgres

import (
	"strings"

	"jollylarder/internal/core/reason"
	"jollylarder/internal/core/statement"
)

// The functions of pg_catalog, judged by name. A name stands in a list only if that holds for every overload of it.
// Source: provolatile in the server's pg_proc, reviewed one by one; a name in no list may do anything.

// steady functions give equal results for equal arguments while the tables and the settings in the key are the same.
var steady = statement.Words(`
abs pg_size_pretty pg_client_encoding getdatabaseencoding acos acosd acosh area array_agg array_dims array_fill array_length array_lower array_ndims array_position
array_positions array_prepend array_append array_cat array_remove array_replace array_to_json array_to_string array_upper
ascii asin asind asinh atan atan2 atan2d atand atanh avg bit_and bit_count bit_length bit_or bit_xor bool_and bool_or
bound_box box btrim cardinality cbrt ceil ceiling center char_length character_length chr circle coalesce concat
concat_ws convert convert_from convert_to corr cos cosd cosh cot cotd count covar_pop covar_samp cume_dist
current_catalog current_database current_schema current_user date_bin date_part date_trunc daterange decode degrees
dense_rank diagonal diameter div encode enum_first enum_last enum_range erf erfc every exp extract factorial family
first_value floor format gcd generate_series generate_subscripts get_bit get_byte greatest height host hostmask initcap
int4range int8range isclosed isempty isfinite isopen json_agg json_array_elements json_array_elements_text
json_array_length json_build_array json_build_object json_each json_each_text json_extract_path json_extract_path_text
json_object json_object_agg json_object_keys json_strip_nulls json_typeof jsonb_agg jsonb_array_elements
jsonb_array_elements_text jsonb_array_length jsonb_build_array jsonb_build_object jsonb_each jsonb_each_text
jsonb_extract_path jsonb_extract_path_text jsonb_insert jsonb_object jsonb_object_agg jsonb_object_keys
jsonb_path_exists jsonb_path_match jsonb_path_query jsonb_path_query_array jsonb_path_query_first jsonb_pretty jsonb_set
jsonb_set_lax jsonb_strip_nulls jsonb_typeof justify_days justify_hours justify_interval lag last_value lcm lead least
left length ln log log10 lower lower_inc lower_inf lpad ltrim make_date make_interval make_time make_timestamp
make_timestamptz masklen max md5 min min_scale mod mode netmask network normalize npoints nth_value ntile nullif
num_nonnulls num_nulls numnode numrange octet_length overlay parse_ident pclose percent_rank percentile_cont
percentile_disc phraseto_tsquery pi plainto_tsquery point polygon popen position pow power querytree quote_ident
quote_literal quote_nullable radians radius range_agg range_intersect_agg range_merge rank regexp_count regexp_instr
regexp_like regexp_match regexp_matches regexp_replace regexp_split_to_array regexp_split_to_table regexp_substr
regr_avgx regr_avgy regr_count regr_intercept regr_r2 regr_slope regr_sxx regr_sxy regr_syy repeat replace reverse right
round row_number row_to_json rpad rtrim scale session_user set_bit set_byte set_masklen setweight sha224 sha256 sha384
sha512 sign similar_escape similar_to_escape like_escape sin sind sinh slope split_part sqrt starts_with stddev stddev_pop stddev_samp string_agg string_to_array
string_to_table strip strpos substr substring sum tan tand tanh to_ascii to_char to_date to_hex to_json to_jsonb
to_number to_timestamp to_tsquery to_tsvector translate trim_array trim_scale trunc ts_headline ts_rank ts_rank_cd
tsrange tstzrange unnest upper upper_inc upper_inf var_pop var_samp variance version websearch_to_tsquery width
width_bucket
`)

// timed functions change with the time of the call and do nothing else.
var timed = statement.Words(`
now clock_timestamp current_date current_time current_timestamp localtime localtimestamp statement_timestamp
transaction_timestamp timeofday
`)

// harmless functions are not kept, for the reason given, but write to no table and change no setting.
var harmless = map[string]reason.Code{}

func init() {
	for why, names := range map[reason.Code]string{
		reason.AnotherAtEveryCall:  "random gen_random_uuid random_normal setseed",
		reason.UsesSequence:        "nextval currval lastval setval",
		reason.NamesConnection:     "pg_backend_pid inet_client_addr inet_client_port inet_server_addr inet_server_port txid_current txid_current_if_assigned txid_current_snapshot pg_current_xact_id pg_current_xact_id_if_assigned pg_current_snapshot current_query pg_my_temp_schema pg_is_other_temp_schema pg_trigger_depth",
		reason.WaitsOrLocks:        "pg_sleep pg_sleep_for pg_sleep_until pg_notify pg_listening_channels pg_blocking_pids",
		reason.ReadsSetting:        "current_setting",
		reason.EndsConnection:      "pg_cancel_backend pg_terminate_backend",
		reason.ReportsActivity:     "pg_is_in_recovery pg_postmaster_start_time pg_conf_load_time pg_database_size pg_relation_size pg_table_size pg_indexes_size pg_total_relation_size pg_tablespace_size pg_current_wal_lsn pg_last_wal_replay_lsn pg_last_wal_receive_lsn pg_lock_status pg_control_checkpoint pg_control_system pg_control_init pg_control_recovery pg_get_backend_memory_contexts pg_get_shmem_allocations pg_notification_queue_usage pg_jit_available pg_isolation_test_session_is_blocked pg_is_wal_replay_paused pg_get_wal_replay_pause_state pg_last_xact_replay_timestamp pg_stat_have_stats pg_current_wal_flush_lsn pg_current_wal_insert_lsn pg_show_replication_origin_status",
		reason.LargeObject:         "lo_creat lo_create lo_from_bytea lo_get lo_import lo_lseek lo_lseek64 lo_open lo_close lo_put lo_tell lo_tell64 lo_truncate lo_truncate64 lo_unlink loread lowrite",
		reason.TellsOfTransactions: "txid_status pg_xact_status pg_xact_commit_timestamp pg_xact_commit_timestamp_origin pg_last_committed_xact pg_prepared_xact pg_safe_snapshot_blocking_pids pg_export_snapshot",
		reason.ResetsCounters:      "pg_stat_reset pg_stat_reset_shared pg_stat_reset_single_table_counters pg_stat_reset_single_function_counters pg_stat_reset_slru pg_stat_reset_replication_slot pg_stat_reset_subscription_stats pg_stat_clear_snapshot pg_stat_force_next_flush pg_rotate_logfile pg_log_backend_memory_contexts",
		reason.ReadsDefinitions:    "pg_partition_tree pg_partition_ancestors pg_sequence_last_value pg_collation_actual_version pg_database_collation_actual_version",
		reason.Maintains:           "brin_summarize_range brin_summarize_new_values brin_desummarize_range gin_clean_pending_list pg_switch_wal pg_create_restore_point pg_backup_start pg_backup_stop",
		reason.ReadsFiles:          "pg_read_file pg_read_binary_file pg_stat_file pg_ls_dir pg_ls_logdir pg_ls_waldir pg_ls_tmpdir pg_ls_archive_statusdir pg_current_logfile pg_show_all_file_settings pg_hba_file_rules pg_ident_file_mappings",
		reason.DependsOnToday:      "age",
		reason.ReadsAsToday:        "date time timestamp timestamptz timetz timezone json_to_record json_to_recordset jsonb_to_record jsonb_to_recordset json_populate_record json_populate_recordset jsonb_populate_record jsonb_populate_recordset",
	} {
		for _, n := range strings.Fields(names) {
			harmless[n] = why
		}
	}
}

// catalogued functions read the system catalogs and nothing else, beside the settings in the key: what they give
// changes with a definition only.
var catalogued = statement.Words(`
format_type obj_description col_description shobj_description pg_encoding_to_char pg_char_to_encoding pg_typeof pg_has_role row_security_active
pg_relation_is_updatable pg_column_is_updatable pg_collation_for oidvectortypes pg_function_is_visible
pg_get_viewdef pg_get_ruledef pg_get_triggerdef pg_get_indexdef pg_get_constraintdef pg_get_partkeydef pg_get_expr
pg_get_userbyid pg_get_functiondef pg_get_function_arguments pg_get_function_identity_arguments pg_get_function_result
pg_get_function_sqlbody pg_get_serial_sequence pg_get_keywords pg_get_partition_constraintdef pg_get_statisticsobjdef
pg_index_column_has_property pg_index_has_property pg_indexam_has_property pg_options_to_table pg_describe_object
pg_identify_object pg_get_object_address to_regclass to_regcollation to_regnamespace to_regoper to_regoperator
to_regproc to_regprocedure to_regrole to_regtype current_schemas aclexplode acldefault

`)

// readsCatalog says whether a function is one of those.
func readsCatalog(name string) bool {
	return catalogued[name] || strings.HasPrefix(name, "has_") && strings.HasSuffix(name, "_privilege") ||
		strings.HasPrefix(name, "pg_") && strings.HasSuffix(name, "_is_visible")
}

// catalogTypes are written and read by names in the system catalogs.
var catalogTypes = statement.Words(`regclass regtype regproc regprocedure regnamespace regrole regoper regoperator regconfig
regdictionary regcollation`)

// harmlessPrefixes are families of which every member is harmless.
var harmlessPrefixes = []struct {
	prefix string
	why    reason.Code
}{
	{"pg_advisory_", reason.WaitsOrLocks},
	{"pg_try_advisory_", reason.WaitsOrLocks},
	{"pg_stat_get_", reason.ReportsActivity},
}

// harmlessReason says why the result of a harmless function is not kept, or None if the function is not one.
func harmlessReason(name string) reason.Code {
	if r, ok := harmless[name]; ok {
		return r
	}
	for _, p := range harmlessPrefixes {
		if strings.HasPrefix(name, p.prefix) {
			return p.why
		}
	}
	return reason.None
}

// steadyTypes are the types to which any value may be cast: their input depends on nothing but the value and the key.
var steadyTypes = statement.Words(`
bool int2 int4 int8 float4 float8 numeric text varchar bpchar char bytea uuid json jsonb inet cidr macaddr macaddr8
bit varbit interval oid name tid point line lseg box path polygon circle int4range int8range numrange tsvector tsquery int2vector oidvector jsonpath
`)

// dateTypes read a few words as the time of the call, so only constants (whose bytes are looked at) and values that
// are dates already may be cast to them.
var dateTypes = statement.Words(`date timestamp timestamptz time daterange tsrange tstzrange`)

// dateFunctions give a date or time, whatever their arguments are.
var dateFunctions = statement.Words(`date_trunc date_bin make_date make_timestamp make_timestamptz to_timestamp to_date`)
