package postgres_test

// afterWrite is a read, and a write that changes its result in a way that is easy to miss. Passes is set where the result must not be kept at all.
type afterWrite struct {
	read, write string
	passes      bool
}

// Each group: a schema, and what is read and written in it, one after the other.
var easyToMiss = map[string]struct {
	schema string
	cases  []afterWrite
}{
	"whole rows and other names": {
		`create table orders (id int primary key, state text, note text, who int); create table people (id int primary key, name text, note text);
		insert into orders select g, case when g % 2 = 0 then 'open' else 'shut' end, 'n', g % 3 from generate_series(1, 9) g; insert into people select g, 'p' || g, 'n' from generate_series(0, 2) g;
		create table stamps (id int primary key, txt text, at timestamptz); insert into stamps values (1, '2026-01-01', '2026-01-01')`,
		[]afterWrite{
			{read: "select json_agg(o order by id) from orders o where state like 'o%'", write: "update orders set note = 'a' where id = 2"},
			{read: "select row_to_json(x)::text from orders x where x.state = 'open' order by id limit 1", write: "update orders set note = 'b' where id = 2"},
			{read: "select to_jsonb(x)::text from orders x where who = 1 order by id", write: "update orders set note = 'c' where id = 1"},
			{read: "select x::text from orders x where state like 's%' order by id", write: "update orders set note = 'd' where id = 3"},
			{read: "select (x).note from orders x where state like 's%' order by id", write: "update orders set note = 'e' where id = 3"},
			{read: "select orders::text from orders where state like 's%' order by id", write: "update orders set note = 'f' where id = 3"},
			{read: "select array_agg(x order by id)::text from orders x where state like 's%'", write: "update orders set note = 'g' where id = 3"},
			{read: "select count(x) filter (where x::text like '%hh%') from orders x where state like 's%'", write: "update orders set note = 'hh' where id = 3"},
			{read: "select json_agg(json_build_object('id', o.id, 'p', (select row_to_json(p) from people p where p.id = o.who)) order by o.id)::text from orders o where state like 'o%'", write: "update people set note = 'i' where id = 1"},
			{read: "select coalesce(json_agg(t), '[]')::text from (select o.id, j.x from orders o left join lateral (select to_json(p) as x from people p where p.id = o.who) j on true order by o.id) t", write: "update people set note = 'j' where id = 1"},
			{read: "select z.q from orders z (x, y, q) where z.y like 's%' order by x", write: "update orders set note = 'k' where id = 3"},
			{read: "select q from orders z (x, y, q) where y like 's%' order by x", write: "update orders set note = 'l' where id = 3"},
			{read: "select t.row_to_json::text from orders t where state like 's%' order by id", write: "update orders set note = 'm' where id = 3"},
			{read: "select (t).to_jsonb::text from orders t where state like 's%' order by id", write: "update orders set note = 'n' where id = 3"},
			{read: "select j.b from (orders o join people p on p.id = o.who) as j (a, s, b, w, i, m, c) where j.s like 's%' order by a", write: "update orders set note = 'o' where id = 3"},
			{read: "select count(*) from orders natural join (select 3 as id, 'p' as note) x", write: "update orders set note = 'p' where id = 3"},
			{read: "select ts::timestamptz::text from stamps as z (id, ts) where id = 1", write: "update stamps set txt = '2026-02-02' where id = 1", passes: true},
			{read: "select count(*) from orders a join people b using (note) where a.id > 0", write: "update people set note = 'zz' where id = 2"},
			{read: "with c (x, y) as (select id, note from orders) select y from c where x = 3", write: "update orders set note = 'q' where id = 3"},
			{read: "select s.* from (select * from orders) s where s.state like 's%' order by 1", write: "update orders set note = 'r' where id = 3"},
			{read: "select max(o.*::text) from orders o", write: "update orders set note = 's' where id = 9"},
		},
	},
	"columns that are another query's": {
		`create table ev (id int primary key, who int, ts int, status text); insert into ev select g, g % 3, g, 'open' from generate_series(1, 9) g;
		create table o (id int primary key, cust int, qty int); insert into o select g, g % 3, 5 from generate_series(1, 9) g; create table t (id int primary key, a int); insert into t values (1, 1), (2, 2), (3, 3);
		create table w (status text primary key); insert into w values ('open'), ('shut')`,
		[]afterWrite{
			{read: "select count(*) from (select distinct on (who) * from ev order by who, ts desc) s where status = 'open'", write: "insert into ev (id, who, ts, status) values (10, 1, 99, 'shut')"},
			{read: "select count(*) from (select cust, max(qty) as qty from o group by cust) s where qty = 5", write: "insert into o (id, cust, qty) values (10, 1, 6)"},
			{read: "select count(*) from (select *, row_number() over (partition by cust order by id desc) as n from o) s where n = 1 and qty = 6", write: "insert into o (id, cust, qty) values (11, 1, 7)"},
			{read: "with s as (select distinct on (who) * from ev order by who, ts desc) select count(*) from s, w where s.status = 'open' and w.status = 'open'", write: "insert into ev (id, who, ts, status) values (11, 2, 98, 'shut')"},
			{read: "with s as (select distinct on (who) who, ts, status as x from ev order by who, ts desc) select count(*) from s, w where status = 'open' and x = status", write: "insert into ev (id, who, ts, status) values (12, 0, 97, 'shut')"},
			{read: "select g.id, (select max(a) from t) from generate_series(1, 3) g (id) where id = 2", write: "update t set a = 9 where id = 3"},
			{read: "select (select max(a) from t) from unnest(array[1, 2]) id where id = 2", write: "update t set a = 10 where id = 3"},
			{read: "select (select max(a) from t where t.id <> x.id) from (values (2)) x (id) where id = 2", write: "update t set a = 11 where id = 3"},
			{read: "with t as (select 2 as id) select (select max(a) from public.t) from t where id = 2", write: "update t set a = 12 where id = 3"},
			{read: "select (select sum(a) from t) from o where o.id = 2 and exists (select 1 from t where id = 2)", write: "update t set a = 13 where id = 3"},
			{read: "select x.a from (select sum(a) as a, max(id) as id from t) x where x.id = 3", write: "update t set a = 14 where id = 1"},
		},
	},
	"triggers and parts": {
		`create table docs (id int primary key, title text, body text, v tsvector); insert into docs values (1, 'a', 'b', null);
		create trigger fill before insert or update on docs for each row execute function tsvector_update_trigger(v, 'pg_catalog.simple', title, body);
		create table log (id serial primary key, what text);
		create function note() returns trigger language plpgsql as $$ begin insert into log (what) values (tg_op); return coalesce(new, old); end $$;
		create table parts (id int, k int, n int) partition by list (k); create table part1 partition of parts for values in (1); create table part2 partition of parts for values in (2);
		insert into parts values (1, 1, 0), (2, 1, 0), (3, 1, 0), (4, 1, 0); create trigger ins after insert on part2 for each row execute function note(); create trigger del after delete on part1 for each row execute function note();
		create table keys (k int primary key); insert into keys values (1), (3); create table held (id int, k int references keys on update cascade) partition by list (k);
		create table held1 partition of held for values in (1); create table held2 partition of held for values in (2, 3); insert into held values (1, 1); create trigger ins after insert on held2 for each row execute function note()`,
		[]afterWrite{
			{read: "select v::text from docs where title like '%'", write: "update docs set title = 'zebra' where id = 1"},
			{read: "select count(*) from docs where v @@ 'yak'::tsquery", write: "update docs set body = 'yak' where id = 1"},
			{read: "select count(*) from log", write: "update parts set k = 2 where id = 1"},
			{read: "select count(*) from log where what = 'INSERT'", write: "merge into parts using (values (2)) v (id) on parts.id = v.id when matched then update set k = 2"},
			{read: "select max(id) from log", write: "update keys set k = 2 where k = 1"},
		},
	},
	"types with checks": {
		`create table limits (name text primary key, n int); insert into limits values ('a', 1); create table seen (id serial primary key, n int);
		create function sees(int) returns boolean language plpgsql volatile as $$ begin insert into seen (n) values ($1); return true; end $$;
		create function next_seen() returns int language plpgsql as $$ begin insert into seen (n) values (0); return 7; end $$;
		create domain seen_int as int default next_seen() check (sees(value)); create table uses (id int primary key, v seen_int); insert into uses values (1, 1);
		create type pair as (a int, b seen_int); create table pairs (id int primary key, p pair); create domain many as int[] check (sees(value[1])); create table lists (id int, l many);
		create function by_variable(int) returns int language plpgsql as $$ declare x seen_int := $1; begin return x; end $$;
		create function by_type(int) returns int language plpgsql as $$ declare x uses.v%type; begin x := $1; return x; end $$;
		create function by_result(int) returns seen_int language plpgsql as $$ begin return $1; end $$; create function given(seen_int) returns int language sql as 'select $1::int'`,
		[]afterWrite{
			{read: "select count(*) from seen", write: "insert into uses (id, v) values (2, 2)"},
			{read: "select count(*) from seen where n > 0", write: "update uses set v = 3 where id = 1"},
			{read: "select count(*), 1 from seen", write: "insert into uses (id) values (3)"},
			{read: "select count(*), 2 from seen", write: "insert into pairs values (1, row(1, 2))"},
			{read: "select count(*), 3 from seen", write: "insert into lists values (1, array[3])"},
			{read: "select count(*), 4 from seen", write: "select by_variable(4)"},
			{read: "select count(*), 5 from seen", write: "select by_type(4)"},
			{read: "select count(*), 6 from seen", write: "select by_result(4)"},
			{read: "select count(*), 7 from seen", write: "select given(4)"},
			{read: "select count(*), 8 from seen", write: "select '(1,2)'::pair"},
		},
	},
	"what changes on its own": {
		`create table t (id int primary key, a int, at timestamptz, ti time, txt text); insert into t values (1, 1, now(), '10:00', 'now');
		create function late() returns text language sql stable as $$ select ('now'::timestamptz)::text $$; create function later() returns text language plpgsql stable as $$ declare x timestamptz; begin select txt into x from t where id = 1; return x; end $$;
		create function latest() returns interval language plpgsql stable as $$ begin return (select at from t where id = 1) - 'yesterday'; end $$`,
		[]afterWrite{
			{read: "select xmax::text from t where id = 1", write: "select * from t where id = 1 for update", passes: true},
			{read: "select xmin::text, ctid::text from t where id = 1", write: "vacuum full t", passes: true},
			{read: "select late()", write: "select 1", passes: true},
			{read: "select atthasmissing from pg_attribute where attrelid = 't'::regclass and attnum = 1", write: "vacuum full t", passes: true},
			{read: "select later()", write: "select 1", passes: true},
			{read: "select latest()", write: "select 1", passes: true},
			{read: "select (ti at time zone 'Europe/Oslo')::text from t", write: "select 1", passes: true},
			{read: "select (txt).timestamptz::text from t", write: "select 1", passes: true},
		},
	},
	"values that are compared in other ways": {
		`create collation ci (provider = icu, locale = 'und-u-ks-level2', deterministic = false); create table o (c text collate ci primary key); insert into o values ('ABC'); create table t (id int, code text, n int); insert into t values (1, 'abc', 0), (2, 'ABC', 0);
		create table u (code text, n int, note text); create unique index on u (code collate ci); insert into u values ('ABC', 1, '')`,
		[]afterWrite{
			{read: "select n from t where code = 'ABC'", write: "update t set n = 1 from o where t.code = o.c and o.c = 'abc'"},
			{read: "select n from u where code = 'ABC'", write: "insert into u values ('abc', 5, '') on conflict (code) do update set n = 9"},
		},
	},
	"ways of reading and writing": {
		`create table o (id int primary key, cust int, note text, qty int, day date default '2026-01-01', at timestamptz default '2026-01-01', tags int[] default '{1,2}', doc jsonb default '{"a":1}', code varchar(4));
 insert into o (id,cust,note,qty,code) select g, g%3, 'n'||g, g, 'c'||g from generate_series(1,9) g;
 create table c (id int primary key, name text, boss int references c on delete set null on update cascade); insert into c select g, 'c'||g, nullif(g-1,-1) from generate_series(0,3) g;
 create type addr as (street text, no int); create table a (id int primary key, ad addr, ads addr[]); insert into a values (1, row('x',1), array[row('y',2)::addr]);
 create function o_total(o) returns int language sql stable as 'select $1.qty * 2'; create function o_all() returns setof o language sql stable as 'select * from o'; create function o_tab(int) returns table (n text, q int) language plpgsql stable as $$ begin return query select note, qty from o where id = $1; end $$;
 create function c_of(int, out nm text, out b int) language sql stable as 'select name, boss from c where id = $1'; create function immu(int) returns text language sql immutable as 'select note from o where id = $1'; create function deep(int) returns text language plpgsql as $$ declare r o%rowtype; begin select * into r from o where id=$1; return immu($1) || r.qty; end $$;
 create view vo as select o.id, o.note, c.name from o join c on c.id = o.cust; create view vo2 (i, n, m) as select * from vo; create view vupd as select * from o where qty < 100; 
 create table l (id serial primary key, w text); create function tl() returns trigger language plpgsql as $$ begin insert into l(w) values (tg_op||tg_table_name); return null; end $$;
 create constraint trigger dt after update on c deferrable initially deferred for each row execute function tl(); create trigger st after insert on c referencing new table as nt for each statement execute function tl(); create trigger tr after truncate on a for each statement execute function tl();
 create function io() returns trigger language plpgsql as $$ begin update o set note = new.note where id = new.id; return new; end $$; create trigger it instead of update on vo for each row execute function io();
 create table p (id int, v int) ; create table p1 (x int) inherits (p); insert into p values (1,1); insert into p1 values (2,2,2);
 create table def (id int primary key default 1, k int default 5); create aggregate agg_sum(int) (sfunc = int4pl, stype = int, initcond = '0');
 create function rd(int) returns bool language sql stable as 'select exists(select 1 from c where id = $1)'; create operator ?! (rightarg = int, function = rd);
 create table gen (id int primary key, a int, b int generated always as (a*2) stored); insert into gen values (1,1);
 create function setter() returns text language plpgsql as $$ begin perform set_config('timezone','Asia/Tokyo',false); return 'x'; end $$;
 create table h (id int primary key, k text collate "C", n int); insert into h values (1,'a',1),(2,'b',2);`,
		[]afterWrite{
			{read: "select o is not null from o where qty=1", write: "update o set note=null where id=1"},
			{read: "select (o.*)::text from o where cust=1 order by id", write: "update o set note='z2' where id=4"},
			{read: "select row(o.*)::text from o where cust=1 order by id", write: "update o set note='z3' where id=4"},
			{read: "select max(q::text) from (select * from o) q", write: "update o set note='zz' where id=9"},
			{read: "select (select x from o x where id=4)::text", write: "update o set note='z4' where id=4"},
			{read: "select ((select x from o x where x.qty=4)).note", write: "update o set note='z5' where id=4"},
			{read: "select jsonb_agg(to_jsonb(o) - 'id')::text from o where cust=1", write: "update o set note='z6' where id=4"},
			{read: "select o_total(o) from o where cust=1 order by id", write: "update o set qty=40 where id=4"},
			{read: "select o.o_total from o where cust=1 order by id", write: "update o set qty=41 where id=4"},
			{read: "select sum(q) from o_tab(4)", write: "update o set qty=42 where id=4"},
			{read: "select note from o_all() where id=4", write: "update o set note='z7' where id=4"},
			{read: "select (o_all()).note", write: "update o set note='z8' where id=4"},
			{read: "select (c_of(1)).nm", write: "update c set name='k1' where id=1"},
			{read: "select nm from c_of(1)", write: "update c set name='k2' where id=1"},
			{read: "select immu(4)", write: "update o set note='z9' where id=4", passes: true},
			{read: "select deep(4)", write: "update o set note='za' where id=4", passes: true},
			{read: "select note from vo where id=4", write: "update c set id=10 where id=1"},
			{read: "select note from o where id=4", write: "update vupd set note='zc' where id=4"},
			{read: "select boss from c where id=2", write: "update c set id=20 where id=10"},
			{read: "select count(*) from l", write: "update c set name='kk' where id=0"},
			{read: "select max(id) from l", write: "insert into c values (50,'x',null)"},
			{read: "select count(*), 1 from l", write: "begin; update c set name='kq' where id=0; commit"},
			{read: "select (ad).street from a where id=1", write: "update a set ad.street='q' where id=1"},
			{read: "select ads[1].street from a", write: "update a set ads[1].street='q2' where id=1"},
			{read: "select (ads[1]).no from a where id=1", write: "update a set ads[1] = row('t',9) where id=1"},
			{read: "select tags[1] from o where id=4", write: "update o set tags[1]=77 where id=4"},
			{read: "select doc->>'a' from o where qty=42", write: "update o set doc['a']='5' where id=4"},
			{read: "select count(*) from l where w like 'TRUN%'", write: "truncate a"},
			{read: "select sum(v) from p", write: "update p1 set v=9 where x=2"},
			{read: "select sum(v) from only p", write: "update p set v=10 where id=1"},
			{read: "select v from p where id=2", write: "update only p1 set v=12"},
			{read: "select k from def where id=1", write: "insert into def default values"},
			{read: "select count(*) from def where k=5", write: "insert into def (id) values (2)"},
			{read: "select agg_sum(qty) from o", write: "update o set qty=43 where id=4"},
			{read: "select ?! 60", write: "insert into c values (60,'y',null)"},
			{read: "select b from gen where id=1", write: "update gen set a=4 where id=1"},
			{read: "select count(*) from gen where b=8", write: "update gen set a=5 where a=4"},
			{read: "select (E'\\x6eow'::timestamptz)::text", write: "select 1", passes: true},
			{read: "select (U&'\\006eow'::timestamptz)::text", write: "select 1", passes: true},
			{read: "select ('no'\n'w'::timestamptz)::text", write: "select 1", passes: true},
			{read: "select ($$now$$::timestamptz)::text", write: "select 1", passes: true},
			{read: "select (timestamptz $q$now$q$)::text", write: "select 1", passes: true},
			{read: "select ('{now}'::timestamptz[])::text", write: "select 1", passes: true},
			{read: "select cast('NoW' as timestamptz)::text", write: "select 1", passes: true},
			{read: "select (e'n\\157w'::timestamptz)::text", write: "select 1", passes: true},
			{read: "select n from h where k='a'", write: "update h set n=5 where k='a'"},
			{read: "select n from h where k='a' collate \"POSIX\"", write: "update h set n=6 where k='a'"},
			{read: "select count(*) from h where k in ('a','c')", write: "update h set k='c' where id=2"},
			{read: "select count(*) from o where (cust, qty) = (1, 43)", write: "update o set qty=44 where id=4"},
			{read: "select note from o where id = any(array(select 4))", write: "update o set note='zd' where id=4"},
			{read: "select note from o where id = all(array[4])", write: "update o set note='ze' where id=4"},
			{read: "select note from o where not id <> 4", write: "update o set note='zf' where id=4"},
			{read: "select note from o where id = 4 is true", write: "update o set note='zg' where id=4"},
			{read: "select note from o where 4 = any(array[id, 9])", write: "update o set note='zh' where id=4"},
			{read: "select note from o where id between symmetric 4 and 4", write: "update o set note='zi' where id=4"},
			{read: "select note from o where coalesce(id, 1) = 4", write: "update o set note='zj' where id=4"},
			{read: "select note from o where id = 4::numeric", write: "update o set note='zk' where id=4"},
			{read: "select note from o where id = '4'", write: "update o set note='zl' where id=4"},
			{read: "select note from o where id = 4.0", write: "update o set note='zm' where id=4"},
			{read: "select note from o where id = (select 4)", write: "update o set note='zn' where id=4"},
			{read: "select note from o where code = 'c4  '::char(6)", write: "update o set note='zo' where id=4"},
			{read: "select note from o where code = 'c4'", write: "update o set note='zp' where code='c4'::varchar(3)"},
			{read: "select note from o where day='2026-1-1' and id=4", write: "update o set note='zq' where id=4"},
			{read: "select count(*) from o where day='20260101' and note='zr'", write: "update o set note='zr' where day='2026-01-01' and id=4"},
			{read: "select count(*) from o where cust=7", write: "insert into o (id,cust) select 70, 7"},
			{read: "select count(*) from o where cust=8", write: "insert into o (id,cust) values (4, 8) on conflict (id) do update set cust=excluded.cust"},
			{read: "select count(*) from o where cust=9", write: "update o set (cust, qty) = (select 9, 9) where id=4"},
			{read: "select count(*) from o where cust=11", write: "update o set cust = 10 + 1 where id=4"},
			{read: "select count(*) from o where cust=12", write: "with w as (select 12 as x) update o set cust = w.x from w where id=4"},
			{read: "select count(*) from o where cust=13", write: "merge into o using (values (4)) v(i) on o.id=v.i when matched then update set cust=13"},
			{read: "select count(*) from o where cust=14", write: "insert into o(id,cust) values (4,14) on conflict on constraint o_pkey do update set cust=14"},
			{read: "select count(*) from o where cust=15", write: "begin; savepoint s; update o set cust=15 where id=4; rollback to s; update o set cust=15 where id=3; commit"},
			{read: "select count(*) from o where cust=16", write: "do $$ begin update o set cust=16 where id=4; end $$"},
			{read: "select count(*) from o where cust=17", write: "prepare pp(int) as update o set cust=$1 where id=4; execute pp(17); deallocate pp"},
			{read: "select count(*) from pg_class where relname='made1'", write: "create temp table made1()"},
			{read: "select count(*) from pg_tables where tablename='made2'", write: "create table made2()"},
			{read: "select obj_description('o'::regclass)", write: "comment on table o is 'hey'"},
			{read: "select rolname from pg_roles where rolname='zzr'", write: "create role zzr"},
			{read: "select reltuples from pg_class where relname='o'", write: "analyze o", passes: true},
			{read: "select relfilenode from pg_class where relname='a'", write: "truncate a", passes: true},
			{read: "select count(*) from information_schema.columns where table_name='made3'", write: "create table made3(a int)"},
			{read: "select table_name from information_schema.views where table_name = 'vnew'", write: "create view vnew as select 1 as x"},
			{read: "select string_agg(enumlabel,',') from pg_enum", write: "create type en as enum ('q')"},
			{read: "select count(*) from pg_description", write: "comment on column o.id is 'x'"},
			{read: "select indisclustered from pg_index where indexrelid='o_pkey'::regclass", write: "cluster o using o_pkey"},
			{read: "select pg_get_viewdef('vnew'::regclass)", write: "create or replace view vnew as select 2 as x"},
			{read: "select last_value from l_id_seq", write: "select nextval('l_id_seq')", passes: true},
			{read: "select x.note from o x left join lateral (select * from c where c.id=x.cust) y on y.name like 'k%' where x.id=4", write: "update o set note='zs' where id=4"},
			{read: "select count(y.id) from o x left join c y on y.id=0 and x.id=4", write: "update c set id=90 where id=0"},
			{read: "select count(y.name) from o x left join c y on y.name='kn'", write: "update c set name='kn' where id=90"},
			{read: "with recursive r as (select id, boss from c where id=90 union all select c.id, c.boss from c join r on c.boss=r.id) select count(*) from r", write: "update c set boss=90 where id=60"},
			{read: "select count(*) from (select id from o except select id from c) s", write: "insert into c values (1,'n',null)"},
			{read: "select first_value(note) over (order by id) from o limit 1", write: "update o set note='zt' where id=1"},
			{read: "select note from o order by qty desc nulls last limit 1", write: "update o set qty=500 where id=2"},
			{read: "select x from (values ((select max(qty) from o))) v(x)", write: "update o set qty=501 where id=2"},
			{read: "select case when exists(select 1 from c where name='kz') then 1 else 0 end", write: "update c set name='kz' where id=2"},
			{read: "select array(select note from o where cust=2 order by id)::text", write: "update o set note='zu' where id=5"},
			{read: "select note from o tablesample bernoulli (100) where id=4", write: "update o set note='zv' where id=4", passes: true},
			{read: "select xmlelement(name x, (select note from o where id=4))::text", write: "update o set note='zw' where id=4"},
			{read: "select xmlforest(o.note)::text from o where id=4", write: "update o set note='zx' where id=4"},
			{read: "select query_to_xml('select note from o where id=4', true, false, '')::text", write: "update o set note='zz' where id=4", passes: true},
			{read: "select table_to_xml('c', true, false, '')::text", write: "update c set name='kw' where id=2", passes: true},
			{read: "select * from ts_stat('select to_tsvector(note) from o')", write: "update o set note='zzz' where id=4", passes: true},
		},
	},
	"what stands behind names": {
		`create table o (id int primary key, k int, note text, qty int); insert into o select g, g%3, 'n'||g, g from generate_series(1,9) g; create table c (id int primary key, name text); insert into c select g, 'c'||g from generate_series(0,3) g; create table lg (id serial primary key, w text);
 create function g(int) returns int language plpgsql volatile as $$ begin insert into lg(w) values ('g'); return $1; end $$; create function f(int) returns int language plpgsql immutable as $$ begin return g($1); end $$;
 create table idx (id int, v int); create index on idx (f(id)); create table pidx (id int, v int); create index on pidx (id) where f(v) > 5; create table pk (id int, v int) partition by range (f(id)); create table pk1 partition of pk default; create table ex (id int, v int, exclude using btree (f(id) with =));
 create function atom() returns text language sql stable begin atomic select name from c where id = 1; end; create function lp() returns int language plpgsql stable as $$ declare s int := 0; r record; cur cursor for select qty from o; begin for r in select * from o loop s := s + r.qty; end loop; for r in cur loop s := s + r.qty; end loop; return s; end $$;
 create function nest() returns int language plpgsql stable as $$ begin return (select lp()) + coalesce((select max(id) from c), 0); exception when others then return -1; end $$; create function arr() returns int language plpgsql stable as $$ declare a int[] := array[1,2,3]; x record; begin a[(select min(id) + 1 from c)] := (select qty from o where id = 1); select * into x from c where id = 2; return a[1] + length(x.name); end $$;
 create function dyn(text) returns int language plpgsql stable as $$ declare n int; begin execute 'select count(*) from ' || $1 into n; return n; end $$;
 create function tocast(c) returns text language sql stable as 'select name || (select max(note) from o) from c where id = $1.id'; create cast (c as text) with function tocast(c); create type mo as (n int); create function tomo(int) returns mo language sql stable as 'select row(qty)::mo from o where id = $1'; create cast (int as mo) with function tomo(int);
 create function sfn(int, int) returns int language sql stable as 'select $1 + $2 * (select count(*)::int from c)'; create aggregate agg(int) (sfunc = sfn, stype = int, initcond = '0');
 create recursive view rv (n) as select min(id) from c union all select n + 1 from rv where n < (select max(id) from c); create view sb with (security_barrier) as select * from o where qty < (select max(id) * 10 from c); create materialized view mv as select count(*) as n from o; create unique index on mv (n);
 create table ri (id int, v int); create rule r1 as on insert to ri do instead insert into lg (w) values ('rule'); create table rd (id int); insert into rd values (1),(2); create rule r2 as on delete to rd do also update o set note = 'byrule' where id = old.id;
 create table pa (id int, k int, primary key (id, k)) partition by list (k); create table pa1 partition of pa for values in (1); create table pa2 partition of pa for values in (2); create table ch (id int, pid int, pk int default 1, foreign key (pid, pk) references pa on update cascade on delete set default); insert into pa values (1,1),(2,1); insert into ch values (1,1,1);
 create table dfl (id int primary key, n int default g(7)); create table dch (id int, d int default g(1) references dfl on delete set default); insert into dfl values (1,1),(2,2); insert into dch values (1,2);
 create table gc (id int primary key, a int, b int generated always as (f(a)) stored); create schema s2; create table s2.o (id int, note text); insert into s2.o values (1,'s2'); create function s2.sp() returns text language sql stable set search_path = s2 as 'select note from o'; create function wo() returns text language sql stable as 'select note from o where id = 1';
 create table vt (id int primary key, v varchar(3), t text collate "en-x-icu"); insert into vt values (1,'ab','Ä'),(2,'cd','b'); create table tz (id int, d date, ts timestamp, tt timestamptz); insert into tz values (1,'2026-01-01','2026-01-01','2026-01-01');
 create function trg_of() returns trigger language plpgsql as $$ begin if tg_argv[0] = 'x' then update c set name = 'bytrg' where id = 3; end if; return new; end $$; create trigger tof before update of note on o for each row when (new.note = 'fire') execute function trg_of('x');`,
		[]afterWrite{
			{read: "select count(*), 1 from lg", write: "insert into idx values (1,1)"},
			{read: "select count(*), 2 from lg", write: "update idx set id = 2"},
			{read: "select count(*), 3 from lg", write: "insert into pidx values (1,9)"},
			{read: "select count(*), 4 from lg", write: "insert into pk values (1,1)"},
			{read: "select count(*), 5 from lg", write: "insert into ex values (1,1)"},
			{read: "select count(*), 6 from lg", write: "insert into gc values (1,1)"},
			{read: "select atom()", write: "update c set name='a1' where id=1"},
			{read: "select lp()", write: "update o set qty=50 where id=5"},
			{read: "select nest()", write: "insert into c values (9,'x')"},
			{read: "select nest(), 1", write: "update o set qty=51 where id=5"},
			{read: "select arr()", write: "update o set qty=52 where id=1"},
			{read: "select arr(), 1", write: "update c set name='longer' where id=2"},
			{read: "select dyn('o')", write: "insert into o values (20)", passes: true},
			{read: "select c::text from c where id=1", write: "update o set note='zz' where id=2"},
			{read: "select (5::mo).n", write: "update o set qty=53 where id=5", passes: true},
			{read: "select cast(5 as mo)::text", write: "update o set qty=54 where id=5", passes: true},
			{read: "select count(*) from rv", write: "insert into c values (12,'y')"},
			{read: "select n from mv", write: "refresh materialized view concurrently mv"},
			{read: "select count(*), 7 from lg", write: "insert into ri values (1,1)"},
			{read: "select note from o where id=1", write: "delete from rd where id=1"},
			{read: "select pk from ch", write: "update pa set k=2 where id=1"},
			{read: "select count(*), 8 from lg", write: "delete from dfl where id=2"},
			{read: "select s2.sp()", write: "update s2.o set note='s3'"},
			{read: "select wo()", write: "update o set note='w1' where id=1"},
			{read: "select note from s2.o", write: "set search_path = s2, public; update o set note='s4'; reset search_path"},
			{read: "select v from vt where v='ab'", write: "update vt set v='ab ' where id=1"},
			{read: "select id from vt where t='b'", write: "update vt set t='b' where id=1"},
			{read: "select name from c where id=3", write: "update o set note='fire' where id=4"},
			{read: "select tt::text, ts::timestamptz::text from tz", write: "update tz set tt='2026-02-02', ts='2026-02-02'"},
			{read: "select d::timestamptz::text from tz where d = '2026-01-01'", write: "update tz set d='2026-03-03' where d='2026-01-01'"},
			{read: "select extract(epoch from tt) from tz", write: "update tz set tt='2026-02-03'"},
			{read: "select to_char(tt, 'YYYY') from tz", write: "update tz set tt='2027-02-03'"},
			{read: "select date_trunc('day', ts) from tz", write: "update tz set ts='2027-02-03'"},
			{read: "select ts at time zone 'Asia/Tokyo' from tz", write: "update tz set ts='2027-02-04'"},
			{read: "select generate_series(1, (select max(id) from c))", write: "insert into c values (13,'z')"},
			{read: "select * from generate_series(1, (select count(*) from c))", write: "insert into c values (14,'z')"},
			{read: "select (select array_agg(name order by id) from c where id > x.id)::text from o x where id=1", write: "update c set name='q' where id=13"},
			{read: "select x.id from o x where exists (select 1 from c where c.id = x.k and c.name = 'kk') order by 1", write: "update c set name='kk' where id=1"},
			{read: "select x.id from o x where x.k in (select id from c where name='kk') order by 1", write: "update c set name='kk' where id=2"},
			{read: "select x.id from o x where x.k = any(select id from c where name='kk') order by 1", write: "update c set name='ll' where id=2"},
			{read: "select x.id from o x where not exists (select from c where c.id=x.k) order by 1", write: "delete from c where id=0"},
			{read: "select (x).name from (select c as x from c where id=1) y", write: "update c set name='u1' where id=1"},
			{read: "select (y.x).name from (select c as x from c where id=1) y", write: "update c set name='u2' where id=1"},
			{read: "select y::text from (select id, name from c where id=1) y", write: "update c set name='u3' where id=1"},
			{read: "select y.z from (select x.name as z from c x where id=1) y", write: "update c set name='u4' where id=1"},
			{read: "select z from c x (y, z) where y = 1", write: "update c set name='u5' where id=1"},
			{read: "select z from (c join o on c.id=o.k) j (y, z) where y = 1 limit 1", write: "update c set name='u6' where id=1"},
			{read: "with w (a, b) as (select * from c) select b from w where a = 1", write: "update c set name='u7' where id=1"},
			{read: "with w as materialized (select * from c where id=1) select w.name from w, w x where x.id = w.id", write: "update c set name='u8' where id=1"},
			{read: "select c.name from c, lateral (select c.id + 0 as i) q where q.i = 1", write: "update c set name='u9' where id=1"},
			{read: "select max(name) filter (where id = 1) from c", write: "update c set name='zzz9' where id=1"},
			{read: "select count(*) from c group by (id = 1) having max(name) = 'ua' ", write: "update c set name='ua' where id=1"},
			{read: "select string_agg(name, ',' order by name) from c group by id % 2 order by 1 limit 1", write: "update c set name='aa0' where id=2"},
			{read: "select lag(name) over (order by id) from c order by id limit 3", write: "update c set name='ub' where id=2"},
			{read: "select distinct name from c where id in (1,2) order by 1", write: "update c set name='uc' where id=2"},
			{read: "select name from c where id=1 union select note from o where id=1 order by 1", write: "update o set note='ud' where id=1"},
			{read: "select name from c where id=1 intersect select note from o where id=1", write: "update c set name='ud' where id=1"},
			{read: "(select name from c where id=1) order by 1", write: "update c set name='ue' where id=1"},
			{read: "values ((select name from c where id=1))", write: "update c set name='uf' where id=1"},
			{read: "select case id when 1 then name end from c where id=1", write: "update c set name='ug' where id=1"},
			{read: "select coalesce(null, name) from c where id=1", write: "update c set name='uh' where id=1"},
			{read: "select greatest(name, 'a') from c where id=1", write: "update c set name='ui' where id=1"},
			{read: "select nullif(name, 'x') from c where id=1", write: "update c set name='uj' where id=1"},
			{read: "select name collate \"C\" from c where id=1", write: "update c set name='uk' where id=1"},
			{read: "select (array[name])[1] from c where id=1", write: "update c set name='ul' where id=1"},
			{read: "select row(name, 1)::text from c where id=1", write: "update c set name='um' where id=1"},
			{read: "select name is distinct from 'un' from c where id=1", write: "update c set name='un' where id=1"},
			{read: "select name like 'u_' from c where id=1", write: "update c set name='xxx' where id=1"},
			{read: "select name ~ '^u' from c where id=1", write: "update c set name='uo' where id=1"},
			{read: "select name similar to 'u%' from c where id=1", write: "update c set name='xxy' where id=1"},
			{read: "select substring(name from 1 for 1) from c where id=1", write: "update c set name='upp' where id=1"},
			{read: "select overlay(name placing 'Q' from 1) from c where id=1", write: "update c set name='uqq' where id=1"},
			{read: "select position('r' in name) from c where id=1", write: "update c set name='urr' where id=1"},
			{read: "select trim(both 'u' from name) from c where id=1", write: "update c set name='uss' where id=1"},
			{read: "select name || '' from c where id=1", write: "update c set name='utt' where id=1"},
			{read: "select format('%s', name) from c where id=1", write: "update c set name='uuu' where id=1"},
			{read: "select jsonb_build_object('n', name)->>'n' from c where id=1", write: "update c set name='uvv' where id=1"},
			{read: "select (to_jsonb(c)->>'name') from c where id=1", write: "update c set name='uww' where id=1"},
			{read: "select count(*) from c where c = row(1, 'uxx')::c", write: "update c set name='uxx' where id=1", passes: true},
			{read: "select count(*) from c where (id, name) in ((1, 'uyy'))", write: "update c set name='uyy' where id=1"},
			{read: "select count(*) from c where c is not null", write: "update c set name=null where id=1"},
			{read: "select unnest(array(select name from c where id=1))", write: "update c set name='v1' where id=1"},
			{read: "select * from unnest((select array_agg(name) from c where id=1)) u(n)", write: "update c set name='v2' where id=1"},
			{read: "select key, value from json_each_text((select row_to_json(c) from c where id=1)) order by 1", write: "update c set name='v3' where id=1"},
			{read: "select * from json_to_record((select row_to_json(c) from c where id=1)) as r(name text)", write: "update c set name='v4' where id=1", passes: true},
			{read: "select (json_populate_record(null::c, (select row_to_json(c) from c where id=1))).name", write: "update c set name='v5' where id=1", passes: true},
		},
	},
	"names like the system's": {
		`create table t (id int primary key, a int); insert into t values (1, 1); create view pg_mine as select * from t; create table pg_other (a int); insert into pg_other values (1);
		create view information_schema.mine as select * from t; create function pg_catalog.own_f() returns int language sql stable as 'select a from public.t'; create function pg_catalog.own_w() returns int language sql as 'update public.t set a = a + 1; select 1'`,
		[]afterWrite{
			{read: "select a from information_schema.mine", write: "update t set a = 5"},
			{read: "select own_f()", write: "update t set a = 6"},
			{read: "select pg_catalog.own_f()", write: "update t set a = 7"},
			{read: "select a, 1 from t", write: "select own_w()"},
			{read: "select a from pg_mine", write: "update t set a = 2"},
			{read: "select a from pg_other", write: "update pg_other set a = 3"},
		},
	},
}
