create role {db}_a
create role {db}_b
create extension if not exists pgcrypto; create extension if not exists hstore; create extension if not exists citext; create extension if not exists pg_trgm;create extension if not exists ltree; create extension if not exists unaccent; create extension if not exists fuzzystrmatch; create extension if not exists tablefunc; create extension if not exists btree_gin; create extension if not exists intarray; create extension if not exists "uuid-ossp"
create type mood as enum ('calm','windy')
create domain posint as int check (value > 0)
create type pairt as (a int, b text)
create table boats (id serial primary key, name text not null, seats int, m mood default 'calm', tags text[] default '{}', j jsonb default '{}', d date default '2027-03-01', tz timestamptz default '2027-03-01 10:00+00', note text, p posint default 1, ci citext, h hstore, lt ltree, c char(5) default 'ab', nm numeric(10,2) default 1.5)
insert into boats (name, seats, note, ci, h, lt) values ('Auk', 10, 'today', 'AbC', 'a=>1', 'a.b'), ('Bonxie', 20, '2027-01-01', 'x', 'b=>2', 'a.c'), ('Coot', 30, null, null, null, null)
create table sailings (id int primary key generated always as identity, boat_id int references boats(id) on delete cascade on update cascade, at timestamptz default '2027-03-02', left_seats int default 5, price numeric default 10, gen int generated always as (left_seats*2) stored)
insert into sailings (boat_id) values (1),(1),(2),(3)
create table bookings (id bigserial primary key, sailing_id int references sailings(id) on delete set null, who text, unique(who))
insert into bookings (sailing_id, who) values (1,'ann'),(2,'bo'),(3,'cy')
create table audit (id serial, what text)
create function tr() returns trigger language plpgsql as $$ begin insert into audit(what) values (tg_table_name||tg_op); return coalesce(new, old); end $$
create trigger t1 after insert or update or delete on bookings for each row execute function tr()
create table parts (k int, v text) partition by range (k)
create table parts1 partition of parts for values from (0) to (10)
create table parts2 partition of parts for values from (10) to (20)
create table parts_d partition of parts default
insert into parts values (1,'a'),(11,'b'),(99,'z')
create table par (id int, x int); create table chi (y int) inherits (par)
insert into par values (1,1); insert into chi values (2,2,2)
create view v1 as select b.id, b.name, count(s.id) n from boats b left join sailings s on s.boat_id=b.id group by b.id
create view v2 with (security_barrier) as select * from v1 where n > 0
create materialized view mv as select count(*) c from boats; create unique index on mv(c)
create function f_sql(int) returns bigint language sql stable as $$ select count(*) from sailings where boat_id = $1 $$
create function f_pl(int) returns text language plpgsql stable as $$ declare r text; begin select name into r from boats where id=$1; return r; end $$
create function f_imm(int) returns int language sql immutable as $$ select $1 + 1 $$
create function f_lie(int) returns bigint language sql immutable as $$ select count(*) from bookings where sailing_id=$1 $$
create function f_set() returns setof boats language sql stable as $$ select * from boats $$
create function f_dyn(text) returns bigint language plpgsql stable as $$ declare r bigint; begin execute 'select count(*) from '||$1 into r; return r; end $$
create function f_w() returns int language plpgsql as $$ begin update boats set seats = seats+1 where id=1; return 1; end $$
create procedure p_w() language plpgsql as $$ begin update sailings set left_seats = left_seats-1; commit; update boats set seats=seats-1; end $$
create aggregate agg_cat(text) (sfunc = textcat, stype = text, initcond = '')
create function op_f(boats, int) returns bool language sql stable as $$ select exists(select 1 from sailings where boat_id=$1.id and left_seats>$2) $$
create operator ~>~ (leftarg=boats, rightarg=int, function=op_f)
create sequence sq
create table rls (id int, own text); insert into rls values (1,'postgres'),(2,'x'); alter table rls enable row level security; alter table rls force row level security
create policy pp on rls using (id in (select seats/10 from boats) )
create rule rr as on insert to audit do also update par set x = x + 1
create table unl (id int primary key, v text default 'u'); insert into unl values (1)
create table "Odd Name" ("Sel ect" int primary key, "from" text); insert into "Odd Name" values (1,'q')
create table dflt (id int default nextval('sq'), v int default 7)
insert into dflt values (1,1)
create table deferr (id int primary key, ref int references boats(id) deferrable initially deferred); insert into deferr values (1,1)
create table excl (r int4range, exclude using gist (r with &&)); insert into excl values ('[1,5)')
create table arr (id int primary key, a int[], b pairt, bs pairt[]); insert into arr values (1,'{1,2}',row(1,'x'),array[row(2,'y')::pairt])
create schema s2; create table s2.boats (id int, name text); insert into s2.boats values (9,'Nine')
create view s2.vv as select * from public.boats
create statistics st1 on name, seats from boats
create table tree (id int primary key, up int references tree(id) on delete cascade); insert into tree values (1,null),(2,1),(3,2)
create table trunc_a (id int primary key); create table trunc_b (id int references trunc_a); insert into trunc_a values (1); insert into trunc_b values (1)
