package load

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jollylarder/internal/protocol"
	"jollylarder/internal/trial"
)

func TestStatementsThatMayWriteAreRefused(t *testing.T) {
	list, err := ReadFile("f", "select n from berths; -- a comment; with a semicolon\nselect ';' ;\nselect now();", protocol.PostgreSQL)
	require.NoError(t, err)
	require.Len(t, list, 3)
	out, _, err := Sort(list, protocol.PostgreSQL, false)
	require.NoError(t, err)
	assert.Len(t, out, 3)
	for _, sql := range []string{"update berths set n = 1", "select nextval('s')", "select tidy(3)", "with x as (delete from berths returning n) select n from x", "explain analyze delete from berths"} {
		_, _, err := Sort([]trial.Statement{{SQL: "select 1"}, {SQL: sql}}, protocol.PostgreSQL, false)
		assert.ErrorContains(t, err, "nothing was run", sql)
	}
	out, leftOut, err := Sort([]trial.Statement{{SQL: "begin"}, {SQL: "update berths set n = 1"}, {SQL: "commit"}, {SQL: "set datestyle = iso"}}, protocol.PostgreSQL, true)
	require.NoError(t, err)
	require.Len(t, out, 1)
	assert.True(t, out[0].Writes)
	assert.Len(t, leftOut, 2)
	_, leftOut, err = Sort([]trial.Statement{{SQL: "select 1"}, {SQL: "set statement_timeout = 5"}, {SQL: "set transaction read only"}, {SQL: "reset all"}, {SQL: "set app.mine = 'x'"}}, protocol.PostgreSQL, false)
	require.NoError(t, err)
	assert.Equal(t, []string{"4 statements that set something for their session"}, leftOut)
	for _, sql := range []string{"create table x (n int)", "alter table berths add column more text", "drop view busy", "create schema x", "commit prepared 'x'", "vacuum berths"} {
		_, _, err := Sort([]trial.Statement{{SQL: sql}}, protocol.PostgreSQL, true)
		assert.ErrorContains(t, err, "cannot be rolled back", sql)
	}
	for says, none := range map[string][]trial.Statement{
		"there is no statement to run: expected some that read, separated by semicolons":           nil,
		"no statement is left to run; left out: 1 statements that are none of PostgreSQL":          {{SQL: "ALL berths", Protocol: "lines"}},
		"no statement is left to run; left out: 1 statements that set something for their session": {{SQL: "reset all"}},
	} {
		_, _, err := Sort(none, protocol.PostgreSQL, false)
		assert.EqualError(t, err, says)
	}
	_, err = ReadFile("f", "-- nothing", protocol.PostgreSQL)
	assert.ErrorContains(t, err, "it contains no statement")
}
