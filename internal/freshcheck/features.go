package freshcheck

import "fmt"

// feature is something that a generated world may have: what it adds to the schema, and, for a world that is about it,
// reads and writes that go with it.
type feature struct {
	name          string
	make          func(g *generator, pick func(...string) string)
	reads, writes []string
	sequences     []sequence
}

// sequence is what some clients do one after the other: a statement each, behind the number of the client and a colon,
// which is judged if it is a read of the world's.
type sequence []string

// hiddenKinds names a type that not everybody may use.
const hiddenKinds = "select max(s::hidden.kind)::text from kinds"

// renames has two roles change names.
const renames = "alter role {db}_a rename to {db}_x; alter role {db}_b rename to {db}_a; alter role {db}_x rename to {db}_b"

// features are all of them. Some are also names of what only tables have.
var features = []feature{
	{name: "parts", make: func(g *generator, _ func(...string) string) {
		g.add("create table moves (id serial primary key, what text)", "create function moved() returns trigger language plpgsql as $$ begin insert into moves (what) values (tg_op); return coalesce(new, old); end $$")
		if g.tables[1].parts {
			g.add("create trigger ins after insert on t1_high for each row execute function moved()", "create trigger del after delete on t1_low for each row execute function moved()")
		}
		g.reads = append(g.reads, "select count(*), max(id) from moves", "select count(*) from moves where what = 'INSERT'")
		g.writes = append(g.writes, "update t1 set k = 7 where id = {i}", "update t1 set k = 1 where id = {i}", "merge into t1 using (select {i} as id) v on t1.id = v.id when matched then update set k = 5")
	}, reads: []string{"select count(*), max(id) from moves", "select count(*) from moves where what = 'INSERT'"}, writes: []string{"update t1 set k = 7 where id = {i}", "update t1 set k = 1 where id = {i}"}},
	{name: "views", make: func(g *generator, pick func(...string) string) {
		for i := range 2 {
			sql, columns := g.q.query(1, nil, nil)
			name := pick("v", "pg_v", "shown") + fmt.Sprint(i)
			g.maybe = append(g.maybe, "create view "+name+" as "+sql)
			g.q.relations = append(g.q.relations, relation{name: name, columns: columns})
		}
	}},
	{name: "system names", make: func(g *generator, _ func(...string) string) {
		g.add("create table pg_mine (id int primary key, n int)", "insert into pg_mine select g, 0 from generate_series(0, 9) g", "create view information_schema.shown as select id, n from pg_mine")
		g.reads = append(g.reads, "select n from information_schema.shown where id = {i}")
		g.q.relations = append(g.q.relations, relation{"pg_mine", []column{{"id", 'n'}, {"n", 'n'}}, "pg_mine", true})
		g.writes = append(g.writes, "update pg_mine set n = {v} where id = {i}")
	}, reads: []string{"select n from pg_mine where id = {i}", "select sum(n) from information_schema.shown"}, writes: []string{"update pg_mine set n = {v} where id = {i}"}},
	{name: "functions", make: func(g *generator, _ func(...string) string) {
		g.add("create function f_sql(int) returns bigint language sql stable as 'select count(*) from t0 where id > $1'",
			"create function f_pl(int) returns bigint language plpgsql stable as $$ declare c bigint; begin select max(id) into c from t1 where id <> $1; return c; end $$",
			"create function f_row(t0) returns int language sql stable as 'select length($1::text)'", "create function f_rows() returns setof t0 language sql stable as 'select * from t0'",
			"create function f_write(int) returns int language plpgsql as $$ begin update t0 set id = id where id = $1; delete from t1 where id = $1; return 1; end $$",
			"create function f_hidden(int) returns int language plpgsql as $$ begin execute 'delete from t1 where id = ' || $1; return 1; end $$")
		g.q.functions = append(g.q.functions, "f_sql", "f_pl")
		g.q.rowOf = append(g.q.rowOf, "f_row t0")
		g.writes = append(g.writes, "select f_write({i})")
		g.wild = append(g.wild, "select f_hidden({i})")
	}},
	{name: "triggers", make: func(g *generator, pick func(...string) string) {
		g.add("create table log (id serial primary key, n int, s text)", "create function logs() returns trigger language plpgsql as $$ begin insert into log (n, s) values (1, tg_table_name); return coalesce(new, old); end $$",
			"create trigger logs "+pick("after", "before")+" "+pick("update", "insert or delete", "insert or update or delete")+" on t0 for each row execute function logs()")
		g.q.relations = append(g.q.relations, relation{"log", []column{{"id", 'n'}, {"n", 'n'}, {"s", 't'}}, "log", true})
	}},
	{name: "servers triggers", make: func(g *generator, _ func(...string) string) {
		g.add("create table docs (id int primary key, s text, v tsvector)", "create trigger fill before insert or update on docs for each row execute function tsvector_update_trigger(v, 'pg_catalog.simple', s)",
			"insert into docs (id, s) select g, 's' || g from generate_series(0, 9) g")
		g.q.relations = append(g.q.relations, relation{"docs", []column{{"id", 'n'}, {"s", 't'}}, "docs", true})
		g.reads = append(g.reads, "select count(*) from docs where v @@ 's1'::tsquery", "select v::text from docs order by id")
		g.writes = append(g.writes, "update docs set s = 's{v}' where id = {i}")
	}, reads: []string{"select count(*) from docs where v @@ 's1'::tsquery", "select max(v::text) from docs"}, writes: []string{"update docs set s = 's{v}' where id = {i}"}},
	{name: "type checks", make: func(g *generator, _ func(...string) string) {
		g.add("create table checked (id serial primary key, n int)", "create function checks(int) returns boolean language plpgsql as $$ begin insert into checked (n) values ($1); return true; end $$",
			"create domain small as int check (checks(value))", "create table uses (id int primary key, n small)", "insert into uses values (1, 1)",
			"create function by_variable(int) returns int language plpgsql as $$ declare x small := $1; begin return x; end $$", "create type pair as (a int, b small)", "create table pairs (id int, p pair)")
		g.reads = append(g.reads, "select count(*) from checked", "select max(n) from checked where id > 1")
		g.writes = append(g.writes, "update uses set n = {v} where id = 1", "insert into uses values ({i}, {v}) on conflict do nothing", "select by_variable({v})", "insert into pairs values ({i}, row(1, {v}))")
	}, reads: []string{"select count(*) from checked", "select max(n) from checked where id > 1"}, writes: []string{"update uses set n = {v} where id = 1", "select by_variable({v})"}},
	{name: "row security", make: func(g *generator, _ func(...string) string) {
		g.add("create table banned (id serial primary key, k int)", "alter table t0 enable row level security", "create policy part on t0 using (id not in (select k from banned where k is not null)) with check (true)")
		g.writes = append(g.writes, "insert into banned (k) values ({k})", "delete from banned where k = {k}")
	}},
	{name: "rules", make: func(g *generator, _ func(...string) string) {
		if !g.tables[0].parts {
			g.add("create table echoes (e serial primary key, id int, n int)", "create rule echo as on update to t0 do also insert into echoes (id, n) values (new.id, 1)")
			g.q.relations = append(g.q.relations, relation{"echoes", []column{{"e", 'n'}, {"id", 'n'}, {"n", 'n'}}, "echoes", true})
		}
	}},
	{name: "materialised", make: func(g *generator, _ func(...string) string) {
		g.add("create materialized view m as select id, count(*) as n from t0 group by id")
		g.q.relations = append(g.q.relations, relation{"m", []column{{"id", 'n'}, {"n", 'n'}}, "", true})
		g.writes = append(g.writes, "refresh materialized view m")
	}},
	{name: "now", make: func(g *generator, _ func(...string) string) {
		g.add("create function at_once() returns text language sql stable as $$ select ('now'::timestamptz)::text $$",
			"create function at_last() returns text language plpgsql stable as $$ declare x timestamptz := 'now'; begin return clock_text(x); end $$", "create function clock_text(timestamptz) returns text language sql stable as 'select $1::text'")
		g.reads = append(g.reads, "select at_once()", "select at_once() from t0 where id = {i}")
	}, reads: []string{"select at_once()", "select at_once() from t0 where id = {i}"}, writes: []string{"select 1"}},
	{name: "collations", make: func(g *generator, _ func(...string) string) {
		g.add("create collation alike (provider = icu, locale = 'und-u-ks-level2', deterministic = false)", "create table codes (c text collate alike primary key)", "insert into codes values ('A'), ('b'), ('S1')",
			"create table coded (id int primary key, code text, n int)", "insert into coded values (1, 'a', 0), (2, 'A', 0), (3, 's1', 0), (4, 'S1', 0), (5, 'b', 0), (6, 'B', 0)")
		g.q.relations = append(g.q.relations, relation{"coded", []column{{"id", 'n'}, {"code", 't'}, {"n", 'n'}}, "coded", true})
		g.reads = append(g.reads, "select n from coded where code = 'A'", "select n from coded where code = 'S1'")
		g.writes = append(g.writes, "update coded set n = {v} from codes where coded.code = codes.c and codes.c = 'a'", "update coded set n = {v} from codes o where o.c = code and o.c = 's1'")
	}, reads: []string{"select n from coded where code = 'A'", "select n from coded where code = 'S1'"}, writes: []string{"update coded set n = {v} from codes where coded.code = codes.c and codes.c = 'a'", "update coded set n = {v} from codes o where o.c = code and o.c = 's1'"}},
	{name: "far away", make: func(g *generator, _ func(...string) string) {
		g.add("create extension dblink", "create table far (id int primary key, n int)", "insert into far select g, 0 from generate_series(0, 9) g")
		g.reads = append(g.reads, "select n from far where id = {i}")
		g.writes = append(g.writes, "select dblink_exec('{self}', 'update far set n = {v} where id = {i}')")
	}, reads: []string{"select n from far where id = {i}", "select sum(n) from far"}, writes: []string{"begin", "select dblink_exec('{self}', 'update far set n = {v} where id = {i}')", "rollback"},
		sequences: []sequence{{"0:begin", "0:select dblink_exec('{self}', 'update far set n = {v} where id = {i}')", "1:select sum(n) from far", "0:rollback"}}},
	{name: "mixed types", make: func(g *generator, _ func(...string) string) {
		g.add("create table wide (id bigint primary key, n int)", "insert into wide values (9007199254740992, 0), (1, 0)")
		g.reads = append(g.reads, "select n, {p:9007199254740993}::float8 from wide where id = {p:9007199254740993}")
		g.writes = append(g.writes, "update wide set n = {v} where id = 9007199254740992")
	}, reads: []string{"select n, {p:9007199254740993}::float8 from wide where id = {p:9007199254740993}"}, writes: []string{"update wide set n = {v} where id = 9007199254740992"}},
	{name: "moments", make: func(g *generator, _ func(...string) string) {
		g.add("create table moments (id int primary key, z timestamptz, w int)", "insert into moments select g, '2026-01-01 00:00+00'::timestamptz + g * interval '3 hours', g from generate_series(0, 9) g")
		g.reads = append(g.reads, "select count(*) from moments where z >= '2026-01-01 08:00'", "select w from moments where id = {i}", "select count(*) from moments where w > 3")
		g.rare = append(g.rare, "alter table moments alter w type text", "alter table moments alter w type int using w::int")
	}, reads: []string{"select count(*) from moments where z >= '2026-01-01 08:00'", "select w from moments where id = 1"},
		writes: []string{"update moments set z = z + interval '1 hour' where id = {i}", "set time zone 'Asia/Tokyo'", "set time zone 'UTC'", "alter table moments alter w type text", "alter table moments alter w type int using w::int"},
		sequences: []sequence{
			{"0:begin", "0:set local time zone 'Asia/Tokyo'", "0:select count(*) from moments where z >= '2026-01-01 08:00'", "0:commit", "0:select count(*) from moments where z >= '2026-01-01 08:00'", "1:select count(*) from moments where z >= '2026-01-01 08:00'"},
			{"0:begin", "0:savepoint q", "0:set time zone 'Asia/Tokyo'", "0:select count(*) from moments where z >= '2026-01-01 08:00'", "0:rollback to q", "0:select count(*) from moments where z >= '2026-01-01 08:00'", "0:commit", "0:select count(*) from moments where z >= '2026-01-01 08:00'"},
		}},
	{name: "renamed roles", make: func(g *generator, _ func(...string) string) {
		g.add("create role {db}_a", "create role {db}_b", "create table owned (id int primary key, who oid, n int)", "insert into owned select g, r.oid, 0 from generate_series(0, 9) g join pg_roles r on r.rolname = case when g < 6 then '{db}_a' else '{db}_b' end",
			"alter table owned enable row level security", "create policy own on owned using (who = (select oid from pg_roles where rolname = current_user))", "grant select on owned to {db}_a, {db}_b")
		g.reads = append(g.reads, "select count(*), sum(n) from owned")
		g.rare = append(g.rare, renames)
	}, reads: []string{"select count(*), sum(n) from owned", "select id, n from owned where id in (1, 7)"}, writes: []string{"set role {db}_a", "set role {db}_b", "reset role", "reset role", renames}},
	{name: "whole rows", make: func(g *generator, _ func(...string) string) {
		g.add("create table whole (id int primary key, s text, n int, u text)", "insert into whole select g, 'a', 0, '' from generate_series(0, 9) g")
		g.q.relations = append(g.q.relations, relation{"whole", []column{{"id", 'n'}, {"s", 't'}, {"n", 'n'}, {"u", 't'}}, "whole", true})
		g.reads = append(g.reads, "select json_agg(w order by id)::text from whole w where s like 'a%'", "select z.y from whole z (x, y, w, v) where z.x > 3 and v is not null", "select max((w).to_jsonb::text) from whole w where s like 'a%'")
		g.writes = append(g.writes, "update whole set n = {v} where id = {i}", "update whole set u = 's{v}' where id = {i}")
	}, reads: []string{"select json_agg(w order by id)::text from whole w where s like 'a%'", "select max((w).to_jsonb::text) from whole w where s like 'a%'"}, writes: []string{"update whole set n = {v} where id = {i}", "update whole set u = 's{v}' where id = {i}"}},
	{name: "system columns", make: func(g *generator, _ func(...string) string) {
		g.add("create table held (id int primary key, n int)", "insert into held select g, 0 from generate_series(0, 9) g")
		g.reads = append(g.reads, "select xmax::text from held where id = {i}", "select max(ctid) from held")
		g.writes = append(g.writes, "select * from held where id = {i} for update", "select * from held where id = {j} for key share")
	}, reads: []string{"select xmax::text from held where id = {i}", "select max(xmin::text::int), max(ctid) from held"}, writes: []string{"select * from held where id = {i} for update", "begin; update held set n = {v} where id = {i}; rollback"}},
	{name: "shadows", make: func(g *generator, _ func(...string) string) {
		g.add("create table sh (id int primary key, who int, qty int)", "insert into sh select g, g % 3, g % 4 from generate_series(0, 9) g")
		g.q.relations = append(g.q.relations, relation{"sh", []column{{"id", 'n'}, {"who", 'n'}, {"qty", 'n'}}, "sh", true})
		g.reads = append(g.reads, "select count(*) from (select distinct on (who) * from sh order by who, id desc) x where qty = {k}", "select count(*) from (select who, max(qty) as qty from sh group by who) x where qty = {k}",
			"with x as (select *, row_number() over (partition by who order by id desc) as r from sh) select count(*) from x where r = 1 and qty = {k}",
			"select (select sum(qty) from sh) from generate_series(1, 3) x (id) where id = {k}", "select (select max(who) from sh) from (values (1), (2)) x (qty) where qty = {k}")
		g.writes = append(g.writes, "insert into sh (id, who, qty) values ({v}, {k}, {k})", "update sh set qty = {k} where id = {i}", "update sh set who = {k} where qty = {k}")
	}, reads: []string{"select count(*) from (select distinct on (who) * from sh order by who, id desc) x where qty = {k}", "select count(*) from (select who, max(qty) as qty from sh group by who) x where qty = {k}",
		"select (select sum(qty) from sh) from generate_series(1, 3) x (id) where id = {k}"}, writes: []string{"insert into sh (id, who, qty) values ({v}, {k}, {k})", "update sh set qty = {k} where id = {i}"}},
	{name: "privileges", make: func(g *generator, _ func(...string) string) {
		g.add("create schema hidden", "create type hidden.kind as enum ('a', 'b', 'c', 'A', 's1')", "create function hidden.same(int, int) returns boolean language sql immutable as 'select $1 = $2'", "create operator === (leftarg = int, rightarg = int, function = hidden.same)",
			"revoke execute on function hidden.same(int, int) from public", "create table kinds (id int primary key, s text)", "insert into kinds select g, 'a' from generate_series(0, 9) g")
		g.reads = append(g.reads, "select s::hidden.kind::text from kinds where id = {i}", "select count(*) from kinds where id === {i}", hiddenKinds)
		g.writes = append(g.writes, "update kinds set s = 'b' where id = {i}")
	}, reads: []string{"select s::hidden.kind::text from kinds where id = {i}", "select count(*) from kinds where id === {i}", hiddenKinds}, writes: []string{"set role " + role, "reset role", "update kinds set s = 'b' where id = {i}"},
		sequences: []sequence{{"0:reset role", "0:" + hiddenKinds, "0:" + hiddenKinds, "1:set role " + role, "1:" + hiddenKinds, "1:" + hiddenKinds, "1:reset role"}}},
	{name: "blind", make: func(g *generator, _ func(...string) string) {
		g.add("create table blind (id int primary key, n int)", "insert into blind values (1, 0)", "create function steps() returns int language plpgsql as $$ begin update blind set n = n + 1; return 1; end $$", "create view stepping as select steps() as x")
		g.reads = append(g.reads, "select n from blind where id = 1", "select sum(n) from blind")
		g.writes = append(g.writes, "select x from stepping")
		g.rare = append(g.rare, "create schema made{v}")
	}, reads: []string{"select n from blind where id = 1", "select sum(n) from blind"}, writes: []string{"create schema made{v}", "select x from stepping", "begin", "select x from stepping", "commit"},
		sequences: []sequence{{"0:begin", "1:create schema made{v}", "0:select x from stepping", "2:select sum(n) from blind", "2:select sum(n) from blind", "0:commit", "2:select sum(n) from blind"}}},
	{name: "definitions", make: func(g *generator, _ func(...string) string) {
		g.add("create table d0 (id int primary key, n int)", "insert into d0 select g, 0 from generate_series(0, 9) g", "create table d1 (id int primary key, n int)", "insert into d1 select g, 0 from generate_series(0, 9) g",
			"create function noted() returns trigger language plpgsql as $$ begin update d0 set n = n + 1; return new; end $$", "create schema north",
			"create function bumps() returns int language plpgsql as $$ begin update d0 set n = n + 1; return 1; end $$", "create table dz (id int primary key, up int references d1 on delete cascade)", "insert into dz select g, g from generate_series(0, 9) g")
		g.reads = append(g.reads, definedReads...)
		g.writes = append(g.writes, "update d0 set n = {v} where id = {i}", "update d1 set n = {v} where id = {i}")
		g.rare = append(g.rare, definitions...)
	}, reads: definedReads, writes: append([]string{"update d0 set n = {v} where id = {i}", "update d1 set n = {v} where id = {i}", "insert into d1 values ({v}, 1)", "insert into dn values ({v}, {i})", "delete from d0 where id = {i}",
		"insert into d0 values ({i}, 0) on conflict do nothing", "insert into dc values (100 + {i}, 5)", "update dr set n = {v}", "select x from dw", "delete from d1 where id = {i}", "insert into d1 values ({i}, 0) on conflict do nothing", "insert into dz values ({i}, {i}) on conflict do nothing", "begin", "commit", "rollback", "commit"}, definitions...),
		sequences: []sequence{
			{"0:create table if not exists dn (id int primary key, up int references d0 on delete cascade)", "1:insert into dn values ({v}, {i})", "0:begin", "0:delete from d0 where id = {i}", "1:select count(*) from dn", "1:select count(*) from dn", "0:commit", "1:select count(*) from dn"},
			{"0:create or replace view dw as select bumps() as x", "1:select sum(n), count(*) from d0", "2:select x from dw", "1:select sum(n), count(*) from d0"},
			{"0:update d1 set n = 5", "0:alter table d1 add constraint fk foreign key (n) references d0 on delete cascade", "1:select count(*) from dz", "1:select count(*) from dz", "2:delete from d0 where id = 5", "1:select count(*) from dz", "0:alter table d1 drop constraint if exists fk"},
			{"0:begin", "0:create or replace trigger tr after insert on d1 for each row execute function noted()", "1:select sum(n), count(*) from d0", "0:commit", "2:insert into d1 values ({v}, 1)", "1:select sum(n), count(*) from d0"},
			{"0:set search_path = north, public", "0:select n from d0 where id = {i}", "0:select n from d0 where id = {i}", "1:create table north.d0 as select id, 77 as n from public.d0", "0:select n from d0 where id = {i}", "0:select n from d0 where id = {i}", "1:drop table north.d0", "0:select n from d0 where id = {i}", "0:reset search_path"},
			{"1:drop schema north cascade", "0:set search_path = north, public", "0:select n from d0 where id = {i}", "0:select n from d0 where id = {i}", "1:create schema north", "1:create table north.d0 as select id, 78 as n from public.d0", "0:select n from d0 where id = {i}", "0:select n from d0 where id = {i}", "1:update north.d0 set n = {v}", "0:select n from d0 where id = {i}", "1:drop table north.d0", "0:reset search_path"},
		}},
}

