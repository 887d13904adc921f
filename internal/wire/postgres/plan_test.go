package postgres_test

import (
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	syntax "jollylarder/internal/core/statement/postgres"
	"jollylarder/internal/wire/link"
)

// The plan of a pattern is the server's own, needs no values, and runs nothing: not even what follows a semicolon.
func TestThePlanOfAPattern(t *testing.T) {
	l := newLarder(t, "create schema quays", "create table quays.sailings (id int primary key, ship text)", "create role looker login", "grant usage on schema quays to looker")
	plan := func(user, sql string) (string, error) {
		lines, err := l.server.Plan(ctx, link.Account{User: user}, link.PlanQuestion{Database: l.database, Schemas: []string{"quays"}, Text: string(syntax.Syntax.Normalise([]byte(sql)))})
		if len(lines) == 0 {
			return "", err
		}
		return lines[0], err
	}
	for sql, want := range map[string]string{
		"select ship from sailings where id = 4":                            "Index Scan using sailings_pkey on sailings",
		"select ship from sailings where id in (1, 2, 3) and ship = 'x'":    "sailings",
		"select count(*) from sailings":                                     "Aggregate",
		"update sailings set ship = 'Fulmar' where id = 4":                  "Update on sailings",
		"insert into sailings values (1, 'a'), (2, 'b'), (3, 'c'), (4, $1)": "Insert on sailings",
	} {
		first, err := plan("postgres", sql)
		require.NoError(t, err, sql)
		assert.Contains(t, first, want)
	}
	for sql, says := range map[string]string{
		"select 1; drop table quays.sailings":       "cannot insert multiple commands",
		"select ship from quays.lighters":           "does not exist",
		"select now() - interval '1 day'":           "cannot be prepared without its values",
		"drop table quays.sailings":                 "syntax error",
		"with x as (delete from sailings) select 1": "", // planned, and not run
	} {
		_, err := plan("postgres", sql)
		if says != "" {
			assert.ErrorContains(t, err, says, sql)
		}
	}
	_, err := plan("looker", "select ship from sailings where id = 4")
	assert.ErrorContains(t, err, "permission denied for table sailings")
	// A function of a user's that has the name of one of the server's is not run in its place.
	l.exec(l.direct, "create function quays.now() returns timestamptz language plpgsql immutable as $$ begin raise exception 'run'; end $$")
	_, err = plan("postgres", "select ship from sailings where now() > '2027-01-01'")
	assert.NoError(t, err)
	assert.Equal(t, "0", one(t, connect(t, l.direct, pgx.QueryExecModeSimpleProtocol), "select count(*) from quays.sailings"))
}
