package postgres

import "jollylarder/internal/core/catalog"

// catalogQuery asks a PostgreSQL server for a schema's description: six text columns, as in catalog.Row. It names every
// system table and function in full and needs no privilege. Where servers differ in their system tables' columns, rows
// are asked as JSON.
//
// It runs with a client's search path and privileges, so nothing in it may be anybody's but the server's: each operator and
// function is one for which the server has an exact match, which no other can come before. Numbers are therefore written as
// texts, which take the type of what they are compared with, and names and the like are cast (ownquestions_test.go).
//
// The numbers are the server's fixed object ids: 1247 pg_type, 1255 pg_proc, 1259 pg_class, 2615 pg_namespace, 2604 pg_attrdef, 2606 pg_constraint, 2618
// pg_rewrite, 2620 pg_trigger, 3256 pg_policy; 1266 timetz, 1270 its array; below 16384 are the server's own.
const catalogQuery = `/* jolly larder reads the catalog */
with names as (
  select c.oid, n.nspname as schema, c.relname as name, c.relkind as kind
  from pg_catalog.pg_class c join pg_catalog.pg_namespace n on n.oid = c.relnamespace
  where c.relkind in ('r', 'p', 'v', 'm', 'f', 'S') and c.relpersistence <> 't'
    and (n.nspname not in ('pg_catalog', 'information_schema', 'pg_toast') or c.oid >= '16384' and n.nspname <> 'pg_toast')
), functions as (
  select p.oid, n.nspname as schema, p.proname as name, p.provolatile as volatility, g.lanname as language, p.proconfig, p.probin, p.prosrc,
         coalesce(pg_catalog.to_jsonb(p) ->> 'prokind'::text, case when pg_catalog.to_jsonb(p) ->> 'proisagg'::text = 'true' then 'a' else 'f' end) as kind,
         pg_catalog.to_jsonb(p) ->> 'prosqlbody'::text is not null as parsed
  from pg_catalog.pg_proc p join pg_catalog.pg_namespace n on n.oid = p.pronamespace
  join pg_catalog.pg_language g on g.oid = p.prolang
  where n.nspname <> 'pg_catalog' or p.oid >= '16384' -- those of information_schema can be followed like any other
), owners as (
  select d.classid, d.objid, d.refclassid, d.refobjid,
         coalesce(w.ev_class, y.polrelid, a.adrelid, nullif(k.conrelid, '0'), t.tgrelid, i.indrelid, e.partrelid) as relid, k.contypid,
         case d.classid when '2618' then case when w.rulename = '_RETURN' then 'v' else 'r' end when '3256' then 'p' else 'w' end as letter
  from pg_catalog.pg_depend d
  left join pg_catalog.pg_rewrite w on d.classid = '2618' and w.oid = d.objid
  left join pg_catalog.pg_policy y on d.classid = '3256' and y.oid = d.objid
  left join pg_catalog.pg_attrdef a on d.classid = '2604' and a.oid = d.objid
  left join pg_catalog.pg_constraint k on d.classid = '2606' and k.oid = d.objid
  left join pg_catalog.pg_trigger t on d.classid = '2620' and t.oid = d.objid and t.tgfoid <> d.refobjid
  left join pg_catalog.pg_index i on d.classid = '1259' and i.indexrelid = d.objid -- what an index or a partition key is made of is worked out at every write
  left join pg_catalog.pg_partitioned_table e on d.classid = '1259' and e.partrelid = d.objid
  where (d.classid in ('2618', '3256', '2604', '2606', '2620') or d.classid = '1259' and d.refclassid = '1255' and (i.indexrelid is not null or e.partrelid is not null)) and d.refclassid in ('1255', '1259')
), odd as ( -- columns that a unique index compares otherwise than they are compared elsewhere
  select i.indexrelid, i.indrelid as relid, k.attnum
  from pg_catalog.pg_index i cross join lateral rows from (pg_catalog.unnest(i.indkey::int2[]), pg_catalog.unnest(i.indcollation::oid[]), pg_catalog.unnest(i.indclass::oid[])) k (attnum, coll, class)
  join pg_catalog.pg_attribute a on a.attrelid = i.indrelid and a.attnum = k.attnum join pg_catalog.pg_opclass o on o.oid = k.class
  where i.indisunique and k.attnum > '0' and (k.coll <> '0' and k.coll <> a.attcollation or not o.opcdefault)
), granted as (
  select r.schema, r.name, c.relnamespace, min(c.oid) over (partition by c.relowner, c.relacl::text, c.relnamespace) as like_oid, c.oid
  from names r join pg_catalog.pg_class c on c.oid = r.oid where r.kind in ('r', 'p', 'v', 'm')
)
select 'relation'::text, r.schema::text, r.name::text, -- or the union's columns would be names, cut to 63 bytes
       r.kind::text || case when c.relrowsecurity then 'S' else '' end
       || case when exists (select '1' from pg_catalog.pg_attribute a
                            where a.attrelid = c.oid and a.attnum > '0' and a.atttypid in ('1266', '1270')) then 'Z' else '' end,
       ''::text, ''::text
from names r join pg_catalog.pg_class c on c.oid = r.oid
union all
select 'child', p.schema, p.name, '', c.schema, c.name
from pg_catalog.pg_inherits i join names p on p.oid = i.inhparent join names c on c.oid = i.inhrelid
union all
select 'reference', p.schema, p.name, k.confupdtype::text || k.confdeltype::text || ' ' ||
         (select pg_catalog.string_agg(a.attname, E'\n') from pg_catalog.pg_attribute a where a.attrelid = k.confrelid and a.attnum = any (k.confkey)),
       c.schema, c.name
from pg_catalog.pg_constraint k join names p on p.oid = k.confrelid join names c on c.oid = k.conrelid
where k.contype = 'f'
union all
select 'trigger', r.schema, r.name, t.tgtype::text, n.nspname, p.proname
from pg_catalog.pg_trigger t join names r on r.oid = t.tgrelid
join pg_catalog.pg_proc p on p.oid = t.tgfoid join pg_catalog.pg_namespace n on n.oid = p.pronamespace
where not t.tgisinternal
union all
select distinct 'part', r.schema, r.name, o.letter, x.schema, x.name
from owners o join names r on r.oid = o.relid join names x on x.oid = o.refobjid
where o.refclassid = '1259' and o.classid in ('2618', '3256') and o.refobjid <> o.relid
union all
select distinct 'call', r.schema, r.name, o.letter, f.schema, f.name
from owners o join names r on r.oid = o.relid join functions f on f.oid = o.refobjid
where o.refclassid = '1255'
union all
select distinct 'call', n.nspname, t.typname, 't', f.schema, f.name
from (select o.contypid as oid, o.refobjid from owners o where o.refclassid = '1255'
      union all
      select d.objid, d.refobjid from pg_catalog.pg_depend d where d.classid = '1247' and d.refclassid = '1255') o
join pg_catalog.pg_type t on t.oid = o.oid join pg_catalog.pg_namespace n on n.oid = t.typnamespace
join functions f on f.oid = o.refobjid
union all
select distinct 'typed', m.nspname, c.relname, '', n.nspname, t.typname
from pg_catalog.pg_attribute a join pg_catalog.pg_class c on c.oid = a.attrelid join pg_catalog.pg_namespace m on m.oid = c.relnamespace
join pg_catalog.pg_type x on x.oid = a.atttypid join pg_catalog.pg_type t on t.oid = case when x.typtype = 'b' and x.typcategory = 'A' and x.typelem <> '0' then x.typelem else x.oid end
join pg_catalog.pg_namespace n on n.oid = t.typnamespace
where a.attnum > '0' and not a.attisdropped and t.oid >= '16384' and c.relkind in ('r', 'p', 'v', 'm', 'f', 'c') and c.relpersistence <> 't'
union all
select 'view', r.schema, r.name, '', '', pg_catalog.pg_get_viewdef(r.oid) from names r where r.kind in ('v', 'm')
union all
select 'rule', r.schema, r.name, w.ev_type::text, '', pg_catalog.pg_get_ruledef(w.oid)
from pg_catalog.pg_rewrite w join names r on r.oid = w.ev_class where w.rulename <> '_RETURN'
union all
select 'policy', r.schema, r.name, '', '',
       coalesce(pg_catalog.pg_get_expr(y.polqual, y.polrelid), 'true') || ', ' || coalesce(pg_catalog.pg_get_expr(y.polwithcheck, y.polrelid), 'true')
from pg_catalog.pg_policy y join names r on r.oid = y.polrelid
union all
select 'columns', r.schema, r.name, '', '', pg_catalog.string_agg(
         case when a.atttypid in ('20', '21', '23') then 'n' when a.atttypid = '2950' then 'u' when a.atttypid = '1082' then 'y'
              when a.atttypid in ('25', '1043') and pg_catalog.to_jsonb(l) ->> 'collisdeterministic'::text is distinct from 'false' then 't' else '' end
         || case when a.atttypid in ('1082', '1114', '1184') then 'd' when a.atttypid = '1083' then 'h' else '' end
         || case when exists (select '1' from odd where odd.relid = a.attrelid and odd.attnum = a.attnum) then 'o' else '' end
         || case when coalesce(pg_catalog.to_jsonb(a) ->> 'attgenerated'::text, '') <> '' then 'g' else '' end
         || case when a.attidentity <> '' then 'i' else '' end || ' ' || a.attname::text, E'\n' order by a.attnum)
from pg_catalog.pg_attribute a join names r on r.oid = a.attrelid
left join pg_catalog.pg_collation l on l.oid = a.attcollation
where a.attnum > '0' and not a.attisdropped and pg_catalog.strpos(a.attname::text, E'\n') = '0'
group by r.schema, r.name
union all
select 'key', r.schema, r.name, (select x.relname::text from pg_catalog.pg_class x where x.oid = i.indexrelid), '',
       (select pg_catalog.string_agg(a.attname, E'\n' order by a.attnum) from pg_catalog.pg_attribute a
        where a.attrelid = r.oid and a.attnum = any (i.indkey::int2[]))
from pg_catalog.pg_index i join names r on r.oid = i.indrelid
where i.indisunique and i.indisvalid and i.indimmediate and i.indpred is null and i.indexprs is null
  and not exists (select '1' from odd where odd.indexrelid = i.indexrelid)
union all
select 'function', f.schema, f.name,
       f.volatility::text || f.kind || case when f.parsed or f.proconfig::text like '%search_path=%' then 'p' else '' end, f.language,
       case when f.language in ('sql', 'plpgsql') and f.kind <> 'a' then pg_catalog.pg_get_functiondef(f.oid) when f.language = 'c' then pg_catalog.concat(f.probin, ' ', f.prosrc) else '' end
from functions f
union all
select distinct 'aggregate', f.schema, f.name, '', s.schema, s.name
from functions f join pg_catalog.pg_aggregate g on g.aggfnoid::oid = f.oid
join functions s on s.oid in (g.aggtransfn::oid, g.aggfinalfn::oid, g.aggcombinefn::oid, g.aggserialfn::oid, g.aggdeserialfn::oid, g.aggmtransfn::oid, g.aggminvtransfn::oid, g.aggmfinalfn::oid)
union all
select 'operator', '', o.oprname, f.volatility::text, f.schema, f.name
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
                and (l.oid in ('20', '21', '23', '25', '705', '1043', '1082', '2950') or r.oid in ('20', '21', '23', '25', '705', '1043', '1082', '2950') or l.typtype in ('p', 'd') or r.typtype in ('p', 'd')))
union all
select 'restricted', '', '', '', '', ''
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
select 'system', '', '', '', '', pg_catalog.string_agg(n.nspname::text || '.' || c.relname::text, E'\n')
from pg_catalog.pg_class c join pg_catalog.pg_namespace n on n.oid = c.relnamespace
where c.oid < '16384' and n.nspname in ('pg_catalog', 'information_schema') and c.relkind in ('r', 'v')
union all
select 'type', n.nspname, t.typname, t.typtype::text || coalesce(p.provolatile::text, 'v'), coalesce(m.nspname, ''), coalesce(b.typname, '')
from pg_catalog.pg_type t left join pg_catalog.pg_range g on g.rngtypid = t.oid join pg_catalog.pg_namespace n on n.oid = t.typnamespace
left join pg_catalog.pg_proc p on p.oid = t.typinput::oid
left join pg_catalog.pg_type v on v.oid = coalesce(nullif(t.typbasetype, '0'), g.rngsubtype)
left join pg_catalog.pg_type b on b.oid = case when v.typtype = 'b' and v.typcategory = 'A' and v.typelem <> '0' then v.typelem else v.oid end left join pg_catalog.pg_namespace m on m.oid = b.typnamespace
where t.oid >= '16384' and n.nspname <> 'pg_toast' and n.nspname::text not like 'pg\_t%temp%'
  and (t.typrelid = '0' or exists (select '1' from pg_catalog.pg_class c where c.oid = t.typrelid and c.relkind = 'c')) and not (t.typtype = 'b' and t.typcategory = 'A')
union all
select 'granted', g.schema, g.name, g.like_oid::text, '', '' from granted g
union all
select 'readers', '', g.like_oid::text, '', '', pg_catalog.string_agg(o.oid::text, E'\n' order by o.oid)
from granted g cross join pg_catalog.pg_roles o
where g.oid = g.like_oid and pg_catalog.has_table_privilege(o.oid, g.oid, 'select') and pg_catalog.has_schema_privilege(o.oid, g.relnamespace, 'usage')
group by g.like_oid
union all
select 'schemas', '', '', '', '', pg_catalog.string_agg(n.nspname::text || ' ' || coalesce(n.nspacl::text, ''), E'\n' order by n.oid)
from pg_catalog.pg_namespace n where n.nspname::text not like 'pg\_t%temp%'
union all
select 'event', '', '', '', '', e.evtname from pg_catalog.pg_event_trigger e where e.evtenabled <> 'D'
union all
select 'builtin', '', '', '', '', pg_catalog.string_agg(b.line, E'\n')
from (select pg_catalog.max(p.provolatile::text) || ' ' || p.proname::text as line
      from pg_catalog.pg_proc p join pg_catalog.pg_namespace n on n.oid = p.pronamespace
      where n.nspname = 'pg_catalog' and p.oid < '16384' group by p.proname) b
union all
select 'numbers', '', '', '', '', pg_catalog.string_agg(p.oid::text || ' ' || p.proname::text, E'\n')
from pg_catalog.pg_proc p join pg_catalog.pg_namespace n on n.oid = p.pronamespace
where n.nspname = 'pg_catalog' and p.oid < '16384' and p.provolatile = 'v'
union all
select 'mark', '', '', '', '', ` + markSQL + `
union all
select 'path', '', pg_catalog.current_setting('search_path', true), '', '', ''`

