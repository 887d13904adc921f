-- No aggregate function of its own: one that is prepared ends MariaDB 10.11 when its table is hidden by a temporary one.
create table boats (id int primary key auto_increment, name varchar(40) not null, seats int default 10, mood enum('calm','windy') default 'calm', flags set('wifi','cafe') default 'wifi', j json default '{"a": 1}', d date default '2027-03-01', tm datetime(3) default '2027-03-01 10:00:00', ts timestamp default '2027-03-01 10:00:00', note text, c char(5) default 'ab', price decimal(10,2) default 1.5, f float default 1.25, z int(5) zerofill default 7, bits bit(8) default b'101', y year default 2027, bin varbinary(8) default 'x', g int as (seats * 2) virtual, gp int as (seats + 1) persistent, ci varchar(20) collate utf8mb4_general_ci default 'AbC', cs varchar(20) collate utf8mb4_bin default 'AbC', l1 varchar(20) character set latin1 default 'e')
insert into boats (name, seats, note) values ('Auk', 10, 'today'), ('Bonxie', 20, '2027-01-01'), ('Coot', 30, null)
create table sailings (id int primary key auto_increment, boat_id int, at datetime default '2027-03-02', free int default 5, price decimal(8,2) default 10, key (boat_id), constraint sails foreign key (boat_id) references boats (id) on delete cascade on update cascade)
insert into sailings (boat_id) values (1), (1), (2), (3)
create table bookings (id bigint primary key auto_increment, sailing_id int, who varchar(20), unique key (who), foreign key (sailing_id) references sailings (id) on delete set null)
insert into bookings (sailing_id, who) values (1, 'ann'), (2, 'bo'), (3, 'cy')
create table audit (id int primary key auto_increment, what varchar(60))
create trigger booked after insert on bookings for each row insert into audit (what) values (concat('in ', new.who))
create trigger rebooked after update on bookings for each row insert into audit (what) values (concat('up ', new.who))
create trigger left_it after delete on bookings for each row insert into audit (what) values (concat('out ', old.who))
create table parts (k int not null, v varchar(20), primary key (k)) partition by range (k) (partition p0 values less than (10), partition p1 values less than (20), partition px values less than maxvalue)
insert into parts values (1, 'a'), (11, 'b'), (99, 'z')
create table plain_part (k int not null, v varchar(20), primary key (k))
insert into plain_part values (5, 'ex')
create table hashed (k int primary key, v int) partition by hash (k) partitions 4
insert into hashed select seq, seq from seq_1_to_8
create view v1 as select b.id, b.name, count(s.id) as n from boats b left join sailings s on s.boat_id = b.id group by b.id
create view v2 as select * from v1 where n > 0
create view v3 as select id, name, seats from boats where seats < 100 with check option
create algorithm = temptable view v4 as select max(seats) as m from boats
create view v5 as select b.name, s.free from sailings s join boats b on b.id = s.boat_id
create sql security invoker view v6 as select current_user() as who, count(*) as n from bookings
create table merged_a (id int, v int, key (id)) engine=myisam
create table merged_b (id int, v int, key (id)) engine=myisam
insert into merged_a values (1, 1)
insert into merged_b values (2, 2)
create table merged (id int, v int, key (id)) engine=merge union=(merged_a, merged_b) insert_method=last
create table mem (id int primary key, v varchar(20)) engine=memory
insert into mem values (1, 'm')
create table aria_t (id int primary key, v varchar(20)) engine=aria
insert into aria_t values (1, 'r')
create table csv_t (id int not null, v varchar(20) not null) engine=csv
insert into csv_t values (1, 'c')
create table versioned (id int primary key, v int) with system versioning
insert into versioned values (1, 10), (2, 20)
create table periods (id int, s date, e date, v int, period for p (s, e), primary key (id, p without overlaps))
insert into periods values (1, '2027-01-01', '2027-12-31', 5)
create table texts (id int primary key, body text, fulltext key (body))
insert into texts values (1, 'the quick boat'), (2, 'a slow tide')
create table places (id int primary key, at point not null, spatial key (at))
insert into places values (1, point(1, 2)), (2, point(3, 4))
create table nets (id int primary key, a inet6, u uuid)
insert into nets values (1, '::1', '123e4567-e89b-12d3-a456-426655440000')
create table tree (id int primary key, up int, foreign key (up) references tree (id) on delete cascade)
insert into tree values (1, null), (2, 1), (3, 2)
create table checked (id int primary key, v int check (v > 0))
insert into checked values (1, 1)
create table `Odd Name` (`Sel ect` int primary key, `from` varchar(10))
insert into `Odd Name` values (1, 'q')
create table nokey (a int, b int)
insert into nokey values (1, 1), (1, 2), (2, 1)
create table two_keys (a int primary key, b int unique, v int)
insert into two_keys values (1, 1, 1), (2, 2, 2)
create table dyn (id int primary key, d blob)
insert into dyn values (1, column_create('a', 1, 'b', 'x'))
create table stamped (id int primary key, v int, at timestamp default '2027-01-01 00:00:00' on update current_timestamp)
insert into stamped (id, v) values (1, 1)
create table bigs (id bigint unsigned primary key, d double, e decimal(30,10))
insert into bigs values (18446744073709551615, 0.1, 12345678901234567890.0123456789)
create sequence sq
create function f_sql(i int) returns bigint deterministic reads sql data return (select count(*) from sailings where boat_id = i)
create function f_pl(i int) returns varchar(40) reads sql data begin declare r varchar(40); select name into r from boats where id = i; return r; end
create function f_pure(i int) returns int deterministic no sql return i + 1
create function f_lie(i int) returns bigint deterministic no sql return (select count(*) from bookings where sailing_id = i)
create function f_nested(i int) returns bigint deterministic return f_sql(i) + f_lie(i)
create function f_loop() returns int reads sql data begin declare n, s int default 0; declare done int default 0; declare c cursor for select seats from boats; declare continue handler for not found set done = 1; open c; l: loop fetch c into n; if done then leave l; end if; set s = s + n; end loop; close c; return s; end
create function f_w() returns int modifies sql data begin update boats set seats = seats + 1 where id = 1; return 1; end
create function f_var() returns int no sql return @v
create procedure p_read(i int) begin select name from boats where id = i; select count(*) from sailings; end
create procedure p_w() begin update sailings set free = free - 1; commit; update boats set seats = seats - 1; end
create procedure p_out(out n int) select count(*) into n from boats
create procedure p_dyn(t varchar(40)) execute immediate concat('update ', t, ' set seats = 77')
create procedure p_set() begin set session time_zone = '+05:00'; set @v = 5; end
create procedure p_temp() create temporary table boats (id int, name varchar(40), seats int)
create procedure p_block() begin start transaction; update boats set seats = 11 where id = 2; end
create database if not exists {db}_n
create table {db}_n.boats (id int primary key, name varchar(20), seats int)
insert into {db}_n.boats values (9, 'Nine', 9)
create view {db}_n.vv as select id, name, seats from {db}.boats
create function {db}_n.f_far(i int) returns int reads sql data return (select seats from boats where id = i)
create trigger {db}_n.far after update on {db}_n.boats for each row update {db}.boats set seats = new.seats where id = 3
create table cols_ci (id int primary key, k varchar(20) collate utf8mb4_general_ci unique)
insert into cols_ci values (1, 'Ann'), (2, 'Bob')
create table refs_text (id int primary key, k varchar(20) collate utf8mb4_general_ci, foreign key (k) references cols_ci (k) on update cascade on delete cascade)
insert into refs_text values (1, 'ann')
create table exch (k int not null, v varchar(20), primary key (k))
create table gen_key (id int primary key, doc json, k int as (json_value(doc, '$.k')) persistent, unique key (k))
insert into gen_key (id, doc) values (1, '{"k": 5}')
create table hidden (id int primary key, v int, secret int invisible default 3)
insert into hidden (id, v) values (1, 1)
create table comp (id int primary key, v text compressed)
insert into comp values (1, 'long')
create table with_default (id int default nextval(sq), v int default (1 + 1))
insert into with_default () values ()
