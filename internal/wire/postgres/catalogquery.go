package postgres

import (
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	schema "jollylarder/internal/core/catalog/postgres"
)

// A PostgreSQL server is asked for its schema in parts: rows of six text columns, as in schema.Row. The questions name
// every system table and function in full and need no privilege.
//
// They run with a client's search path and privileges, so nothing in them may be anybody's but the server's: each
// operator and function is one for which the server has an exact match, which no other can come before. Numbers are
// therefore written as texts, which take the type of what they are compared with, and names and the like are cast
// (ownquestions_test.go).
//
// The numbers are the server's fixed object ids: 1247 pg_type, 1255 pg_proc, 1259 pg_class, 2615 pg_namespace, 2604
// pg_attrdef, 2606 pg_constraint, 2618 pg_rewrite, 2620 pg_trigger, 3256 pg_policy; 1266 timetz, 1270 its array; below
// 16384 are the server's own.

// relationNames is what the questions about a range of relations begin with.
const relationNames = `with names as materialized (
  select c.oid, n.nspname as schema, c.relname as name, c.relkind as kind, c.relrowsecurity, c.relhasrules, c.relowner, c.relacl, c.relnamespace, c.reltype
  from pg_catalog.pg_class c join pg_catalog.pg_namespace n on n.oid = c.relnamespace
  where c.oid >= {from} and c.oid <= {to} and ` + relationOfInterest + `
)`

// relationOfInterest says which relations c in namespaces n are read: none of the server's own.
const relationOfInterest = `c.relkind in ('r', 'p', 'v', 'm', 'f', 'S', 'c') and c.relpersistence <> 't'
    and (n.nspname not in ('pg_catalog', 'information_schema', 'pg_toast') or c.oid >= '16384' and n.nspname <> 'pg_toast')`

// relationMark gives a text that is another after anything has changed that a part of relations is made of. What an
// index is called counts only for unique ones.
const relationMark = `pg_catalog.concat_ws(' ',
  (select pg_catalog.concat(count(*), '/', sum(xmin::text::bigint)) from pg_catalog.pg_class where oid >= {from} and oid <= {to} and relpersistence <> 't' and relkind in ('r', 'p', 'v', 'm', 'f', 'S', 'c')),
  (select pg_catalog.concat(count(*), '/', sum(xmin::text::bigint)) from pg_catalog.pg_attribute where attrelid >= {from} and attrelid <= {to} and attnum > '0'),
  (select pg_catalog.concat(count(*), '/', sum(i.xmin::text::bigint), '/', sum(case when i.indisunique then (select x.xmin::text::bigint from pg_catalog.pg_class x where x.oid = i.indexrelid) end))
   from pg_catalog.pg_index i where i.indrelid >= {from} and i.indrelid <= {to}),
  (select pg_catalog.concat(count(*), '/', sum(xmin::text::bigint)) from pg_catalog.pg_constraint where conrelid >= {from} and conrelid <= {to}),
  (select pg_catalog.concat(count(*), '/', sum(xmin::text::bigint)) from pg_catalog.pg_rewrite where ev_class >= {from} and ev_class <= {to}),
  (select pg_catalog.concat(count(*), '/', sum(xmin::text::bigint)) from pg_catalog.pg_trigger where tgrelid >= {from} and tgrelid <= {to}),
  (select pg_catalog.concat(count(*), '/', sum(xmin::text::bigint)) from pg_catalog.pg_policy where polrelid >= {from} and polrelid <= {to}),
  (select pg_catalog.concat(count(*), '/', sum(xmin::text::bigint)) from pg_catalog.pg_attrdef where adrelid >= {from} and adrelid <= {to}),
  (select pg_catalog.concat(count(*), '/', sum(xmin::text::bigint)) from pg_catalog.pg_inherits where inhparent >= {from} and inhparent <= {to}))`