// markSQL gives a text that is another after any definition has changed: how many rows the system tables have that the
// catalog is made of, and the sum of the transactions that wrote them.
const markSQL = `pg_catalog.concat_ws(' ',
  (select pg_catalog.concat(count(*), '/', sum(xmin::text::bigint)) from pg_catalog.pg_class where oid >= '16384' and relpersistence <> 't' and relkind in ('r', 'p', 'v', 'm', 'f', 'S', 'i')),
  (select pg_catalog.concat(count(*), '/', sum(a.xmin::text::bigint)) from pg_catalog.pg_attribute a join pg_catalog.pg_class c on c.oid = a.attrelid
   where c.oid >= '16384' and c.relpersistence <> 't' and c.relkind in ('r', 'p', 'v', 'm') and a.attnum > '0'),
  (select pg_catalog.concat(count(*), '/', sum(xmin::text::bigint)) from pg_catalog.pg_namespace),
  (select pg_catalog.concat(count(*), '/', sum(xmin::text::bigint)) from pg_catalog.pg_proc where oid >= '16384'),
  (select pg_catalog.concat(count(*), '/', sum(xmin::text::bigint)) from pg_catalog.pg_type where oid >= '16384' and typtype <> 'c'),
  (select pg_catalog.concat(count(*), '/', sum(xmin::text::bigint)) from pg_catalog.pg_rewrite where oid >= '16384'),
  (select pg_catalog.concat(count(*), '/', sum(xmin::text::bigint)) from pg_catalog.pg_trigger),
  (select pg_catalog.concat(count(*), '/', sum(xmin::text::bigint)) from pg_catalog.pg_policy),
  (select pg_catalog.concat(count(*), '/', sum(xmin::text::bigint)) from pg_catalog.pg_constraint where oid >= '16384'),
  (select pg_catalog.concat(count(*), '/', sum(xmin::text::bigint)) from pg_catalog.pg_foreign_server),
  (select pg_catalog.concat(count(*), '/', sum(xmin::text::bigint)) from pg_catalog.pg_amproc where oid >= '16384'),
  (select pg_catalog.concat(count(*), '/', sum(xmin::text::bigint)) from pg_catalog.pg_index i where i.indexrelid >= '16384'),
  (select pg_catalog.concat(count(*), '/', sum(xmin::text::bigint)) from pg_catalog.pg_aggregate g where g.aggfnoid::oid >= '16384'),
  (select pg_catalog.concat(count(*), '/', sum(xmin::text::bigint)) from pg_catalog.pg_attrdef),
  (select pg_catalog.concat(count(*), '/', sum(xmin::text::bigint)) from pg_catalog.pg_inherits),
  (select pg_catalog.concat(count(*), '/', sum(xmin::text::bigint)) from pg_catalog.pg_operator where oid >= '16384'),
  (select pg_catalog.concat(count(*), '/', sum(xmin::text::bigint)) from pg_catalog.pg_cast where oid >= '16384'),
  (select pg_catalog.concat(count(*), '/', sum(xmin::text::bigint)) from pg_catalog.pg_event_trigger),
  (select pg_catalog.concat(count(*), '/', sum(xmin::text::bigint)) from pg_catalog.pg_auth_members),
  (select pg_catalog.md5(pg_catalog.string_agg(pg_catalog.concat(o.oid, o.rolname, o.rolsuper, o.rolinherit, o.rolbypassrls), ' ' order by o.oid)) from pg_catalog.pg_roles o))`

// markQuery asks for that alone, which takes a few milliseconds where the whole takes hundreds.
const markQuery = "/* jolly larder looks whether definitions have changed */ select " + markSQL

// catalogRows reads the answer to either catalog query. It is strange if it is no such answer, or came over a session
// whose functions and operators may not be the server's own.
func catalogRows(rows [][]string) (out []catalog.Row, strange bool) {
	out = make([]catalog.Row, 0, len(rows))
	for _, r := range rows {
		if len(r) != 6 || r[0] == "path" && strangePath(r[2]) {
			return nil, true
		}
		if r[0] != "path" {
			out = append(out, catalog.Row{What: r[0], Schema: r[1], Name: r[2], Flags: r[3], OtherSchema: r[4], OtherName: r[5]})
		}
	}
	return out, false
}
