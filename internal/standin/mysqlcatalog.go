package standin

import (
	"database/sql/driver"
	"fmt"
	"strings"

	"modernc.org/sqlite"
)

// A function of MySQL's that the larder's questions for the schema use, and that SQLite has not.
func init() {
	sqlite.MustRegisterDeterministicScalarFunction("lpad", 3, func(_ *sqlite.FunctionContext, args []driver.Value) (driver.Value, error) {
		size, _ := args[1].(int64)
		text, fill := fmt.Sprint(args[0]), fmt.Sprint(args[2])
		return strings.Repeat(fill, max(int(size)-len(text), 0)) + text, nil
	})
}

// mysqlTables are as much of MySQL's information_schema as tells which tables there are and what hangs on them. Whoever asks
// sees all of it.
const mysqlTables = `
create view information_schema_tables as
  select '{database}' as table_schema, name as table_name, case type when 'view' then 'VIEW' else 'BASE TABLE' end as table_type, 'InnoDB' as engine
  from sqlite_master where type in ('table', 'view') and name not like 'sqlite_%' and name not like 'information_schema_%' and name <> 'mysql_func';
create view information_schema_columns as
  select t.table_schema, t.table_name, x.name as column_name, case when lower(x.type) like 'int%' then 'int' else lower(x.type) end as column_type,
         case when lower(x.type) like '%char%' then 'utf8mb4_bin' end as collation_name, '' as extra, '' as generation_expression,
         case when x.type like '%(%' then cast(substr(x.type, instr(x.type, '(') + 1) as int) end as character_maximum_length
  from information_schema_tables t, pragma_table_xinfo(t.table_name) x where t.table_type = 'BASE TABLE';
create view information_schema_statistics as
  select t.table_schema, t.table_name, i.name as index_name, c.name as column_name, c.seqno + 1 as seq_in_index, null as sub_part, 1 - i."unique" as non_unique
  from information_schema_tables t, pragma_index_list(t.table_name) i, pragma_index_info(i.name) c where t.table_type = 'BASE TABLE'
  union all
  select t.table_schema, t.table_name, 'PRIMARY', x.name, x.pk, null, 0
  from information_schema_tables t, pragma_table_xinfo(t.table_name) x where t.table_type = 'BASE TABLE' and x.pk > 0;
create view information_schema_views as
  select '{database}' as table_schema, name as table_name, substr(sql, instr(lower(sql), ' as ') + 4) as view_definition
  from sqlite_master where type = 'view' and name not like 'information_schema_%';
create view information_schema_key_column_usage as
  select t.table_schema as constraint_schema, t.table_name, 'fk' || f.id as constraint_name, f.seq + 1 as ordinal_position, coalesce(f."to", 'id') as referenced_column_name
  from information_schema_tables t, pragma_foreign_key_list(t.table_name) f where t.table_type = 'BASE TABLE';
create view information_schema_referential_constraints as
  select distinct t.table_schema as constraint_schema, t.table_name, t.table_schema as unique_constraint_schema, f."table" as referenced_table_name, 'fk' || f.id as constraint_name,
         f.on_update as update_rule, f.on_delete as delete_rule
  from information_schema_tables t, pragma_foreign_key_list(t.table_name) f where t.table_type = 'BASE TABLE';
create view information_schema_user_privileges as
  select '''anybody''@''%''' as grantee, column1 as privilege_type, 'NO' as is_grantable from (values ('SELECT'), ('SHOW VIEW'), ('TRIGGER'));
create table information_schema_triggers (event_object_schema text, event_object_table text, event_manipulation text, action_timing text, action_statement text, sql_mode text);
create table information_schema_routines (routine_schema text, routine_name text, routine_type text, routine_definition text, sql_mode text);
create table information_schema_schema_privileges (grantee text, table_schema text, privilege_type text, is_grantable text);
create table information_schema_table_privileges (grantee text, table_schema text, table_name text, privilege_type text, is_grantable text);
create table information_schema_column_privileges (grantee text, table_schema text, table_name text, column_name text, privilege_type text, is_grantable text);
create table mysql_func (name text);
`
