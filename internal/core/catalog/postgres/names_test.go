package postgres

import (
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	facts "jollylarder/internal/core/analysis/postgres"
	"jollylarder/internal/core/catalog"
	"jollylarder/internal/core/reason"
)

// quay has two tables with columns of the same names, a view, and a table of which two schemas have one.
var quay = New([]Row{
	{What: "builtin", OtherName: "i lower\ni row_to_json\nv nextval\ns timestamptz\ns to_json"},
	{What: "system", OtherName: "pg_catalog.pg_class\ninformation_schema.tables"},
	{What: "relation", Schema: "public", Name: "boats", Flags: "r"}, {What: "columns", Schema: "public", Name: "boats", OtherName: "n id\nt name\nn berth\nd at\nh ti"},
	{What: "relation", Schema: "public", Name: "berths", Flags: "r"}, {What: "columns", Schema: "public", Name: "berths", OtherName: "n id\nt name\nn depth\n note"},
	{What: "relation", Schema: "public", Name: "shown", Flags: "v"}, {What: "columns", Schema: "public", Name: "shown", OtherName: "n id\nt label"},
	{What: "view", Schema: "public", Name: "shown", OtherName: "select id, name as label from boats"}, {What: "part", Schema: "public", Name: "shown", Flags: "v", OtherSchema: "public", OtherName: "boats"},
	{What: "relation", Schema: "public", Name: "pg_own", Flags: "r"}, {What: "columns", Schema: "public", Name: "pg_own", OtherName: "n id"},
	{What: "key", Schema: "public", Name: "boats", OtherName: "id"}, {What: "key", Schema: "public", Name: "berths", OtherName: "id"},
	{What: "function", Schema: "public", Name: "weigh", Flags: "sf", OtherSchema: "sql", OtherName: "create function weigh(boats) returns int language sql stable as 'select 1 from berths'"},
})

// needed says which columns of which tables are needed, and which are pinned, in one line.
func needed(r *catalog.Resolved) string {
	var out []string
	for _, t := range r.Reads {
		name := strings.TrimPrefix(t, "public.")
		if pin, ok := r.ReadPins[t]; ok {
			for _, c := range pin.Columns {
				name += " by " + c.Name
			}
		} else if columns, ok := r.ReadColumns[t]; ok {
			sorted := slices.Clone(columns)
			slices.Sort(sorted)
			name += "(" + strings.Join(sorted, " ") + ")"
		}
		out = append(out, name)
	}
	return strings.Join(out, ", ")
}

// Each row: a query, and what it needs of which table: some columns, the rows that a column pins, or everything.
func TestWhatNamesMean(t *testing.T) {
	for sql, want := range map[string]string{
		// columns, with a table's name before them and without
		"select name from boats":                                                                           "boats(name)",
		"select b.name from boats b where b.berth > 1":                                                     "boats(berth name)",
		"select public.boats.name from boats":                                                              "boats(name)",
		"select depth, berth from boats, berths":                                                           "berths(depth), boats(berth)",
		"select count(*) from boats":                                                                       "boats()",
		"select name as depth from boats order by depth":                                                   "boats(name)",
		"select max(at) as latest from boats group by name order by latest":                                "boats(at name)",
		"select 1 from boats b join berths c using (id)":                                                   "berths(id), boats(id)",
		"select id from boats b join berths c using (id)":                                                  "berths(id), boats(id)",
		"select u.id from boats b join berths c using (id) as u":                                           "berths(id), boats(id)",
		"select c.depth from boats b join berths c on b.berth = c.id":                                      "berths(depth id), boats(berth)",
		"select depth from berths where exists (select from boats where berth = depth)":                    "berths(depth), boats(berth)",
		"select (select max(depth) from berths where id = b.berth) from boats b":                           "berths(depth id), boats(berth)",
		"select x.n from (select name as n from boats) x":                                                  "boats(name)",
		"select x.n from (select name from boats) x (n)":                                                   "boats(name)",
		"with x as (select name from boats) select name from x":                                            "boats(name)",
		"with x (n) as (select name from boats) select n from x":                                           "boats(name)",
		"with boats as (select depth from berths) select depth from boats":                                 "berths(depth)",
		"with x as (with berths as (select name from boats) select * from berths) select 1 from x, berths": "berths(), boats(name)",
		"select z.b from boats z (a, b)":                                                                   "boats(name)",
		"select b from boats z (a, b)":                                                                     "boats(name)",
		"select z.at from boats z (a, b)":                                                                  "boats(at)",
		"select m.d from boats b, lateral (select depth as d from berths where id = b.berth) m":            "berths(depth id), boats(berth)",
		// whole rows
		"select * from boats":                                   "boats",
		"select b.* from boats b, berths":                       "berths(), boats",
		"select b from boats b":                                 "boats",
		"select boats from boats":                               "boats",
		"select row_to_json(b) from boats b, berths c":          "berths(), boats",
		"select (b).name from boats b":                          "boats",
		"select b.row_to_json from boats b":                     "boats",
		"select x from (select name from boats) x":              "boats(name)",
		"select name from boats natural join berths":            "berths, boats",
		"select j.a from (boats b join berths c on true) j (a)": "berths, boats",
		"select weigh(b) from boats b":                          "berths, boats",
		"select b.weigh from boats b":                           "berths, boats",
		"select tableoid from boats":                            "boats",
		"select label from shown":                               "boats",
		"select unheard from boats":                             "boats",
		"select q.name from boats b":                            "boats",
		// pins
		"select name from boats where id = 5":                                                        "boats by id",
		"select name from boats where boats.id = 5 and berth = 2":                                    "boats by id",
		"select b.name from boats b join berths c on c.id = b.berth where b.berth = 5":               "berths by id, boats by berth",
		"select z.b from boats z (a, b) where a = 5":                                                 "boats by id",
		"select depth from boats, berths where depth = 5":                                            "berths by depth, boats()",
		"select b.name from boats b, (select id from berths) x where b.id = 5":                       "berths(id), boats by id",
		"select name from boats, (select max(id) as top from berths) x where top = 5":                "berths(id), boats(name)",
		"select x.id from (select max(id) as id from boats) x where id = 5":                          "boats(id)",
		"select x.id from (select max(id) as id from boats) x, berths c where x.id = 5 and c.id = 5": "berths by id, boats(id)",
		"with x as (select distinct on (name) * from boats) select 1 from x where id = 5":            "boats",
		"select (select max(berth) from boats) from generate_series(1, 3) g (id) where id = 5":       "boats(berth)",
		"select (select max(berth) from boats) from (values (5)) v (id) where id = 5":                "boats(berth)",
		"select b.name from boats b left join berths c on c.id = 5 where b.id = 6":                   "berths(id), boats by id",
		"select b.name from boats b natural join berths where b.id = 5":                              "berths, boats by id",
		"select 1 from boats a, boats b where a.id = 5":                                              "boats(id)",
		"select 1 from boats where id = 5 union select 1 from boats":                                 "boats(id)",
		"select id from pg_own where id = 5":                                                         "pg_own by id",
	} {
		r := quay.Resolve(facts.Facts(sql), catalog.Hints{Path: []string{"pg_catalog", "public"}})
		assert.Equal(t, want, needed(r), sql)
	}
}

