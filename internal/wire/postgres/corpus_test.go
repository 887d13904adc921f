package postgres_test

import (
	_ "embed"
	"fmt"
	"os"
	"slices"
	"strings"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jollylarder/internal/core/analysis"
	facts "jollylarder/internal/core/analysis/postgres"
	"jollylarder/internal/core/catalog"
	"jollylarder/internal/freshcheck"
	wire "jollylarder/internal/wire/postgres"
)

//go:embed testdata/hidden.sql
var hiddenSchema string

// corpus holds a statement to a line, and under it what is expected of it: see effects.
//
//go:embed testdata/corpus.txt
var corpus string

// effects says what a statement does in one line: the tables read and written, pins, effects, and whether its result
// could be kept or else the first reason why not. Tables of the schema public stand without it.
func effects(f *analysis.Facts, r *catalog.Resolved) string {
	var out []string
	list := func(word string, names []string) {
		if len(names) > 0 {
			out = append(out, word+" "+strings.ReplaceAll(strings.Join(names, " "), "public.", ""))
		}
	}
	list("reads", r.Reads)
	list("writes", r.Writes)
	list("by key", r.Pins)
	for _, e := range []struct {
		is   bool
		word string
	}{
		{r.Everything, "writes anything"}, {r.SchemaChanges, "defines"}, {r.System, "reads definitions"},
		{r.SystemChanges, "touches the system catalogs"}, {r.Settings, "sets"},
		{f.Effect&analysis.Begins != 0, "begins"}, {f.Effect&analysis.Commits != 0, "commits"}, {f.Effect&analysis.Ends != 0, "rolls back"},
	} {
		if e.is {
			out = append(out, e.word)
		}
	}
	if len(r.Reasons) == 0 {
		return strings.Join(append(out, "cache"), "; ")
	}
	return strings.Join(append(out, "bypass: "+r.Reasons[0].String()), "; ")
}

// hidden makes the schema with every kind of hidden dependency and reads its catalog as the larder does.
func hidden(t *testing.T) (*larder, catalog.Schema) {
	l := newLarder(t, hiddenSchema)
	c := connect(t, l.direct, pgx.QueryExecModeSimpleProtocol)
	described, path, err := wire.Describe(ctx, c.PgConn())
	require.NoError(t, err)
	require.Equal(t, publicPath.Path, path)
	return l, described.Schema()
}

var publicPath = catalog.Hints{Path: []string{"pg_catalog", "public"}}

// What is expected of every statement of the corpus is what is found; and no table that the server itself counts as
// scanned or changed when it runs the statement is missing.
func TestCorpus(t *testing.T) {
	l, schema := hidden(t)
	c := connect(t, l.direct, pgx.QueryExecModeSimpleProtocol)
	lines := strings.Split(strings.TrimSpace(corpus), "\n")
	oracle, err := freshcheck.NewOracle(ctx, connect(t, l.direct, pgx.QueryExecModeSimpleProtocol).PgConn())
	require.NoError(t, err)
	ran, statements, asked := 0, 0, 0
	var written strings.Builder
	for i := 0; i < len(lines); i++ {
		if strings.HasPrefix(lines[i], "#") || lines[i] == "" {
			fmt.Fprintln(&written, lines[i])
			continue
		}
		sql, want := lines[i], ""
		if i+1 < len(lines) && strings.HasPrefix(lines[i+1], "\t") {
			i++
			want = strings.TrimSpace(lines[i])
		}
		statements++
		f := facts.Facts(sql)
		r := schema.Resolve(f, publicPath)
		fmt.Fprintf(&written, "%s\n\t%s\n", sql, effects(f, r))
		assert.Equal(t, want, effects(f, r), sql)
		if f.Kind == analysis.KindSelect {
			missing, ok := oracle.Missing(sql)
			assert.Empty(t, missing, "the server says that %s depends on it", sql)
			if ok {
				asked++
			}
		}
		if r.Everything || f.Effect&(analysis.Begins|analysis.Commits|analysis.Ends) != 0 || strings.Contains(sql, "from stdin") || strings.Contains(sql, "$1") {
			continue
		}
		if !ranAs(t, c, sql, r) {
			continue
		}
		ran++
	}
	if os.Getenv("WRITE_CORPUS") != "" { // then read what has changed
		require.NoError(t, os.WriteFile("testdata/corpus.txt", []byte(written.String()), 0o600))
	}
	assert.Greater(t, statements, 300)
	assert.Greater(t, asked, 100)
	assert.Greater(t, ran, 200, "the server must be able to say something")
}

// ranAs runs a statement in a transaction that is rolled back and asks the server which tables were touched.
func ranAs(t *testing.T, c *pgx.Conn, sql string, r *catalog.Resolved) bool {
	tx, err := c.Begin(ctx)
	require.NoError(t, err)
	defer func() { _ = tx.Rollback(ctx) }()
	before := touched(t, tx)
	if _, err := c.PgConn().Exec(ctx, sql).ReadAll(); err != nil {
		return false
	}
	for table, n := range touched(t, tx) {
		_, bare, _ := strings.Cut(table, ".")
		defined := slices.ContainsFunc(r.Defines, func(d *catalog.Defined) bool { return slices.Contains(d.Names, bare) })
		if n.changed > before[table].changed && !defined {
			assert.Contains(t, r.Writes, table, "the server changed it: %s", sql)
		}
		if n.scans > before[table].scans && len(r.Reasons) == 0 {
			assert.Contains(t, r.Reads, table, "the server read it: %s", sql)
		}
	}
	return true
}

type touches struct{ scans, changed int64 }

// touched gives what the server counts for each table in this transaction, and in those before it that it has not reported.
func touched(t *testing.T, tx pgx.Tx) map[string]touches {
	rows, err := tx.Query(ctx, `select schemaname || '.' || relname, coalesce(seq_scan, 0) + coalesce(idx_scan, 0), n_tup_ins + n_tup_upd + n_tup_del
		from pg_stat_xact_user_tables where schemaname not like 'pg_temp%'`)
	if err != nil {
		return nil // in a transaction that the statement has failed or ended
	}
	out := map[string]touches{}
	for rows.Next() {
		var table string
		var n touches
		require.NoError(t, rows.Scan(&table, &n.scans, &n.changed))
		out[table] = n
	}
	return out
}
