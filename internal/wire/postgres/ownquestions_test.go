package postgres_test

import (
	"fmt"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	wire "jollylarder/internal/wire/postgres"
)

// What the larder asks over clients' connections runs with their privileges, and with their search path. Whoever may make
// operators and functions there must not have his called in its place: neither by the same name for types that the server's
// own do not match exactly, nor in any other way.
func TestTheLardersOwnQuestionsCallNothingOfUsers(t *testing.T) {
	l := newLarder(t, quay, quays)
	c := connect(t, l.direct, pgx.QueryExecModeSimpleProtocol)
	_, err := c.Exec(ctx, `
create function public.theirs() returns text language plpgsql as $$ begin raise exception 'a function of a user was called'; end $$;
do $do$
declare types text[] := array['oid', 'int2', 'int4', 'int8', 'pg_catalog."char"', 'text', 'name', 'regtype', 'regproc', 'oidvector', 'int2vector', 'oid[]', 'int2[]', 'aclitem[]', 'xid', 'jsonb'];
  a text; b text; o text; n int := 0; result text;
begin
  foreach a in array types loop foreach b in array types loop
    foreach o in array array['=', '<>', '<', '>', '<=', '>=', '||', '~~', '!~~', '->>', '@>'] loop
      if exists (select from pg_operator where oprname = o and oprleft = (a::regtype)::oid and oprright = (b::regtype)::oid) then continue; end if;
      n := n + 1;
      result := case when o in ('||', '->>', '->') then 'text' when o in ('+', '-', '*', '/', '%', '&', '|') then 'int4' else 'bool' end;
      begin
        execute format('create function public.op%s(%s, %s) returns %s language plpgsql as $$ begin raise exception ''an operator of a user was called: %s''; end $$', n, a, b, result, a || ' ' || replace(o, '%', '%%') || ' ' || b);
        execute format('create operator public.%s (leftarg = %s, rightarg = %s, function = public.op%s)', o, a, b, n);
      exception when others then null;
      end;
    end loop;
  end loop;
    foreach o in array array['lower', 'upper', 'max', 'min', 'count', 'length', 'coalesce', 'string_agg', 'array_agg', 'unnest', 'split_part', 'concat', 'concat_ws', 'chr', 'replace', 'strpos', 'position',
        'substr', 'substring', 'format', 'quote_ident', 'current_schemas', 'current_setting', 'array_to_string', 'pg_get_expr', 'pg_get_functiondef', 'regexp_replace', 'left', 'right', 'abs', 'extract', 'date_part',
        'has_table_privilege', 'row_number', 'md5', 'hashtext', 'sum', 'bool_or', 'bool_and', 'every', 'array_length', 'cardinality', 'trim', 'btrim', 'array_position', 'generate_series', 'generate_subscripts'] loop
      begin
        if not exists (select from pg_proc p where p.proname = o and p.pronamespace = 11::oid and p.proargtypes::text = (a::regtype::oid)::text) then
          execute format('create function public.%I(%s) returns text language plpgsql as $$ begin raise exception ''a function of a user was called: %s(%s)''; end $$', o, a, o, a);
        end if;
      exception when others then null;
      end;
    end loop;
  end loop;
end $do$`)
	require.NoError(t, err)
	assert.NotEqual(t, "0", one(t, c, "select count(*) from pg_operator where oprnamespace = ('public'::regnamespace)::oid"))
	for _, path := range []string{"public", "public, pg_temp", `"$user", public`} {
		_, err := c.Exec(ctx, "set search_path to "+path)
		require.NoError(t, err)
		for name, sql := range wire.Questions {
			_, err := c.Exec(ctx, sql)
			assert.NoError(t, err, fmt.Sprintf("%s with the path %s", name, path))
		}
	}
}
