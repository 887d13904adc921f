package freshcheck

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
)

// mariaTable is one of a generated world.
type mariaTable struct {
	relation
	writable []column // without its key
	computed bool     // it has columns that are
}

// mariaGenerator makes worlds of random tables, with what hangs on them, random reads and random writes.
type mariaGenerator struct {
	*world
	q      *mariaQueries
	r      *rand.Rand
	focus  map[string]bool
	tables []mariaTable
}

// newMariaGenerated makes a world. Focus names features that it is to have, whatever chance says, and that its statements
// are mostly about.
func newMariaGenerated(r *rand.Rand, focus ...string) *world {
	g := &mariaGenerator{world: &world{generated: true, session: mariaSession, back: mariaResets}, r: r, q: &mariaQueries{queries: &queries{r: r}}, focus: map[string]bool{}}
	for _, f := range focus {
		g.focus[f] = true
	}
	g.schemaOf()
	for range generatedReads {
		sql, _ := g.q.query(1+r.IntN(3), nil)
		g.reads = append(g.reads, sql)
	}
	for range 6 {
		for i := range g.tables {
			g.writesOf(&g.tables[i])
		}
	}
	g.around = slices.DeleteFunc(slices.Clone(g.writes), func(sql string) bool { return sql == "begin" })
	for _, f := range mariaFeatures {
		if f.reads != nil && g.focus[f.name] {
			g.reads = append(f.reads, g.reads[:20]...)
			g.writes = append(g.writes[:min(len(g.writes), 4)], f.writes...)
		}
	}
	return g.world
}

func (g *mariaGenerator) has(feature string) bool {
	return g.focus[feature] || len(g.focus) == 0 && g.r.IntN(3) == 0
}

func (g *mariaGenerator) pick(from ...string) string { return from[g.r.IntN(len(from))] }

// mariaKinds are the types that a kind of values can have.
var mariaKinds = map[byte][]string{
	'n': {"int", "bigint", "int", "int unsigned", "tinyint", "smallint", "mediumint", "decimal(6)", "double"},
	't': {"varchar(8)", "varchar(8)", "text", "char(6)", "varchar(8) collate utf8mb4_bin", "varchar(8) character set latin1", "varchar(8) collate utf8mb4_unicode_ci", "varchar(2)", "varbinary(8)", "enum('a', 'b', 'c', 's1')", "varchar(8) collate utf8mb4_nopad_bin", "varchar(8) collate utf8mb4_general_nopad_ci"},
	'd': {"date"}, 'z': {"datetime", "timestamp null", "datetime(3)"},
}

// engines are those that tables have. Half of them do not roll back.
func (g *mariaGenerator) engine() string {
	return " engine=" + g.pick("innodb", "innodb", "innodb", "innodb", "myisam", "aria", "memory")
}

// schemaOf makes the tables, and what hangs on them.
func (g *mariaGenerator) schemaOf() {
	g.add("set sql_mode = '" + g.pick("STRICT_TRANS_TABLES", "", "STRICT_TRANS_TABLES,NO_ZERO_DATE") + "'")
	cascades := g.has("cascade")
	for i := range 3 + g.r.IntN(2) {
		t := mariaTable{relation: relation{name: fmt.Sprintf("t%d", i), columns: []column{{"id", 'n'}}, keyed: true}}
		if i == 2 && g.has("two schemas") {
			t.name = "{db}_n.t2"
		}
		columns := []column{{"k", 'n'}, {"s", 't'}, {"n", 'n'}, {"d", 'd'}, {"z", 'z'}, {"u", 't'}}
		g.r.Shuffle(len(columns), func(a, b int) { columns[a], columns[b] = columns[b], columns[a] })
		columns = columns[:3+g.r.IntN(4)]
		key := "int"
		if !cascades {
			key = g.pick("int", "int", "bigint", "int unsigned", "int auto_increment", "tinyint unsigned", "varchar(8)", "smallint auto_increment")
		}
		if strings.HasPrefix(key, "varchar") {
			t.columns[0].kind = 't'
		}
		defs, engine := []string{"id " + key + " primary key"}, g.engine()
		if cascades {
			engine = " engine=innodb"
		}
		for _, c := range columns {
			kind := g.pick(mariaKinds[c.kind]...)
			if kind == "text" && engine == " engine=memory" {
				kind = "varchar(9)"
			}
			def := c.name + " " + kind + g.pick("", "", "", " default null")
			if c.name == "k" {
				def = "k int"
				if cascades && i > 0 {
					defs = append(defs, "foreign key (k) references {db}.t0 (id) "+g.pick("on delete cascade", "on delete set null on update cascade", "on delete cascade on update cascade"))
				}
			}
			defs = append(defs, def)
			t.columns, t.writable = append(t.columns, c), append(t.writable, c)
			if c.name == "n" && engine != " engine=memory" && g.has("computed") {
				defs = append(defs, "g int as (n * 2) "+g.pick("stored", "virtual"))
				t.columns, t.computed = append(t.columns, column{"g", 'n'}), true
			}
		}
		if g.r.IntN(4) == 0 && len(columns) > 0 && columns[0].kind == 'n' {
			defs = append(defs, "unique key ("+columns[0].name+")")
		}
		parts := ""
		if t.columns[0].kind == 'n' && !cascades && engine != " engine=memory" && g.has("parts") && !strings.Contains(strings.Join(defs, ","), "unique") {
			parts = g.pick(" partition by hash (id) partitions 3", " partition by key (id) partitions 2", " partition by range (id) (partition low values less than (4), partition high values less than maxvalue)")
		}
		g.add("create table " + t.name + " (" + strings.Join(defs, ", ") + ")" + engine + parts)
		g.tables = append(g.tables, t)
		for id := range 8 {
			g.maybe = append(g.maybe, strings.Replace(g.insert(&t, id), "insert ", "insert ignore ", 1))
		}
		g.q.relations = append(g.q.relations, t.relation, t.relation)
	}
	for _, f := range mariaFeatures {
		if g.has(f.name) {
			f.make(g)
			g.sequences = append(g.sequences, f.sequences...)
		}
	}
	g.rare = append(g.rare, "alter table t0 add column if not exists extra int", "alter table t0 drop column if exists extra", "create index if not exists i on t0 (id)", "analyze table t0", "flush tables",
		"create or replace function noted() returns int deterministic return {k}", "alter table t1 engine=myisam", "alter table t1 engine=innodb", "rename table t0 to tx, t1 to t0, tx to t1")
	g.wild = append(g.wild, "begin not atomic update t0 set id = id; end", "set foreign_key_checks = 0; truncate t0; set foreign_key_checks = 1", "execute immediate 'delete from t1 where id = {i}'")
	g.writes = append(g.writes, "begin", "commit", "rollback")
}