// spansQuery asks where a part of relations ends that begins at a number and ends with another at the latest, and for its
// mark. What is not read does not count.
var spansQuery = `with spans as materialized (
  select count(*)::text as held, case when count(*) < {most} then {to}::oid else max(x.oid) end as upto
  from (select c.oid from pg_catalog.pg_class c join pg_catalog.pg_namespace n on n.oid = c.relnamespace
        where c.oid >= {from} and c.oid <= {to} and ` + relationOfInterest + ` order by c.oid limit {most}) x
)
select 'span'::text, ''::text, spans.held, spans.upto::text, ''::text, ` + spanMark + `
from spans`

// spanMark is relationMark for a part whose end is being worked out.
var spanMark = strings.ReplaceAll(relationMark, "{to}", "spans.upto")

// marksQuery asks for the marks of parts; {ranges} are rows of their first and last numbers.
var marksQuery = `select 'mark'::text, ''::text, ''::text, p.lo::text, ''::text, ` + strings.NewReplacer(
	"{from}",
	"p.lo",
	"{to}",
	"p.hi",
).Replace(
	relationMark,
) + `
from (values {ranges}) p (lo, hi)`

// relationsQuery asks for relations with their columns and keys. A relation's number stands where no schema does.
const relationsQuery = relationNames + `, fields as materialized (
  select a.attrelid, a.attnum, a.attname, a.atttypid, a.attcollation, a.attidentity, {generated} as generated
  from names r join pg_catalog.pg_attribute a on a.attrelid = r.oid where a.attnum > '0' and not a.attisdropped
), odd as materialized ( -- columns that a unique index compares otherwise than they are compared elsewhere
  select i.indexrelid, i.indrelid as relid, k.attnum
  from names r join pg_catalog.pg_index i on i.indrelid = r.oid and i.indisunique
  cross join lateral rows from (pg_catalog.unnest(i.indkey::int2[]), pg_catalog.unnest(i.indcollation::oid[]), pg_catalog.unnest(i.indclass::oid[])) k (attnum, coll, class)
  where k.attnum > '0' and ((select not o.opcdefault from pg_catalog.pg_opclass o where o.oid = k.class)
    or k.coll <> '0' and k.coll <> (select a.attcollation from pg_catalog.pg_attribute a where a.attrelid = i.indrelid and a.attnum = k.attnum))
)
select 'relation'::text, r.schema::text, r.name::text,
       r.kind::text || case when r.relrowsecurity then 'S' else '' end || case when r.relhasrules and r.kind <> 'v' and r.kind <> 'm' then 'U' else '' end || case when exists (select '1' from fields a where a.attrelid = r.oid and a.atttypid in ('1266', '1270')) then 'Z' else '' end,
       r.oid::text, ''::text
from names r where r.kind <> 'c'
union all
select 'type', r.schema, r.name, y.typtype::text || p.provolatile::text, '', '' -- what has fields, and is no table's
from names r join pg_catalog.pg_type y on y.oid = r.reltype join pg_catalog.pg_proc p on p.oid = y.typinput::oid where r.kind = 'c'
union all
select distinct 'typed', r.schema, r.name, '', n.nspname, t.typname
from fields a join names r on r.oid = a.attrelid
join pg_catalog.pg_type x on x.oid = a.atttypid join pg_catalog.pg_type t on t.oid = case when x.typtype = 'b' and x.typcategory = 'A' and x.typelem <> '0' then x.typelem else x.oid end
join pg_catalog.pg_namespace n on n.oid = t.typnamespace
where a.atttypid >= '16384' and t.oid >= '16384'
union all
select 'columns', r.schema, r.name, '', '', pg_catalog.string_agg(
         case when a.atttypid in ('20', '21', '23') then 'n' when a.atttypid = '2950' then 'u' when a.atttypid = '1082' then 'y'
              when a.atttypid in ('25', '1043') and {deterministic} then 't' else '' end
         || case when a.atttypid in ('1082', '1114', '1184') then 'd' when a.atttypid = '1083' then 'h' else '' end
         || case when o.attnum is not null then 'o' else '' end
         || case when a.generated <> '' then 'g' else '' end
         || case when a.attidentity <> '' then 'i' else '' end || ' ' || a.attname::text, E'\n' order by a.attnum)
from fields a join names r on r.oid = a.attrelid
left join pg_catalog.pg_collation l on l.oid = a.attcollation
left join (select distinct odd.relid, odd.attnum from odd) o on o.relid = a.attrelid and o.attnum = a.attnum
where pg_catalog.strpos(a.attname::text, E'\n') = '0' and r.kind <> 'c'
group by r.schema, r.name
union all
select 'key', r.schema, r.name, x.relname, '',
       (select pg_catalog.string_agg(a.attname, E'\n' order by a.attnum) from pg_catalog.pg_attribute a
        where a.attrelid = r.oid and a.attnum = any (i.indkey::int2[]))
from names r join pg_catalog.pg_index i on i.indrelid = r.oid join pg_catalog.pg_class x on x.oid = i.indexrelid
where i.indisunique and i.indisvalid and i.indimmediate and i.indpred is null and i.indexprs is null
  and not exists (select '1' from odd where odd.indexrelid = i.indexrelid)
union all
select 'granted', r.schema, r.name, pg_catalog.md5(pg_catalog.concat_ws(' ', r.relowner, r.relacl, r.relnamespace)), '', '' from names r where r.kind in ('r', 'p', 'v', 'm')`

