package freshcheck

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
)

// generatedReads is how many random reads a generated world has, before those are left out that the server refuses.
const generatedReads = 140

// table is one of a generated world.
type table struct {
	relation
	writable []column // without its key
	parts    bool     // it is divided by its column k
}

// generator makes worlds of random tables, with what hangs on them, random reads and random writes.
type generator struct {
	*world
	q      *queries
	r      *rand.Rand
	focus  map[string]bool
	tables []table
}

// newGenerated makes a world. Focus names features that it is to have, whatever chance says, and that its statements
// are mostly about.
func newGenerated(r *rand.Rand, focus ...string) *world {
	g := &generator{world: &world{generated: true, session: sessionStatements, back: sessionResets}, r: r, q: &queries{r: r}, focus: map[string]bool{}}
	for _, f := range focus {
		g.focus[f] = true
	}
	g.schemaOf()
	for range generatedReads {
		sql, _ := g.q.query(1+r.IntN(3), nil, nil)
		g.reads = append(g.reads, sql)
	}
	others := len(g.writes)
	for range 6 {
		for i := range g.tables {
			g.writesOf(&g.tables[i])
		}
	}
	g.around = slices.Clone(g.writes[others:]) // of what the others do, a change feed may not tell
	for _, f := range features {
		if f.reads != nil && g.focus[f.name] {
			g.reads = append(f.reads, g.reads[:20]...)
			g.writes = append(g.writes[:min(len(g.writes), 4)], f.writes...)
		}
	}
	return g.world
}

func (g *generator) has(feature string) bool {
	return g.focus[feature] || len(g.focus) == 0 && g.r.IntN(3) == 0
}

// kinds are the types that a kind of values can have.
var kinds = map[byte][]string{'n': {"int", "bigint", "int"}, 't': {"text", "varchar(8)", "text"}, 'd': {"date"}, 'z': {"timestamptz"}}

// schemaOf makes the tables, and what hangs on them.
func (g *generator) schemaOf() {
	pick := func(from ...string) string { return from[g.r.IntN(len(from))] }
	for i := range 3 + g.r.IntN(2) {
		t := table{relation: relation{name: fmt.Sprintf("t%d", i), columns: []column{{"id", 'n'}}, keyed: true}}
		t.row = t.name
		t.parts = i == 1 && g.has("parts")
		columns := []column{{"k", 'n'}, {"s", 't'}, {"n", 'n'}, {"d", 'd'}, {"z", 'z'}, {"u", 't'}}
		g.r.Shuffle(len(columns), func(a, b int) { columns[a], columns[b] = columns[b], columns[a] })
		columns = columns[:3+g.r.IntN(4)]
		if t.parts && !slices.Contains(columns, column{"k", 'n'}) {
			columns = append(columns, column{"k", 'n'})
		}
		defs := []string{"id int primary key"}
		if t.parts {
			defs = []string{"id int", "primary key (id, k)"} // a change feed tells of no table without one
		}
		for _, c := range columns {
			def := c.name + " " + pick(kinds[c.kind]...)
			if c.name == "k" {
				def = "k int"
			}
			if c.name == "k" && i > 0 && !t.parts && g.has("cascade") {
				def += " references t0 (id) " + pick("on delete cascade", "on delete set null on update cascade", "on delete cascade on update cascade")
			}
			if c.kind == 'n' && c.name == "n" && g.has("generated") {
				defs = append(defs, def, "g int generated always as ("+c.name+" * 2) stored")
				t.columns = append(t.columns, c, column{"g", 'n'})
				t.writable = append(t.writable, c)
				continue
			}
			defs = append(defs, def)
			t.columns = append(t.columns, c)
			t.writable = append(t.writable, c)
		}
		create := "create table " + t.name + " (" + strings.Join(defs, ", ") + ")"
		if t.parts {
			g.add(create+" partition by list (k)", "create table t1_low partition of t1 for values in (0, 1, 2)", "create table t1_high partition of t1 default")
		} else {
			g.add(create)
			if i == 2 && g.has("inherits") {
				g.add("create table t2_more (extra int, primary key (id)) inherits (t2)", "insert into t2_more (id) values (20), (21)")
				t.keyed = false
			}
		}
		g.tables = append(g.tables, t)
		for id := range 8 {
			g.add(g.insert(&t, id) + " on conflict do nothing")
		}
		g.q.relations = append(g.q.relations, t.relation, t.relation)
	}
	for _, f := range features {
		if g.has(f.name) {
			f.make(g, pick)
			g.sequences = append(g.sequences, f.sequences...)
		}
	}
	g.add("grant all on all tables in schema public to "+role, "grant all on all sequences in schema public to "+role)
	g.rare = append(g.rare, "alter table t0 add column if not exists extra int", "alter table t0 drop column if exists extra", "create index if not exists i on t0 (id)",
		"create or replace function noted() returns int language sql as 'select {k}'", "revoke select on t0 from "+role, "grant select on t0 to "+role)
	g.wild = append(g.wild, "do $$ begin update t0 set id = id; end $$", "truncate t0 cascade")
}

