package postgres_test

import (
	"strings"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	facts "jollylarder/internal/core/analysis/postgres"
)

// What was reviewed by hand is held here against the server that the tests run on: one of a version that has more makes
// them fail, until that is reviewed as well.

// Every setting that a session may change is in the key, or was reviewed.
func TestEverySettingIsReviewed(t *testing.T) {
	if server == nil {
		t.Skip("no PostgreSQL here")
	}
	c := connect(t, server.URL("postgres", "postgres"), pgx.QueryExecModeSimpleProtocol)
	names := strings.Fields(text(t, c, "select string_agg(name, ' ') from pg_settings where context in ('user', 'superuser') and name not like '%.%'"))
	require.Greater(t, len(names), 150)
	for _, name := range names {
		name = strings.TrimSuffix(name, "|")
		assert.False(t, facts.Unreviewed(name), "%s is neither in the key nor reviewed", name)
	}
}

// stableAndKept are the server's functions that are stable, which may rest on settings and catalogs, and whose results are kept: each by the settings in
// the key, or by the definitions, which all clocks follow.
const stableAndKept = `
array_to_json array_to_string concat concat_ws convert convert_from convert_to current_database current_schema current_user date_part date_trunc enum_first enum_last enum_range
extract format generate_series getdatabaseencoding json_build_array json_build_object jsonb_build_array jsonb_build_object length make_timestamptz pg_client_encoding pg_size_pretty
phraseto_tsquery plainto_tsquery quote_literal quote_nullable row_to_json session_user to_char to_date to_json to_jsonb to_number to_timestamp to_tsquery to_tsvector ts_headline version websearch_to_tsquery
`

// The stable functions whose results are kept are those that were reviewed.
func TestStableFunctionsThatAreKept(t *testing.T) {
	l, schema := hidden(t)
	c := connect(t, l.direct, pgx.QueryExecModeSimpleProtocol)
	rows, err := c.Query(ctx, `select p.proname from pg_proc p join pg_namespace n on n.oid = p.pronamespace where n.nspname = 'pg_catalog' and p.prokind = 'f'
		group by p.proname having max(p.provolatile::text) = 's' order by 1`)
	require.NoError(t, err)
	names, err := pgx.CollectRows(rows, pgx.RowTo[string])
	require.NoError(t, err)
	var kept []string
	for _, name := range names {
		if r := schema.Resolve(facts.Facts(`select pg_catalog."`+name+`"()`), publicPath); len(r.Reasons) == 0 && !r.System {
			kept = append(kept, name)
		}
	}
	assert.Greater(t, len(kept), 30)
	reviewed := strings.Fields(stableAndKept)
	for _, name := range kept {
		assert.Contains(t, reviewed, name, "it is kept, and was not reviewed")
	}
}