// linksQuery asks for what belongs to relations or comes from them.
const linksQuery = relationNames + `, made as materialized (
  select '2618'::oid as classid, w.oid, w.ev_class as relid, case when w.rulename = '_RETURN' then 'v' else 'r' end as letter, '0'::oid as but from names r join pg_catalog.pg_rewrite w on w.ev_class = r.oid
  union all select '3256'::oid, y.oid, y.polrelid, 'p', '0' from names r join pg_catalog.pg_policy y on y.polrelid = r.oid
  union all select '2604'::oid, a.oid, a.adrelid, 'w', '0' from names r join pg_catalog.pg_attrdef a on a.adrelid = r.oid
  union all select '2606'::oid, k.oid, k.conrelid, 'w', '0' from names r join pg_catalog.pg_constraint k on k.conrelid = r.oid
  union all select '2620'::oid, t.oid, t.tgrelid, 'w', t.tgfoid from names r join pg_catalog.pg_trigger t on t.tgrelid = r.oid
  union all select '1259'::oid, i.indexrelid, i.indrelid, 'w', '0' from names r join pg_catalog.pg_index i on i.indrelid = r.oid
  union all select '1259'::oid, e.partrelid, e.partrelid, 'w', '0' from names r join pg_catalog.pg_partitioned_table e on e.partrelid = r.oid
), owners as materialized (
  select m.relid, m.letter, m.classid, d.refclassid, d.refobjid
  from made m join pg_catalog.pg_depend d on d.classid = m.classid and d.objid = m.oid
  where d.refclassid = '1255' and d.refobjid <> m.but or d.refclassid = '1259' and m.classid in ('2618', '3256')
)
select 'child'::text, p.schema::text, p.name::text, ''::text, n.nspname::text, c.relname::text
from names p join pg_catalog.pg_inherits i on i.inhparent = p.oid join pg_catalog.pg_class c on c.oid = i.inhrelid join pg_catalog.pg_namespace n on n.oid = c.relnamespace
where c.relkind in ('r', 'p', 'v', 'm', 'f', 'S') and c.relpersistence <> 't'
union all
select 'reference', n.nspname, p.relname, k.confupdtype::text || k.confdeltype::text || ' ' ||
         (select pg_catalog.string_agg(a.attname, E'\n') from pg_catalog.pg_attribute a where a.attrelid = k.confrelid and a.attnum = any (k.confkey)),
       c.schema, c.name
from names c join pg_catalog.pg_constraint k on k.conrelid = c.oid join pg_catalog.pg_class p on p.oid = k.confrelid join pg_catalog.pg_namespace n on n.oid = p.relnamespace
where k.contype = 'f'
union all
select 'trigger', r.schema, r.name, t.tgtype::text, n.nspname, p.proname
from names r join pg_catalog.pg_trigger t on t.tgrelid = r.oid join pg_catalog.pg_proc p on p.oid = t.tgfoid join pg_catalog.pg_namespace n on n.oid = p.pronamespace
where not t.tgisinternal
union all
select distinct 'part', r.schema, r.name, o.letter, n.nspname, x.relname
from owners o join names r on r.oid = o.relid join pg_catalog.pg_class x on x.oid = o.refobjid join pg_catalog.pg_namespace n on n.oid = x.relnamespace
where o.refclassid = '1259' and o.refobjid <> o.relid
union all
select distinct 'call', r.schema, r.name, o.letter, n.nspname, f.proname
from owners o join names r on r.oid = o.relid join pg_catalog.pg_proc f on f.oid = o.refobjid join pg_catalog.pg_namespace n on n.oid = f.pronamespace
where o.refclassid = '1255' and (n.nspname <> 'pg_catalog' or f.oid >= '16384')`

