package mysql

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestEncoding(t *testing.T) {
	for sql, want := range map[string]string{
		"SET NAMES gbk": "gbk", "set names 'UTF8MB4' collate utf8mb4_bin": "utf8mb4", "set character set latin1": "latin1", "set charset default": "default",
		"set autocommit = 0, @@session.character_set_client = \"sjis\"": "sjis", "set character_set_client := big5, names utf8": "utf8",
		"set character_set_client = concat('g', 'bk')": "", "set names": "",
		"set character_set_client = @saved": "", "set names latin1; select 1": "latin1", "set names utf8 collate utf8_bin, @a = 1": "utf8",
	} {
		name, says := Encoding(Syntax, []byte(sql))
		assert.True(t, says, sql)
		assert.Equal(t, want, name, sql)
	}
	for _, sql := range []string{"set sql_mode = 'x'", "select character_set_client from t", "set @a = 'names'"} {
		_, says := Encoding(Syntax, []byte(sql))
		assert.False(t, says, sql)
	}
}

func TestANSI(t *testing.T) {
	for sql, want := range map[string]bool{
		"set sql_mode = 'ANSI_QUOTES,STRICT_ALL_TABLES'": true, "set session sql_mode := ansi": true, "set @@sql_mode = ''": false,
		"set names utf8, @@session.sql_mode = 'TRADITIONAL'": false,
	} {
		ansi, says := ANSI(Syntax, []byte(sql))
		assert.True(t, says, sql)
		assert.Equal(t, want, ansi, sql)
	}
	_, says := ANSI(Syntax, []byte("select @@sql_mode"))
	assert.False(t, says)
}

func TestUses(t *testing.T) {
	for sql, want := range map[string]string{
		"use harbour": "harbour", "USE `har``bour`;": "har`bour", "select 1; use a; update t set use_it = 1; use b ; select 2": "b",
	} {
		schema, says := Uses(Syntax, []byte(sql))
		assert.True(t, says, sql)
		assert.Equal(t, want, schema, sql)
	}
	for _, sql := range []string{"select `use` from t", "select 'use x'", "use", "set @a = 'use b'", "select a use from b"} {
		_, says := Uses(Syntax, []byte(sql))
		assert.False(t, says, sql)
	}
}
