package mysql

import (
	"testing"

	"github.com/stretchr/testify/assert"

	syntax "jollylarder/internal/core/statement/mysql"
)

// What changes who may do what is known, whether the grammar has it or only its words tell, also within a text that is run; and what
// is only not understood, or made at run time, is not taken for it.
func TestStatementsThatMayChangePrivileges(t *testing.T) {
	for sql, want := range map[string]bool{
		"grant select on *.* to ines": true, "revoke all privileges, grant option from ines": true, "create user ines": true, "drop user ines": true, "rename user a to b": true,
		"set password for ines = password('x')": true, "set default role purser": true, "create role purser": true, "drop role purser": true, "grant purser to ines with admin option": true,
		"alter user ines account lock": true, "create or replace user ines": true, "create or replace role purser": true, "revoke purser from ines": true, "grant proxy on a to b": true,
		"grant select on harbour.* to ines identified via ed25519": true, "update mysql.global_priv set priv = ''": true, "delete from mysql.db": true,
		"execute immediate 'grant select on *.* to ines'": true, "begin not atomic grant select on *.* to ines; end": true,
		"select 1; revoke select on *.* from ines": true, "update ports set x = 1; drop user ines": true,

		"select 1": false, "update ports set name = 'x'": false, "create table users (user varchar(40), role int)": false, "select user, role from users": false, "set names utf8mb4": false,
		"begin not atomic update ports set n = 1; end": false, "what is not understood": false, "alter table ports add column n int": false, "set role purser": false, "flush tables": false,
		"execute immediate @q": false, "create procedure renew() begin execute immediate 'update ports set n = 1'; end": false, "select 'x'; select 2": false, "call refit()": false, "delete from ports returning user": false,
	} {
		assert.Equal(t, want, Facts(syntax.Syntax, sql).MayGrant, sql)
	}
}