// textsQuery asks for queries and conditions, each with its version where no schema stands.
const textsQuery = relationNames + `
select 'view'::text, r.schema::text, r.name::text, ''::text, w.xmin::text, pg_catalog.pg_get_viewdef(r.oid) from names r join pg_catalog.pg_rewrite w on w.ev_class = r.oid and w.rulename = '_RETURN' where r.kind in ('v', 'm')
union all
select 'rule', r.schema, r.name, w.ev_type::text, w.xmin::text, pg_catalog.pg_get_ruledef(w.oid)
from names r join pg_catalog.pg_rewrite w on w.ev_class = r.oid where w.rulename <> '_RETURN'
union all
select 'policy', r.schema, r.name, '', y.xmin::text,
       coalesce(pg_catalog.pg_get_expr(y.polqual, y.polrelid), 'true') || ', ' || coalesce(pg_catalog.pg_get_expr(y.polwithcheck, y.polrelid), 'true')
from names r join pg_catalog.pg_policy y on y.polrelid = r.oid`

// readersQuery asks for the roles that may read relations, which is the same for all that have one owner, schema and
// list of privileges.
const readersQuery = relationNames + `
select 'readers'::text, ''::text, g.key, ''::text, ''::text, pg_catalog.string_agg(o.oid::text, E'\n' order by o.oid)
from (select pg_catalog.md5(pg_catalog.concat_ws(' ', r.relowner, r.relacl, r.relnamespace)) as key, min(r.oid) as oid, r.relnamespace from names r where r.kind in ('r', 'p', 'v', 'm')
      group by r.relowner, r.relacl::text, r.relacl, r.relnamespace) g cross join pg_catalog.pg_roles o
where pg_catalog.has_table_privilege(o.oid, g.oid, 'select') and pg_catalog.has_schema_privilege(o.oid, g.relnamespace, 'usage')
group by g.key`

// functionsQuery asks for functions from a number on.
const functionsQuery = `with functions as materialized (
  select p.oid, n.nspname as schema, p.proname as name, p.provolatile as volatility, g.lanname as language, p.proconfig, p.probin, p.prosrc,
         {kind} as kind,
         {parsed} as parsed
  from pg_catalog.pg_proc p join pg_catalog.pg_namespace n on n.oid = p.pronamespace
  join pg_catalog.pg_language g on g.oid = p.prolang
  where (n.nspname <> 'pg_catalog' or p.oid >= '16384') and p.oid >= {from} order by p.oid limit {most} -- those of information_schema can be followed like any other
)
select 'function'::text, f.schema::text, f.name::text,
       f.volatility::text || f.kind::text || case when f.parsed or f.proconfig::text like '%search_path=%' then 'p' else '' end, f.language::text,
       case when f.language in ('sql', 'plpgsql') and f.kind <> 'a' then pg_catalog.pg_get_functiondef(f.oid) when f.language in ('c', 'internal') then pg_catalog.concat(f.probin, ' ', f.prosrc) else '' end
from functions f
union all
select distinct 'aggregate', f.schema, f.name, '', m.nspname, q.proname
from functions f join pg_catalog.pg_aggregate g on g.aggfnoid::oid = f.oid
join pg_catalog.pg_proc q on q.oid in (g.aggtransfn::oid, g.aggfinalfn::oid, g.aggcombinefn::oid, g.aggserialfn::oid, g.aggdeserialfn::oid, g.aggmtransfn::oid, g.aggminvtransfn::oid, g.aggmfinalfn::oid) join pg_catalog.pg_namespace m on m.oid = q.pronamespace
where m.nspname <> 'pg_catalog' or q.oid >= '16384'
union all
select 'number', f.schema, f.name, f.oid::text, '', '' from functions f
union all
select 'span', '', count(*)::text, coalesce(max(f.oid)::text, '0'), '', '' from functions f`

