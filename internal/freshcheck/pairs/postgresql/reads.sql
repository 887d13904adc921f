select * from boats order by id
select id, name from boats where id = 1
select name from boats where name = 'Auk'
select seats from boats where id in (1,2) order by 1
select max(seats), min(seats), sum(seats), avg(seats) from boats
select seats from only boats where id=1
table boats
select b from boats b order by 1
select (b).seats from boats b order by 1
select row_to_json(b) from boats b order by b.id
select to_jsonb(boats) - 'j' from boats order by id
select count(*) from sailings
select boat_id, sum(left_seats) from sailings group by rollup(boat_id) order by 1,2
select gen from sailings order by id
select * from sailings where boat_id=1 order by id
select * from bookings order by id
select who from bookings where who = 'ann'
select who from bookings where sailing_id is null
select count(*) from audit
select what from audit order by id
select * from parts order by k
select v from parts1 order by k
select v from parts where k = 11
select tableoid::regclass, * from parts order by k
select * from par order by id
select * from only par order by id
select * from chi order by id
select * from v1 order by id
select * from v2 order by id
select c from mv
select f_sql(1)
select f_pl(1)
select f_pl(id) from boats order by id
select f_imm(3)
select f_lie(1) -- uncached
select name from f_set() order by 1
select agg_cat(name order by name) from boats
select b ~>~ 3 from boats b order by b.id
select last_value from sq -- uncached
select last_value, is_called from boats_id_seq -- uncached
select * from rls order by id
select v from unl
select "from" from "Odd Name" where "Sel ect"=1
select * from dflt order by id, v
select * from deferr order by id
select * from excl
select * from arr
select (b).a, a[1], bs[1] from arr
select name from s2.boats
select name from s2.vv order by 1
select * from tree order by id
with recursive t as (select id, up, 1 as depth from tree where up is null union all select t2.id, t2.up, depth+1 from tree t2 join t on t2.up = t.id) select * from t order by id
select count(*) from trunc_a
select count(*) from trunc_b
select exists(select 1 from bookings where who='zed')
select (select count(*) from bookings) + (select count(*) from sailings)
select b.name, s.n from boats b, lateral (select count(*) n from sailings where boat_id=b.id) s order by 1
select name, rank() over (order by seats desc) from boats order by 1, 2
select distinct on (boat_id) boat_id, id from sailings order by boat_id, id desc
select id from boats union select id from sailings order by 1
select id from boats except select boat_id from sailings order by 1
select id from boats where id > all (select boat_id from sailings where boat_id < 3) order by 1
select name from boats where tags @> array['x']
select j->>'a' from boats order by id
select j @? '$.a' from boats order by id
select unnest(tags) from boats
select string_agg(name, ',' order by name) from boats
select json_agg(b order by id) from boats b
select array(select name from boats order by 1)
select m from boats order by m, id
select enum_range(null::mood)
select 'windy'::mood > 'calm'::mood
select p from boats order by id
select 1::posint
select ci from boats where ci = 'abc'
select h->'a' from boats order by id
select lt from boats where lt <@ 'a'
select similarity(name, 'auk') from boats order by id
select note::text from boats order by id
select d from boats order by id
select to_char(d, 'TMMonth') from boats order by id
select extract(year from d) from boats order by id
select c || '|' from boats order by id
select nm from boats order by id
select count(*) from boats tablesample system (100) -- uncached
select obj_description('boats'::regclass)
select 'boats'::regclass::oid > 0
select relname from pg_class where relname like 'boat%' order by 1
select attname from pg_attribute where attrelid='boats'::regclass and attnum>0 order by attnum
select column_name from information_schema.columns where table_name='boats' order by ordinal_position
select table_name from information_schema.tables where table_schema='public' order by 1
select tablename from pg_tables where schemaname='public' order by 1
select viewname, definition from pg_views where schemaname='public' order by 1
select pg_get_viewdef('v1'::regclass)
select pg_get_functiondef('f_imm'::regproc)
select indexname from pg_indexes where schemaname='public' order by 1
select count(*) from pg_trigger
select conname from pg_constraint where connamespace='public'::regnamespace order by 1
select rolname, rolsuper, rolcreatedb from pg_roles where rolname in ('{db}_a', '{db}_b', '{db}_x') order by 1
select datname from pg_database where datname = current_database()
select has_table_privilege('{db}_a', 'boats', 'select')
select has_table_privilege('boats', 'select')
select pg_has_role('{db}_a', '{db}_b', 'member')
select extname, extversion from pg_extension order by 1
select enumlabel from pg_enum order by enumsortorder
select nspname from pg_namespace where nspname not like 'pg_t%' order by 1
select format_type(atttypid, atttypmod) from pg_attribute where attrelid='boats'::regclass and attnum > 0 order by attnum
select current_user, session_user, current_schema
select current_setting('search_path') -- uncached
select current_setting('app.who', true) -- uncached
select current_schemas(true)
select to_regclass('boats'), to_regtype('mood'), to_regproc('f_imm')
select seqmin from pg_sequence where seqrelid='sq'::regclass
select pg_get_serial_sequence('boats','id')
select pg_get_constraintdef(oid) from pg_constraint where conname='sailings_boat_id_fkey'
select pg_get_expr(adbin, adrelid) from pg_attrdef order by oid
select pg_get_indexdef(indexrelid) from pg_index where indrelid='boats'::regclass
select col_description('boats'::regclass, 2)
select stxname from pg_statistic_ext
select proname, prosrc from pg_proc where pronamespace='public'::regnamespace and proname like 'f\_%' order by 1
select polname from pg_policy
select relrowsecurity from pg_class where relname='rls'
select reloptions from pg_class where relname='boats'
select pg_table_is_visible('s2.boats'::regclass)
select s.setconfig from pg_db_role_setting s join pg_database d on d.oid = s.setdatabase where d.datname = current_database()
select typname from pg_type where typname in ('mood','posint','pairt','newt') order by 1
select description from pg_description where objoid='boats'::regclass order by 1
select table_to_xml('boats', true, false, '') -- uncached
select to_tsvector(name) from boats order by id
select pg_relation_size('boats') >= 0 -- uncached
select * from pg_sequences order by 1,2 -- uncached
select pg_column_size(name) from boats order by id -- uncached
select * from generate_series(1, (select count(*) from boats)::int)
select coalesce((select name from boats where id=77), 'none')
select name from boats where (id, seats) in (select boat_id, 10 from sailings)
select count(*) filter (where seats>15) from boats
select percentile_cont(0.5) within group (order by seats) from boats
select * from boats natural join (select id from bookings) q order by id
select * from boats b full join sailings s using (id) order by id
select grouping(boat_id), count(*) from sailings group by cube(boat_id) order by 1,2
values ((select count(*) from boats))
select case when exists (select from boats where seats > 40) then 'big' else 'small' end
select b.* from boats b where b.name like 'A%'
select name from boats order by name collate "C"
select name from boats where lower(name) = 'auk'
select id, name from boats where id = any(array[1,3]) order by 1
select s.id from sailings s where s.boat_id = 1 and s.id = 2
select a.id from audit a where a.id = 1
select count(*) from information_schema.role_table_grants where table_name='boats'
select relacl from pg_class where relname='boats'
select count(*) from pg_largeobject -- uncached
select text 'abc' < 'abd' collate "und-x-icu"