// What may be a call, or may mean the time, is told by what the name before it means.
func TestWhatFieldsAre(t *testing.T) {
	for sql, why := range map[string]string{
		"select b.name from boats b": "", "select (b).name from boats b": "", "select (x.c).name from (select b as c from boats b) x": "",
		"select b.nextval from boats b": "nextval", "select (name).timestamptz from boats": "timestamptz", "select (b.name).timestamptz from boats b": "timestamptz",
		"select at::date from boats": "", "select name::date from boats": "casts name", "select n::date from boats z (id, n)": "casts n", "select d::date from (select at as d from boats) x": "",
		"select d::date from (select name as d from boats) x": "casts d", "select q::date from (select max(name) as q from boats) x": "casts q",
		"select at at time zone 'UTC' from boats": "", "select ti at time zone 'UTC' from boats": "at a time zone", "select d at time zone 'UTC' from (select at as d from boats) x": "",
		"select max(at) at time zone 'UTC' from boats": "", "select (at + interval '1 day') at time zone 'UTC' from boats": "", "select lower(name) at time zone 'UTC' from boats": "at a time zone",
		"select relname from pg_class": "", "select id from pg_own": "", "select 1 from information_schema.own": "does not name", "select 1 from pg_catalog.own": "does not name",
	} {
		r := quay.Resolve(facts.Facts(sql), catalog.Hints{Path: []string{"pg_catalog", "public"}})
		if why == "" {
			assert.Empty(t, r.Reasons, sql)
		} else {
			assert.Contains(t, strings.Join(reason.Sentences(r.Reasons), "; "), why, sql)
		}
	}
}

// Each row: what a session writes, and whether that may have changed anything where the table is none of the catalog's.
func TestTablesThatAreMissing(t *testing.T) {
	for sql, missing := range map[string]string{
		"insert into mine values (1)": "mine", "update pg_temp.mine set a = 1": "mine", "delete from other.mine": "", "insert into boats select 1": "", "with w as (delete from mine returning *) insert into boats (id) select 1 from w": "mine",
	} {
		r := quay.Resolve(facts.Facts(sql), catalog.Hints{})
		assert.Equal(t, missing, strings.Join(r.Missing, " "), sql)
		if missing != "" {
			assert.True(t, r.Everything, sql)
			assert.False(t, r.IfOwn.Everything, sql)
		}
	}
}

// A description names the settings that are in no list of ours, sorted, whatever else the server has.
func TestSettingsInADescription(t *testing.T) {
	for told, want := range map[string][]string{
		"":                                 nil,
		"DateStyle\nwork_mem\ngeqo":        nil,
		"work_mem\nzeal\nDateStyle\nanger": {"anger", "zeal"},
	} {
		d, err := Describe([]Row{{What: "builtin", OtherName: "i lower"}, {What: "settings", OtherName: told}})
		require.NoError(t, err)
		assert.Equal(t, want, d.(catalog.Configured).Unreviewed(), told)
	}
}