// bareFunctions is what is needed of functions elsewhere.
const bareFunctions = `functions as materialized (
  select p.oid, n.nspname as schema, p.proname as name, p.provolatile as volatility
  from pg_catalog.pg_proc p join pg_catalog.pg_namespace n on n.oid = p.pronamespace
  where n.nspname <> 'pg_catalog' or p.oid >= '16384'
)`

// typesQuery asks for types and what is called to check their values. What has fields is among the relations.
const typesQuery = `with ` + bareFunctions + `
select distinct 'call'::text, n.nspname::text, t.typname::text, 't'::text, f.schema::text, f.name::text
from functions f join pg_catalog.pg_depend d on d.refclassid = '1255' and d.refobjid = f.oid and d.classid in ('1247', '2606')
left join pg_catalog.pg_constraint k on d.classid = '2606' and k.oid = d.objid
join pg_catalog.pg_type t on t.oid = case d.classid when '1247' then d.objid else k.contypid end join pg_catalog.pg_namespace n on n.oid = t.typnamespace
union all
select 'type', n.nspname, t.typname, t.typtype::text || coalesce(p.provolatile::text, 'v'), coalesce(m.nspname, ''), coalesce(b.typname, '')
from pg_catalog.pg_type t left join pg_catalog.pg_range g on g.rngtypid = t.oid join pg_catalog.pg_namespace n on n.oid = t.typnamespace
left join pg_catalog.pg_proc p on p.oid = t.typinput::oid
left join pg_catalog.pg_type v on v.oid = coalesce(nullif(t.typbasetype, '0'), g.rngsubtype)
left join pg_catalog.pg_type b on b.oid = case when v.typtype = 'b' and v.typcategory = 'A' and v.typelem <> '0' then v.typelem else v.oid end left join pg_catalog.pg_namespace m on m.oid = b.typnamespace
where t.oid >= '16384' and n.nspname <> 'pg_toast' and n.nspname::text !~ '^pg_(toast_)?temp_'::text
  and t.typrelid = '0' and not (t.typtype = 'b' and t.typcategory = 'A')`

// operatorsQuery asks for operators, casts and what orders values.
const operatorsQuery = `with ` + bareFunctions + `
select 'operator'::text, ''::text, o.oprname::text, f.volatility::text, f.schema::text, f.name::text
from pg_catalog.pg_operator o join functions f on f.oid = o.oprcode::oid
union all
select 'operator', '', case t.castcontext when 'e' then 'cast to ' || y.typname::text else 'cast' end, f.volatility::text, f.schema, f.name
from pg_catalog.pg_cast t join functions f on f.oid = t.castfunc join pg_catalog.pg_type y on y.oid = t.casttarget
union all
select distinct 'operator', '', '<', f.volatility::text, f.schema, f.name -- what orders values, for ORDER BY and indexes
from pg_catalog.pg_amproc t join functions f on f.oid = t.amproc::oid
union all
select 'equality', '', '', '', '', ''
where exists (select '1' from pg_catalog.pg_operator o join pg_catalog.pg_type l on l.oid = o.oprleft join pg_catalog.pg_type r on r.oid = o.oprright
              where o.oid >= '16384' and o.oprname = '='
                and (l.oid in ('20', '21', '23', '25', '705', '1043', '1082', '2950') or r.oid in ('20', '21', '23', '25', '705', '1043', '1082', '2950') or l.typtype in ('p', 'd') or r.typtype in ('p', 'd')))`

