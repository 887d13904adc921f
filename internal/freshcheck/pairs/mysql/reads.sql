select * from boats order by id
select id, name from boats where id = 1
select name from boats where name = 'Auk'
select name from boats where name = 'auk'
select seats from boats where id in (1, 2) order by 1
select max(seats), min(seats), sum(seats), avg(seats) from boats
select g, gp from boats order by id
select g from boats where id = 1
select ci from boats where ci = 'abc' order by id
select cs from boats where cs = 'abc' order by id
select l1 from boats where l1 = 'E' order by id
select c, length(c), concat(c, '|') from boats order by id
select z, bits + 0, y, hex(bin) from boats order by id
select f, price from boats where price = 1.5 order by id
select mood, mood + 0, flags + 0 from boats order by mood, id
select json_value(j, '$.a') from boats order by id
select t.* from boats, json_table(j, '$' columns (a int path '$.a')) t order by 1 -- uncached
select d, dayname(d), monthname(d), date_format(d, '%W %M') from boats order by id
select tm, ts from boats order by id
select unix_timestamp(ts) from boats order by id
select ts from boats where ts > '2027-03-01 09:00:00' order by id
select note from boats where note < '2027-06-01' order by id
select count(*) from sailings
select boat_id, sum(free) from sailings group by boat_id with rollup
select free from sailings where boat_id = 1 order by id
select * from bookings order by id
select who from bookings where who = 'ann'
select who from bookings where who = 'ANN'
select who from bookings where sailing_id is null
select count(*) from audit
select what from audit order by id
select * from parts order by k
select v from parts where k = 11
select v from parts partition (p0)
select * from plain_part order by k
select sum(v) from hashed
select v from hashed where k = 3
select * from v1 order by id
select * from v2 order by id
select * from v3 order by id
select name from v3 where id = 1
select m from v4
select name, free from v5 order by 1, 2
select n from v6
select * from merged order by id -- uncached
select v from merged_a where id = 1
select * from merged_b
select * from mem
select * from aria_t
select * from csv_t
select * from versioned order by id
select count(*) from versioned for system_time all -- uncached
select v from versioned where id = 1
select * from periods order by id, s
select v from periods where id = 1 order by s
select id from texts where match (body) against ('boat') order by id
select id, st_astext(at) from places order by id
select id from places where st_within(at, st_geomfromtext('polygon((0 0, 0 5, 5 5, 5 0, 0 0))')) order by id
select id, a, u from nets
select id from nets where a = '::1'
select * from tree order by id
with recursive t as (select id, up, 1 as depth from tree where up is null union all select x.id, x.up, depth + 1 from tree x join t on x.up = t.id) select id, depth from t order by id
select * from checked
select v from checked where id = 1
select `from` from `Odd Name` where `Sel ect` = 1
select a, b from nokey order by a, b
select b from nokey where a = 1 order by b
select v from two_keys where a = 1
select v from two_keys where b = 2
select column_get(d, 'a' as int) from dyn -- uncached
select * from stamped
select id, d, e from bigs
select id from bigs where id = 18446744073709551615
select next_not_cached_value from sq -- uncached
select f_sql(1) -- uncached
select f_pl(1) -- uncached
select f_pl(id) from boats order by id -- uncached
select f_pure(3) -- uncached
select f_lie(1) -- uncached
select f_nested(1) -- uncached
select f_var() -- uncached
call p_read(1) -- uncached
select name from {db}_n.boats
select name from {db}_n.vv order by 1
select {db}_n.f_far(9) -- uncached
select k from cols_ci where k = 'ann'
select k from refs_text order by id
select k from gen_key where k = 5
select id from gen_key where json_value(doc, '$.k') = 5
select * from hidden
select id, secret from hidden
select v from comp
select v from with_default order by id
select exists (select 1 from bookings where who = 'zed')
select (select count(*) from bookings) + (select count(*) from sailings)
select b.name, (select count(*) from sailings s where s.boat_id = b.id) from boats b order by 1, 2
select name, seats, count(*) over (partition by seats) from boats
select id from boats union select id from sailings order by 1
select id from boats except select boat_id from sailings order by 1
select id from boats intersect select boat_id from sailings order by 1
select id from boats where id > all (select boat_id from sailings where boat_id < 3) order by 1
select group_concat(name order by name) from boats
select json_arrayagg(name order by id) from boats -- uncached
select coalesce((select name from boats where id = 77), 'none')
select name from boats where (id, seats) in (select boat_id, 10 from sailings)
select count(if(seats > 15, 1, null)) from boats
select b.name from boats b where b.name like 'A%'
select b.name from boats b where b.name regexp '^a' order by 1
select name from boats where lower(name) = 'auk'
select id, name from boats where find_in_set(id, '1,3') order by 1
select s.id from sailings s where s.boat_id = 1 and s.id = 2
select a.id from audit a where a.id = 1
select * from boats natural join (select id from bookings) q order by id
select distinct seats from boats order by 1
select seats, count(*) from boats group by seats having count(*) > 0 order by 1
select name from boats order by seats desc, id limit 1
select name from boats order by id limit 1 offset 1
select sql_calc_found_rows id from boats order by id limit 1 -- uncached
select sql_no_cache id from boats order by id
select straight_join b.id, s.id from boats b join sailings s on s.boat_id = b.id order by 1, 2
select b.id from boats b use index (primary) where id = 1
select 1 from dual -- uncached
select database(), schema() -- uncached
select user(), current_user(), session_user() -- uncached
select @@sql_mode -- uncached
select @@time_zone, @@session.character_set_results -- uncached
select @v -- uncached
select 'a' = 'A', 'a' < 'B' -- uncached
select 'a' || 'b' -- uncached
select "boats" -- uncached
select 10 / 0 -- uncached
select cast('2027-02-30' as date) -- uncached
select version() > '' -- uncached
select charset('x'), collation('x') -- uncached
select 'straße' = 'strasse' -- uncached
select connection_id() > 0 -- uncached
select found_rows() -- uncached
select row_count() -- uncached
select last_insert_id() -- uncached
select current_role() -- uncached
values (1, 2), (3, 4) -- uncached
(select 1) union all (select count(*) from boats)
select table_name from information_schema.tables where table_schema = database() order by 1 -- uncached
select column_name, column_type from information_schema.columns where table_schema = database() and table_name = 'boats' order by ordinal_position -- uncached
select table_name, view_definition from information_schema.views where table_schema = database() order by 1 -- uncached
select routine_name, routine_definition from information_schema.routines where routine_schema = database() order by 1 -- uncached
select trigger_name, action_statement from information_schema.triggers where trigger_schema = database() order by 1 -- uncached
select index_name, column_name from information_schema.statistics where table_schema = database() and table_name = 'sailings' order by 1, 2 -- uncached
select constraint_name, table_name from information_schema.table_constraints where constraint_schema = database() order by 1, 2 -- uncached
select partition_name from information_schema.partitions where table_schema = database() and table_name = 'parts' order by 1 -- uncached
select schema_name from information_schema.schemata where schema_name like '{db}%' order by 1 -- uncached
select user, host from mysql.user where user like '{db}%' order by 1 -- uncached
select privilege_type from information_schema.schema_privileges where grantee like '%{db}_u%' order by 1 -- uncached
select db, user, select_priv from mysql.db where db like '{db}%' order by 1, 2 -- uncached
select auto_increment from information_schema.tables where table_schema = database() and table_name = 'boats' -- uncached
show tables -- uncached
show create table boats -- uncached
show create view v1 -- uncached
show full columns from boats -- uncached
show index from sailings -- uncached
show triggers -- uncached
show create function f_pure -- uncached
show variables like 'sql_mode' -- uncached
show warnings -- uncached
show grants -- uncached
show databases like '{db}%' -- uncached
describe boats -- uncached
explain select * from boats where id = 1 -- uncached
select s.id, b.name from sailings s left join boats b on b.id = s.boat_id where 0
select /*! straight_join */ name from boats where id = 2 -- uncached
select /*+ no_bnl() */ name from boats where id = 3
select name from boats where id = 1 -- remark
select name from boats where id = '1'
select name from boats where id = 1.0
select name from boats where id = '1x' -- uncached
select name from boats where id = 0x31
select name from boats where id = true
select name from boats where name = binary 'Auk'
select name from boats where name = 'Auk ' order by 1
select name from boats where name = _latin1'Auk' order by 1
select name from boats where name collate utf8mb4_bin = 'auk'
select name from boats where d = 20270301 order by 1
select name from boats where mood = 1 order by 1
select b.id from boats b where b.id between 1 and 2 order by 1
select b.id from boats b where b.id <=> 1
select boats.id from {db}.boats where {db}.boats.id = 2
select v from two_keys where a = 1 or b = 2 order by v
select free from sailings force index (boat_id) where boat_id = 2
