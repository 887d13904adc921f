package postgres_test

import (
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Tools that read everything of a database write nothing, and so drop nothing.
func TestToolsThatReadEverything(t *testing.T) {
	for name, command := range map[string][]string{
		"a dump":                     {"pg_dump"},
		"a dump of definitions":      {"pg_dump", "--schema-only"},
		"a dump as inserts":          {"pg_dump", "--inserts", "--no-sync"},
		"a description of each kind": {"psql", "-c", `\d+ berths`, "-c", `\dt+`, "-c", `\df+`, "-c", `\dv+`, "-c", `\di+`, "-c", `\dn+`, "-c", `\du+`, "-c", `\dT+`, "-c", `\l+`, "-c", `\dp`, "-c", `\dx`, "-c", `\ds+`, "-c", `\sf note`, "-c", `\do`, "-c", `\dC`, "-c", `\dd`, "-c", `\dF`, "-c", `\drds`, "-c", `\dy`, "-c", `\des`},
	} {
		t.Run(name, func(t *testing.T) {
			l := newLarder(t, berths, oneBerth, "create table ports (id serial primary key, name text default 'x' check (name <> ''), at timestamptz default now()); create view busy as select * from berths where n > 0",
				"create function note() returns trigger language plpgsql as $$ begin return new; end $$; create trigger noting before insert on ports for each row execute function note()",
				"create type colour as enum ('red', 'green'); create domain short as text check (length(value) < 5); create sequence turns; create materialized view counted as select count(*) from berths",
				"comment on table berths is 'where ships lie'; create index on ports (lower(name))")
			l.cacheAll()
			c := connect(t, l.through, pgx.QueryExecModeSimpleProtocol)
			read := func() { one(t, c, readBerth) }
			l.hit(c, read)
			cmd := exec.Command(tool(t, command[0]), append(command[1:], l.through)...)
			cmd.Env = append(os.Environ(), "PGOPTIONS=", "PAGER=cat")
			out, err := cmd.CombinedOutput()
			require.NoError(t, err, string(out))
			other := strings.Replace(l.through, "/"+l.database, "/template1", 1) // of which the larder knows nothing yet
			cmd = exec.Command(tool(t, command[0]), append(slices.DeleteFunc(slices.Clone(command[1:]), func(a string) bool { return a == `\sf note` || a == `\d+ berths` }), other)...)
			if command[0] == "psql" {
				cmd = exec.Command(tool(t, "psql"), "-c", `\dt+`, "-c", `\l`, other)
			}
			cmd.Env = append(os.Environ(), "PGOPTIONS=", "PAGER=cat")
			out, err = cmd.CombinedOutput()
			require.NoError(t, err, string(out))
			read()
			hit := wasHit(t, c)
			assert.True(t, hit)
			if !hit {
				l.mu.Lock()
				defer l.mu.Unlock()
				for _, e := range l.events {
					if e.Pattern == nil {
						t.Log("dropped", e.Dropped, "for", e.Table)
					} else if does := l.engine.Does(e.Pattern); does.Everything {
						t.Log(e.Outcome, e.Pattern.Text, does.Reasons)
					}
				}
			}
		})
	}
}

// tool finds one of the server's own programs.
func tool(t *testing.T, name string) string {
	if path, err := exec.LookPath(name); err == nil {
		return path
	}
	list, _ := filepath.Glob("/usr/lib/postgresql/*/bin/" + name)
	require.NotEmpty(t, list, name)
	return list[len(list)-1]
}