// builtInsQuery asks for what is the server's own.
const builtInsQuery = `select 'system'::text, ''::text, ''::text, ''::text, ''::text, pg_catalog.string_agg(n.nspname::text || '.' || c.relname::text, E'\n')
from pg_catalog.pg_class c join pg_catalog.pg_namespace n on n.oid = c.relnamespace
where c.oid < '16384' and n.nspname in ('pg_catalog', 'information_schema') and c.relkind in ('r', 'v')
union all
select 'builtin', '', '', '', '', pg_catalog.string_agg(b.line, E'\n')
from (select pg_catalog.max(p.provolatile::text) || ' ' || p.proname::text as line
      from pg_catalog.pg_proc p join pg_catalog.pg_namespace n on n.oid = p.pronamespace
      where n.nspname = 'pg_catalog' and p.oid < '16384' group by p.proname) b
union all
select 'numbers', '', '', '', '', pg_catalog.string_agg(p.oid::text || ' ' || p.proname::text, E'\n')
from pg_catalog.pg_proc p join pg_catalog.pg_namespace n on n.oid = p.pronamespace
where n.nspname = 'pg_catalog' and p.oid < '16384'
union all
select 'settings', '', '', '', '', pg_catalog.string_agg(s.name, E'\n')
from pg_catalog.pg_show_all_settings() s where s.context in ('user', 'superuser') and pg_catalog.strpos(s.name, '.') = '0'`

// rightsQuery asks for what holds for all of a database.
const rightsQuery = `select 'restricted'::text, ''::text, ''::text, ''::text, ''::text, ''::text
where exists (select '1' from pg_catalog.pg_proc p left join pg_catalog.pg_init_privs i on i.classoid = '1255' and i.objoid = p.oid
              where p.oid < '16384' and p.proacl::text is distinct from i.initprivs::text)
   or exists (select '1' from pg_catalog.pg_type t left join pg_catalog.pg_init_privs i on i.classoid = '1247' and i.objoid = t.oid
              where t.oid < '16384' and t.typacl::text is distinct from i.initprivs::text)
   or exists (select '1' from pg_catalog.pg_namespace n left join pg_catalog.pg_init_privs i on i.classoid = '2615' and i.objoid = n.oid
              where n.nspname = 'pg_catalog' and n.nspacl::text is distinct from i.initprivs::text)
union all
select 'reach', '', '', '', '', ''
where exists (select '1' from pg_catalog.pg_foreign_server)
union all
select 'schemas', '', '', '', '', pg_catalog.string_agg(n.nspname::text || ' ' || coalesce(n.nspacl::text, ''), E'\n' order by n.oid)
from pg_catalog.pg_namespace n where n.nspname::text !~ '^pg_(toast_)?temp_'::text
union all
select 'event', '', '', '', '', e.evtname from pg_catalog.pg_event_trigger e where e.evtenabled <> 'D'`

