-- Skerrow Ferries with every kind of dependency that a statement's text does not show.
create type weather as enum ('calm', 'breezy', 'rough');
create domain seats as int check (value >= 0);
create extension if not exists pg_trgm;

create table ports (id int primary key, name text not null unique, harbour_master text);
create table vessels (id int primary key, name text not null, seats seats not null default 100, code uuid);
create table routes (id int primary key, origin int not null references ports on update cascade, destination int not null references ports on delete cascade);
create table sailings (id int primary key, route_id int not null references routes on delete cascade, vessel_id int references vessels on delete set null,
  departs_at timestamptz not null, state text not null default 'open', sky weather, free_seats int generated always as (100 - 0 * id) stored);
create table fares (id int generated always as identity primary key, route_id int references routes, class text not null, price numeric(8,2) not null);
create table passengers (id int primary key, name text not null, email text);
create table bookings (id int primary key, sailing_id int not null references sailings, passenger_id int references passengers, seats int not null default 1);
create table notices (id int primary key, port_id int, body text not null);
create table tide_readings (port_id int not null, taken_at timestamptz not null, level numeric not null, primary key (port_id, taken_at)) partition by range (taken_at);
create table tides_2026 partition of tide_readings for values from ('2026-01-01') to ('2027-01-01');
create table tides_2027 partition of tide_readings for values from ('2027-01-01') to ('2028-01-01');
create table staff (id int primary key, name text not null);
create table crew (vessel_id int, rank text) inherits (staff);
create table audit (at timestamptz default now(), what text);
create table counters (name text primary key, n int not null);
create table archive (id int, body text);
create table secrets (id int primary key, owner name not null, body text);
create table grants_of (role name, may boolean);
create table tariff (id int primary key, day timetz);
create sequence ticket_numbers;

create schema north;
create table north.ports (id int primary key, name text);
create table north.quays (id int primary key, port_id int);

create view open_sailings as select s.id, s.departs_at, v.name as vessel from sailings s left join vessels v on v.id = s.vessel_id where s.state = 'open';
create view board as select o.id, o.vessel, r.origin from open_sailings o join sailings s on s.id = o.id join routes r on r.id = s.route_id;
create view today as select * from sailings where departs_at::date = current_date;
create view plain_ports as select id, name from ports;
create view activity as select pid, query from pg_stat_activity;
create view north.board as with ports as (select * from north.ports) select p.name, q.id from ports p join north.quays q on q.port_id = p.id;
create view of_function as select f.n from (select 1 as n) f where f.n < 5;
create materialized view busy as select sailing_id, sum(seats) as seats from bookings group by 1;

create function route_name(r int) returns text language sql stable as $$ select p.name from routes t join ports p on p.id = t.origin where t.id = r $$;
create function way_from(p ports) returns bigint language sql stable as $$ select count(*) from routes where origin = p.id $$;
create function load_of(s int) returns int language plpgsql as $$
declare n int := (select count(*) from bookings where sailing_id = s); cap vessels.seats%type;
begin
  select v.seats into cap from sailings x join vessels v on v.id = x.vessel_id where x.id = s;
  if cap is null then return 0; end if;
  return n * 100 / cap;
end $$;
create function nested_load(s int) returns int language sql as $$ select load_of(s) + 1 $$;
create function atomic_count() returns bigint language sql stable begin atomic select count(*) from notices; end;
create function dynamic(t text) returns bigint language plpgsql stable as $$ declare n bigint; begin execute 'select count(*) from ' || t into n; return n; end $$;
create function doubled(n int) returns int language sql immutable as $$ select n * 2 $$;
create function count_up(what text) returns int language sql as $$ insert into counters values (what, 1) on conflict (name) do update set n = counters.n + 1 returning n $$;
create function zone_now() returns timestamptz language sql stable as $$ select now() $$;
create function set_zone() returns text language sql as $$ select set_config('TimeZone', 'UTC', false) $$;
create function fill_archive() returns trigger language plpgsql as $$ begin insert into archive values (old.id, old.body); return old; end $$;
create function note_booking() returns trigger language plpgsql as $$
begin
  update counters set n = n + new.seats where name = 'seats';
  perform count_up('bookings');
  return new;
end $$;
create function dynamic_trigger() returns trigger language plpgsql as $$ begin execute 'insert into audit (what) values (''x'')'; return null; end $$;
create function insert_open() returns trigger language plpgsql as $$ begin insert into sailings (id, route_id, departs_at) values (new.id, 1, new.departs_at); return new; end $$;
create procedure tidy() language plpgsql as $$ begin delete from notices where id < 0; commit; end $$;
create procedure tidy_more() language sql as $$ delete from archive where id < 0 $$;
create function add_state(a int, b int) returns int language sql immutable as $$ select a + b $$;
create aggregate total_of (int) (sfunc = add_state, stype = int, initcond = '0');
create function near(a int, b int) returns boolean language sql stable as $$ select exists (select 1 from ports where id = a - b) $$;
create operator <~> (leftarg = int, rightarg = int, function = near);
create function checked(x text) returns boolean language sql as $$ select not exists (select 1 from notices where body = x) $$;
create domain unseen as text check (checked(value));
create function may_see(r name) returns boolean language sql stable as $$ select coalesce((select may from grants_of where role = r), true) $$;
create function loyalty_points(p int) returns int language plpgsql stable as $$ declare n int; begin execute 'select count(*) from bookings where passenger_id = $1' into n using p; return n; end $$;

create trigger keeps_notices before delete on notices for each row execute function fill_archive();
create trigger counts_bookings after insert or update on bookings for each row execute function note_booking();
create trigger audits after update on passengers for each statement execute function dynamic_trigger();
create trigger into_open instead of insert on open_sailings for each row execute function insert_open();
create rule fares_log as on insert to fares do also insert into audit (what) values ('fare');
create rule no_tariff as on delete to tariff do instead nothing;

alter table secrets enable row level security;
create policy own on secrets using (owner = current_user and may_see(current_user));
alter table grants_of enable row level security;
create policy all_of_it on grants_of using (true);

insert into ports select i, 'port ' || i from generate_series(1, 9) i;
insert into vessels select i, 'vessel ' || i, 100 + i from generate_series(1, 4) i;
insert into routes select i, i, i % 4 + 1 from generate_series(1, 9) i;
insert into sailings (id, route_id, vessel_id, departs_at, sky) select i, i % 9 + 1, i % 4 + 1, timestamptz '2026-06-01' + i * interval '1 hour', 'calm' from generate_series(1, 60) i;
insert into passengers select i, 'passenger ' || i, 'p' || i || '@skerrow.example' from generate_series(1, 20) i;
insert into fares (route_id, class, price) select i, 'foot', 12.5 from generate_series(1, 9) i;
insert into bookings select i, i % 60 + 1, i % 20 + 1, 1 from generate_series(1, 50) i;
insert into notices select i, i % 9 + 1, 'notice ' || i from generate_series(1, 9) i;
insert into tide_readings select p, timestamptz '2026-12-31 12:00' + h * interval '1 hour', 2.5 from generate_series(1, 3) p, generate_series(1, 24) h;
insert into staff select i, 'staff ' || i from generate_series(1, 5) i;
insert into crew select i + 10, 'crew ' || i, 1, 'deck' from generate_series(1, 5) i;
insert into counters values ('seats', 0) on conflict do nothing;
insert into secrets values (1, current_user, 'a'), (2, 'somebody', 'b');
insert into grants_of select current_user, true;
insert into north.ports values (1, 'north port');
insert into north.quays values (1, 1);
refresh materialized view busy;
analyze;