// value gives a value for a column, of which some are written anew with every write.
func (g *mariaGenerator) value(c column) string {
	switch {
	case c.kind == 'n' && c.name == "n" && g.r.IntN(2) == 0:
		return "{v}"
	case c.kind == 'n' && g.r.IntN(3) > 0:
		return "{k}"
	case c.kind == 't' && g.r.IntN(2) == 0:
		return "'s{v}'"
	}
	return g.q.literal(c.kind)
}

// key gives the value of a key.
func (g *mariaGenerator) key(t *mariaTable) string {
	if g.r.IntN(6) == 0 {
		return g.q.literal(t.columns[0].kind)
	}
	if t.columns[0].kind == 't' {
		return "'{i}'"
	}
	return "{i}"
}

// insert gives an INSERT of one row.
func (g *mariaGenerator) insert(t *mariaTable, id int) string {
	return insertInto(g.r, t.name, t.writable, g.key(t), id, g.value)
}

// where gives conditions that pick some rows of a table under a name.
func (g *mariaGenerator) where(t *mariaTable, alias string) string {
	one := func() string {
		c := t.columns[g.r.IntN(len(t.columns))]
		switch g.r.IntN(6) {
		case 0, 1, 2:
			return alias + ".id = " + g.key(t)
		case 3:
			return alias + ".id in (" + g.key(t) + ", " + g.key(t) + ")"
		}
		return alias + "." + c.name + " = " + g.q.literal(c.kind)
	}
	if g.r.IntN(4) == 0 {
		return one() + g.pick(" and ", " or ") + one()
	}
	return one()
}

// writesOf makes a few writes of a table.
func (g *mariaGenerator) writesOf(t *mariaTable) {
	sets := func(prefix string) string {
		var out []string
		for _, c := range t.writable {
			if g.r.IntN(len(t.writable)) == 0 || len(out) == 0 && c == t.writable[len(t.writable)-1] {
				out = append(out, prefix+c.name+" = "+g.value(c))
			}
		}
		return " set " + strings.Join(out, ", ")
	}
	other := &g.tables[g.r.IntN(len(g.tables))]
	up := t.writable[g.r.IntN(len(t.writable))]
	w := []string{
		"update " + t.name + sets("") + " where " + g.where(t, t.name),
		"update " + t.name + " a" + sets("") + " where " + g.where(t, "a"),
		"update " + t.name + " a join " + other.name + " b on b.id = a.id" + sets("a.") + " where " + g.where(other, "b"),
		"update " + t.name + " a, " + other.name + " b" + sets("a.") + " where b.id = a.id and " + g.where(t, "a"),
		"update " + t.name + " a" + sets("") + " where a.id in (select b.id from " + other.name + " b where " + g.where(other, "b") + ")",
		"update " + t.name + sets("") + " where " + g.where(t, t.name) + " order by id limit 1",
		"update " + t.name + " set id = id + 20 where id = {i}", "update ignore " + t.name + " set id = " + g.key(t) + " where id > 19",
		"delete from " + t.name + " where " + g.where(t, t.name),
		"delete a from " + t.name + " a join " + other.name + " b on a.id = b.id where " + g.where(other, "b") + " and a.id > 4",
		"delete from a, b using " + t.name + " a join " + other.name + " b on a.id = b.id where a.id = {i}",
		g.insert(t, -1), g.insert(t, -1), g.insert(t, -1) + " returning id", strings.Replace(g.insert(t, -1), "insert", "replace", 1), strings.Replace(g.insert(t, -1), "insert", "insert ignore", 1),
		"insert ignore into " + t.name + " (id) select id from " + other.name + " b where " + g.where(other, "b"),
		"replace into " + t.name + " (id) select {i} from dual", "insert into " + t.name + sets("") + ", id = {i}",
		"update " + t.name + sets("") + " where id = {i}; update " + other.name + setsFirst(other, g) + " where id = {j}",
		"begin; update " + t.name + sets("") + " where id = {i}; rollback", "set statement max_sort_length = 64 for update " + t.name + sets("") + " where id = {i}",
		g.insert(t, -1) + " on duplicate key update " + up.name + " = values(" + up.name + ")", g.insert(t, -1) + " on duplicate key update " + up.name + " = " + g.value(up),
		g.insert(t, -1) + " on duplicate key update id = id + 20", "insert into " + t.name + " (id) values (null)", "insert into " + t.name + " (id) values (0)", "delete from " + t.name + " where id > 25",
	}
	for range 5 {
		g.writes = append(g.writes, w[g.r.IntN(len(w))])
	}
}

// setsFirst sets the first column of a table that can be written.
func setsFirst(t *mariaTable, g *mariaGenerator) string {
	return " set " + t.writable[0].name + " = " + g.value(t.writable[0])
}