// restMarks give a text each that is another after anything has changed that is about no range of relations.
var restMarks = map[schema.Kind]string{
	schema.Functions: `pg_catalog.concat_ws(' ',
  (select pg_catalog.concat(count(*), '/', sum(xmin::text::bigint)) from pg_catalog.pg_proc where oid >= '16384'),
  (select pg_catalog.concat(count(*), '/', sum(xmin::text::bigint)) from pg_catalog.pg_aggregate where aggfnoid::oid >= '16384'))`,
	schema.Types: `pg_catalog.concat_ws(' ',
  (select pg_catalog.concat(count(*), '/', sum(t.xmin::text::bigint)) from pg_catalog.pg_type t where t.oid >= '16384' and t.typrelid = '0' and not (t.typtype = 'b' and t.typcategory = 'A')),
  (select pg_catalog.concat(count(*), '/', sum(xmin::text::bigint)) from pg_catalog.pg_constraint where contypid <> '0'),
  (select pg_catalog.concat(count(*), '/', sum(xmin::text::bigint)) from pg_catalog.pg_proc where oid >= '16384'))`,
	schema.Operators: `pg_catalog.concat_ws(' ',
  (select pg_catalog.concat(count(*), '/', sum(xmin::text::bigint)) from pg_catalog.pg_operator where oid >= '16384'),
  (select pg_catalog.concat(count(*), '/', sum(xmin::text::bigint)) from pg_catalog.pg_cast),
  (select pg_catalog.concat(count(*), '/', sum(xmin::text::bigint)) from pg_catalog.pg_amproc where oid >= '16384'),
  (select pg_catalog.concat(count(*), '/', sum(xmin::text::bigint)) from pg_catalog.pg_type where oid >= '16384' and typtype = 'd'),
  (select pg_catalog.concat(count(*), '/', sum(xmin::text::bigint)) from pg_catalog.pg_proc where oid >= '16384'))`,
	schema.BuiltIns: `pg_catalog.concat_ws(' ', pg_catalog.version(),
  (select pg_catalog.concat(count(*), '/', sum(xmin::text::bigint)) from pg_catalog.pg_proc where oid < '16384'))`,
	schema.Rights: `pg_catalog.concat_ws(' ',
  (select pg_catalog.concat(count(*), '/', sum(xmin::text::bigint)) from pg_catalog.pg_proc where oid < '16384'),
  (select pg_catalog.concat(count(*), '/', sum(xmin::text::bigint)) from pg_catalog.pg_type where oid < '16384'),
  (select pg_catalog.concat(count(*), '/', sum(xmin::text::bigint)) from pg_catalog.pg_namespace where nspname::text !~ '^pg_(toast_)?temp_'::text),
  (select pg_catalog.concat(count(*), '/', sum(xmin::text::bigint)) from pg_catalog.pg_foreign_server),
  (select pg_catalog.concat(count(*), '/', sum(xmin::text::bigint)) from pg_catalog.pg_event_trigger))`,
	schema.Readers: `pg_catalog.concat_ws(' ',
  (select pg_catalog.concat(count(*), '/', sum(xmin::text::bigint)) from pg_catalog.pg_namespace where nspname::text !~ '^pg_(toast_)?temp_'::text),
  (select pg_catalog.concat(count(*), '/', sum(xmin::text::bigint)) from pg_catalog.pg_auth_members),
  (select pg_catalog.md5(pg_catalog.string_agg(pg_catalog.concat(o.oid, o.rolname, o.rolsuper, o.rolinherit, o.rolbypassrls), ' ' order by o.oid)) from pg_catalog.pg_roles o))`,
}

// restMarksQuery asks for all of these.
var restMarksQuery = func() string {
	var rows []string
	for _, kind := range slices.Sorted(maps.Keys(restMarks)) {
		rows = append(rows, fmt.Sprintf("('%s', %s)", kind, restMarks[kind]))
	}
	return `select 'mark'::text, ''::text, ''::text, m.kind::text, ''::text, m.mark
from (values ` + strings.Join(rows, ", ") + `) m (kind, mark)`
}()

// pathRow tells by which search path a question was asked.
const pathRow = `
union all
select 'path', '', pg_catalog.current_setting('search_path', true), '', '', ''`

