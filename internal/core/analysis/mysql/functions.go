package mysql

import (
	"strings"

	"jollylarder/internal/core/analysis"
	"jollylarder/internal/core/reason"
	"jollylarder/internal/core/statement"
)

// The server's own functions, judged by name: a server that has one takes it, and no function of a database's, where no
// schema is named. Source: "Built-in Functions" in MariaDB's manual, and "Functions and Operators" in MySQL's; a name in no list is
// a function of the database's own, which may do anything.

// steady functions give equal results for equal arguments while the tables and the settings in the key are the same.
var steady = statement.Words(`
abs acos adddate addtime ascii asin atan atan2 avg benchmark bin bin_to_uuid bit_and bit_count bit_length bit_or
bit_xor cast ceil ceiling char char_length character_length charset chr coalesce coercibility collation column_add column_check
column_create column_delete column_exists column_get column_json column_list compress concat concat_ws conv convert convert_tz cos cot
count crc32 crc32c cume_dist date_add date_format date_sub datediff day dayname dayofmonth dayofweek dayofyear
decode decode_oracle degrees dense_rank elt encode exp export_set extractvalue field find_in_set
first_value floor format from_base64 from_days from_unixtime geometrycollection greatest group_concat hex hour if ifnull inet6_aton inet6_ntoa inet_aton inet_ntoa
insert_func instr interval is_ipv4 is_ipv4_compat is_ipv4_mapped is_ipv6 is_uuid isnull json_array json_array_append json_array_insert json_array_intersect
json_arrayagg json_compact json_contains json_contains_path json_depth json_detailed json_equals json_exists json_extract
json_insert json_keys json_length json_loose json_memberof json_merge json_merge_patch json_merge_preserve json_normalize json_object json_object_filter_keys json_object_to_array json_objectagg
json_overlaps json_pretty json_query json_quote json_remove json_replace json_search json_set json_storage_size json_type json_unquote
json_valid json_value kdf lag last_day last_value lcase lead least left length lengthb ln locate log log10 log2 lower lpad
ltrim make_set makedate max md5 median microsecond mid min minute mod month monthname natural_sort_key nth_value ntile nullif nvl
nvl2 oct octet_length ord percent_rank percentile_cont percentile_disc period_add period_diff
pi position pow power quarter quote radians rank regexp_instr regexp_like regexp_replace regexp_substr repeat replace replace_oracle reverse right
round row_number rpad rtrim second sformat sha sha1 sha2 sign sin soundex space sqrt std stddev stddev_pop stddev_samp str_to_date strcmp
subdate substr substring substring_index subtime sum tan time_format time_to_sec timestampadd timestampdiff
to_base64 to_char to_days to_seconds trim trim_oracle truncate ucase uncompress uncompressed_length unhex updatexml upper uuid_to_bin
var_pop var_samp variance version week weekday weekofyear weight_string year yearweek
area asbinary astext aswkb aswkt boundary buffer centroid contains convexhull crosses dimension disjoint distance endpoint envelope equals exteriorring
geomcollfromtext geomfromtext geomfromwkb geometryn geometrytype glength interiorringn intersects isclosed isempty isring issimple linefromtext linefromwkb linestring
multilinestring multipoint multipolygon numgeometries numinteriorrings numpoints overlaps point pointn pointonsurface polygon srid startpoint touches within x y
st_area st_asbinary st_asgeojson st_astext st_aswkb st_aswkt st_boundary st_buffer st_centroid st_collect st_contains st_convexhull st_crosses st_difference
st_dimension st_disjoint st_distance st_distance_sphere st_endpoint st_envelope st_equals st_exteriorring st_geohash st_geometryfromtext st_geometryn st_geometrytype
st_geomfromgeojson st_geomfromtext st_geomfromwkb st_interiorringn st_intersection st_intersects st_isclosed st_isempty st_isring st_issimple st_isvalid st_latitude st_length
st_linefromtext st_longitude st_numgeometries st_numinteriorrings st_numpoints st_overlaps st_pointfromgeohash st_pointfromtext st_pointn st_pointonsurface st_polyfromtext
st_simplify st_srid st_startpoint st_swapxy st_symdifference st_touches st_transform st_union st_validate st_within st_x st_y
mbrcontains mbrcoveredby mbrcovers mbrdisjoint mbrequal mbrequals mbrintersects mbroverlaps mbrtouches mbrwithin
database schema schemas get_format any_value grouping isoweek json_schema_valid json_storage_free extract date timestamp add_months name_const
concat_operator_oracle lpad_oracle ltrim_oracle rpad_oracle rtrim_oracle substr_oracle decode_histogram
`)

