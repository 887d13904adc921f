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