// planningQuery has the rest of its transaction planned as if the session had changed nothing of how that is done, and
// not compiled. It gives no row. A session that leaves out kinds of plans, to see another, makes the estimates of those
// that are left so large that a question about the catalog, which takes some milliseconds, is compiled first, which takes
// a second; and the client waits for that. Settings that the server does not have are left alone. Source: the manual's
// "Planner Method Configuration" and "When to JIT?".
const planningQuery = "/* jolly larder prepares to read the catalog */ select from (values ('jit', 'off'), ('geqo', 'on'), " +
	"('from_collapse_limit', '8'), ('join_collapse_limit', '8'), ('enable_seqscan', 'on'), ('enable_indexscan', 'on'), " +
	"('enable_indexonlyscan', 'on'), ('enable_bitmapscan', 'on'), ('enable_nestloop', 'on'), ('enable_hashjoin', 'on'), " +
	"('enable_mergejoin', 'on'), ('enable_hashagg', 'on'), ('enable_sort', 'on'), ('enable_incremental_sort', 'on'), " +
	"('enable_material', 'on'), ('enable_memoize', 'on')) s (name, usual) " +
	"where case when pg_catalog.current_setting(s.name, true) <> s.usual then pg_catalog.set_config(s.name, s.usual, true) is null else false end"

// catalogQuestion gives the SQL of a question to a server of a major version, or 0 for one that is not known.
func catalogQuestion(q schema.Question, version int) string {
	if q.Kind == schema.Plain {
		return plainCatalogQuery
	}
	number := func(n uint32) string { return "'" + strconv.FormatUint(uint64(n), 10) + "'" }
	var ranges []string
	for _, r := range q.Ranges {
		ranges = append(ranges, fmt.Sprintf("(%s::oid, %s::oid)", number(r[0]), number(r[1])))
	}
	since := func(major int, now, before string) string {
		if version == 0 || version >= major {
			return now
		}
		return before
	}
	return "/* jolly larder reads the catalog */ " + strings.NewReplacer(
		"{from}",
		number(q.From),
		"{to}",
		number(q.To),
		"{most}",
		fmt.Sprintf("'%d'", q.Most),
		"{ranges}",
		strings.Join(ranges, ", "),
		"{generated}",
		since(12, "a.attgenerated", "''::\"char\""),
		"{deterministic}",
		since(12, "l.collisdeterministic is distinct from false", "true"),
		"{kind}",
		since(11, "p.prokind", "case when p.proisagg then 'a' else 'f' end"),
		"{parsed}",
		since(14, "p.prosqlbody is not null", "false"),
	).Replace(catalogQueries[q.Kind]+markRow(q.Kind)+pathRow)
}

// markRow adds the mark of what is asked for.
func markRow(kind schema.Kind) string {
	mark, ok := restMarks[kind]
	if kind == schema.Relations {
		mark, ok = relationMark, true
	}
	if !ok {
		return ""
	}
	return "\nunion all\nselect 'mark', '', '', '', '', " + mark
}

var catalogQueries = map[schema.Kind]string{
	schema.Spans: spansQuery, schema.Marks: marksQuery, schema.Relations: relationsQuery, schema.Links: linksQuery, schema.Texts: textsQuery, schema.Readers: readersQuery,
	schema.Functions: functionsQuery, schema.Types: typesQuery, schema.Operators: operatorsQuery, schema.BuiltIns: builtInsQuery, schema.Rights: rightsQuery, schema.RestMarks: restMarksQuery,
}

// majorVersion reads that of a server from what it says of itself, or gives 0.
func majorVersion(said string) int {
	digits := said
	if at := strings.IndexFunc(said, func(c rune) bool { return c < '0' || c > '9' }); at >= 0 {
		digits = said[:at]
	}
	n, _ := strconv.Atoi(digits)
	return n
}

// catalogRows reads the answer to either catalog query. It is strange if it is no such answer, or came over a session
// whose functions and operators may not be the server's own.
func catalogRows(rows [][]string) (out []schema.Row, strange bool) {
	out = make([]schema.Row, 0, len(rows))
	for _, r := range rows {
		if len(r) != 6 || r[0] == "path" && strangePath(r[2]) {
			return nil, true
		}
		if r[0] != "path" {
			out = append(
				out,
				schema.Row{What: r[0], Schema: r[1], Name: r[2], Flags: r[3], OtherSchema: r[4], OtherName: r[5]},
			)
		}
	}
	return out, false
}