// timed functions change with the time of the call and do nothing else.
var timed = statement.Words(`
now curdate curtime current_date current_time current_timestamp localtime localtimestamp sysdate unix_timestamp utc_date utc_time
utc_timestamp
`)

// dateless functions give a time without a date, which is read as one of today wherever a date is wanted.
var dateless = statement.Words(`maketime sec_to_time time timediff`)

// unordered are the aggregates whose result rests on the order of what they are given.
var unordered = statement.Words(`group_concat json_arrayagg json_objectagg any_value`)

// aggregates are those that the grammar knows and servers have.
var aggregates = statement.Words(`
avg bit_and bit_or bit_xor count group_concat json_arrayagg json_objectagg max min std stddev stddev_pop stddev_samp sum var_pop var_samp variance
`)

// harmless functions are not cached, for the reason given, but write to no table and change no setting.
var harmless = map[string]reason.Code{}

func init() {
	for why, names := range map[reason.Code]string{
		reason.AnotherAtEveryCall: "encrypt rand random_bytes sys_guid uuid uuid_short uuid_v4 uuid_v7",
		reason.UsesSequence:       "lastval nextval setval",
		reason.NamesConnection:    "binlog_gtid_pos connection_id ps_current_thread_id ps_thread_id rownum trt_begin_ts trt_commit_id trt_commit_ts trt_iso_level trt_trx_id trt_trx_sees trt_trx_sees_eq",
		reason.WaitsOrLocks:       "get_lock is_free_lock is_used_lock master_gtid_wait master_pos_wait release_all_locks release_lock sleep source_pos_wait wait_for_executed_gtid_set wait_until_sql_thread_after_gtids wsrep_sync_wait_upto_gtid",
		reason.AsksOfEarlier:      "found_rows last_insert_id row_count",
		reason.ReadsFiles:         "des_decrypt des_encrypt load_file",
		reason.ReportsActivity:    "format_bytes format_pico_time gtid_subset gtid_subtract wsrep_last_seen_gtid wsrep_last_written_gtid",
		reason.ReadsSetting:       "aes_decrypt aes_encrypt icu_version old_password password roles_graphml validate_password_strength",
	} {
		for n := range strings.FieldsSeq(names) {
			harmless[n] = why
		}
	}
}

// call judges a function by its name.
func (r *reader) call(n analysis.Name) {
	lower := strings.ToLower(n.Name)
	why := func(c reason.Code) { r.f.AddReason(reason.Of(c).Behind(reason.Way("").Calls().Within(lower))) }
	switch {
	case n.Schema != "":
		r.own(n)
		return
	case clauses[lower]:
		return
	case steady[lower]:
		r.f.AnyRows = r.f.AnyRows || unordered[lower]
	case timed[lower]:
		why(reason.ChangesWithTime)
	case dateless[lower]:
		why(reason.DependsOnToday)
	case namesUser[lower]:
		r.f.NamesUser = true
	case harmless[lower] != reason.None:
		why(harmless[lower])
	default:
		r.own(n)
		return
	}
	// Another kind or version of server may not have it, and then it is the database's own.
	r.AddText(&r.f.BuiltIns, lower)
}

// clauses are words before a bracket that call nothing, where the grammar does not have the statement.
var clauses = statement.Words(`columns group json_table nested over within`)

var namesUser = statement.Words(`current_role current_user session_user system_user user`)

// own notes a function of the database's own, or one that was not reviewed.
func (r *reader) own(n analysis.Name) {
	r.f.AnyRows = true // it may be an aggregate
	r.AddName(&r.f.Functions, n)
}

// System says whether a schema is one of the server's own.
func System(schema string) bool {
	switch strings.ToLower(schema) {
	case "information_schema", "mysql", "performance_schema", "sys":
		return true
	}
	return false
}