// definitions are some that concern one relation or two, and definedReads what may rest on these.
var (
	definitions = []string{"create table if not exists dn (id int primary key, up int references d0 on delete cascade)", "drop table if exists dn", "drop table if exists dn cascade",
		"create or replace trigger tr after insert on d1 for each row execute function noted()", "drop trigger if exists tr on d1", "create or replace view dv as select sum(n) as n from d0", "create or replace view dv as select sum(n) as n from d1",
		"drop view if exists dv", "create or replace view dw as select bumps() as x", "drop view if exists dw", "alter table d1 add constraint fk foreign key (n) references d0 on delete cascade", "alter table d1 drop constraint if exists fk", "alter table d1 rename to dr", "alter table dr rename to d1", "alter table d0 add column if not exists x int default 3", "alter table d0 drop column if exists x",
		"create table if not exists north.d0 as select id, 55 as n from public.d0", "drop table if exists north.d0", "create table if not exists dc () inherits (d0)", "drop table if exists dc", "create unique index if not exists du on d1 (id, n)",
		"drop index if exists du", "alter table d0 alter n type bigint", "alter table d0 alter n type int", "alter table d0 rename n to m", "alter table d0 rename m to n", "set search_path = north, public", "reset search_path"}
	definedReads = []string{"select n from d0 where id = {i}", "select sum(n), count(*) from d0", "select n from dv", "select count(*) from dn", "select n from d1 where id = {i}", "select count(*), sum(n) from dr", "select * from d0 where id = {i}",
		"select up from dn where id < 5", "select count(*) from dc", "select count(*) from dz", "select up from dz where id = {i}"}
)