// value gives a value for a column, of which some are written anew with every write.
func (g *generator) value(c column) string {
	switch {
	case c.kind == 'n' && c.name == "n" && g.r.IntN(2) == 0:
		return "{v}"
	case c.kind == 'n':
		return "{k}"
	case c.kind == 't' && g.r.IntN(2) == 0:
		return "'s{v}'"
	}
	return g.q.literal(c.kind)
}

// insert gives an INSERT of one row.
func (g *generator) insert(t *table, id int) string {
	return insertInto(g.r, t.name, t.writable, "{i}", id, g.value)
}

// insertInto gives an INSERT of one row with a key, or with a number as its key unless that is negative.
func insertInto(r *rand.Rand, table string, writable []column, key string, id int, value func(column) string) string {
	names, values := []string{"id"}, []string{key}
	if id >= 0 {
		values[0] = fmt.Sprint(id)
	}
	for _, c := range writable {
		if r.IntN(5) == 0 && c.name != "k" {
			continue
		}
		v := value(c)
		if id >= 0 {
			v = strings.NewReplacer("{v}", fmt.Sprint(id), "{k}", fmt.Sprint(id%4), "{i}", fmt.Sprint(id)).Replace(v)
		}
		names, values = append(names, c.name), append(values, v)
	}
	return "insert into " + table + " (" + strings.Join(names, ", ") + ") values (" + strings.Join(values, ", ") + ")"
}

// where gives conditions that pick some rows of a table under a name.
func (g *generator) where(t *table, alias string) string {
	one := func() string {
		c := t.columns[g.r.IntN(len(t.columns))]
		switch g.r.IntN(6) {
		case 0, 1, 2:
			return alias + ".id = {i}"
		case 3:
			return alias + ".id in ({i}, {j})"
		}
		return alias + "." + c.name + " = " + g.q.literal(c.kind)
	}
	if g.r.IntN(4) == 0 {
		return one() + pickOf(g.r, " and ", " or ") + one()
	}
	return one()
}

func pickOf(r *rand.Rand, from ...string) string { return from[r.IntN(len(from))] }

// writesOf makes a few writes of a table.
func (g *generator) writesOf(t *table) {
	sets := func(prefix string) string {
		var out []string
		for _, c := range t.writable {
			if g.r.IntN(len(t.writable)) == 0 || len(out) == 0 && c == t.writable[len(t.writable)-1] {
				out = append(out, c.name+" = "+g.value(c))
			}
		}
		return prefix + strings.Join(out, ", ")
	}
	other := &g.tables[g.r.IntN(len(g.tables))]
	w := []string{
		"update " + t.name + sets(" set ") + " where " + g.where(t, t.name),
		"update " + t.name + " a" + sets(" set ") + " where " + g.where(t, "a"),
		"update " + t.name + " a" + sets(" set ") + " from " + other.name + " b where b.id = a.id and " + g.where(other, "b"),
		"update " + t.name + " a" + sets(" set ") + " where a.id in (select b.id from " + other.name + " b where " + g.where(other, "b") + ")",
		"delete from " + t.name + " where " + g.where(t, t.name),
		"delete from " + t.name + " a using " + other.name + " b where a.id = b.id and " + g.where(other, "b") + " and a.id > 4",
		g.insert(t, -1), g.insert(t, -1), g.insert(t, -1) + " returning id",
		"with w as (update " + t.name + sets(" set ") + " where id = {i} returning *) " + "update " + other.name + " set id = id where id in (select id from w)",
		"with w as (delete from " + t.name + " where id = {i} returning *) select count(*) from w",
		"insert into " + t.name + " (id) select 8 + {i} where not exists (select 1 from " + t.name + " where id = 8 + {i})",
		"update " + t.name + sets(" set ") + " where id = {i}; update " + other.name + " set id = id where id = {j}",
		"merge into " + t.name + " a using (select {i} as id) b on a.id = b.id when matched then update" + sets(" set ") + " when not matched then insert (id) values (b.id)",
		"begin; update " + t.name + sets(" set ") + " where id = {i}; rollback",
		"explain analyze update " + t.name + sets(" set ") + " where id = {i}",
	}
	if !t.parts {
		up := t.writable[g.r.IntN(len(t.writable))]
		w = append(w, g.insert(t, -1)+" on conflict (id) do update set "+up.name+" = excluded."+up.name, g.insert(t, -1)+" on conflict (id) do update set "+up.name+" = "+g.value(up),
			g.insert(t, -1)+" on conflict do nothing")
	}
	for range 5 {
		g.writes = append(g.writes, w[g.r.IntN(len(w))])
	}
}
