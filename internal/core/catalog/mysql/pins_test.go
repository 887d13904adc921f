package mysql

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	facts "jollylarder/internal/core/analysis/mysql"
	"jollylarder/internal/core/catalog"
	"jollylarder/internal/core/freshness"
	syntax "jollylarder/internal/core/statement/mysql"
)

func text(schema, table, name, collation string) Column {
	return Column{Schema: schema, Table: table, Name: name, Type: "varchar(20)", Collation: collation, Length: 20}
}

// yard has tables whose rows are told apart by some of their columns.
var yard = &Described{
	Tables: []Table{
		{"s", "ports", "BASE TABLE", "InnoDB"}, {"s", "sailings", "BASE TABLE", "InnoDB"}, {"s", "signs", "BASE TABLE", "MyISAM"}, {"s", "tree", "BASE TABLE", "InnoDB"},
		{"s", "open", "VIEW", ""}, {"o", "ports", "BASE TABLE", "InnoDB"}, {"s", "moved", "BASE TABLE", "InnoDB"},
	},
	Columns: []Column{
		{Schema: "s", Table: "ports", Name: "id", Type: "int(11)", Extra: "auto_increment"}, text("s", "ports", "Name", "utf8mb4_general_ci"), of("s", "ports", "depth", "decimal(4,1)"),
		of("s", "sailings", "id", "bigint(20) unsigned"), of("s", "sailings", "port", "int(11)"), text("s", "sailings", "ship", "utf8mb4_danish_ci"), computed("s", "sailings", "twice", "port * 2"),
		text("s", "signs", "code", "latin1_bin"), of("s", "signs", "n", "tinyint(4)"), of("s", "tree", "id", "int(11)"), of("s", "tree", "up", "int(11)"), of("o", "ports", "id", "int(11)"),
		of("s", "open", "id", "int(11)"), of("s", "moved", "id", "int(11)"),
	},
	Keys: []Key{
		{"s", "ports", "PRIMARY", "id", false}, {"s", "sailings", "PRIMARY", "id", false}, {"s", "sailings", "one", "port,ship", false}, {"s", "signs", "code", "code,n", false}, {"s", "tree", "PRIMARY", "id", false},
		{"s", "moved", "PRIMARY", "id", true},
	},
	Views:      []View{{"s", "open", "select `s`.`ports`.`id` AS `id` from `s`.`ports`"}},
	Triggers:   []Trigger{{"s", "moved", "INSERT", "BEFORE", "set new.id = new.id + 1", ""}},
	References: []Reference{{"s", "sailings", "s", "ports", "id", "CASCADE", "CASCADE"}, {"s", "tree", "s", "tree", "id", "RESTRICT", "SET NULL"}},
}

// narrow gives by which columns what a statement reads and writes is narrowed.
func narrow(r *catalog.Resolved) string {
	var out []string
	for _, t := range slices.Sorted(maps.Keys(r.ReadPins)) {
		p := r.ReadPins[t]
		line := "read " + t
		for _, c := range p.Columns {
			line += fmt.Sprintf(" %s@%d", c.Name, c.Pin)
		}
		if p.Unique {
			line += " unique"
		}
		out = append(out, line)
	}
	for _, t := range slices.Sorted(maps.Keys(r.WritePins)) {
		p := r.WritePins[t]
		line := "write " + t
		for _, c := range p.Columns {
			line += fmt.Sprintf(" %s@%v", c.Name, c.Pins)
		}
		if p.Adds {
			line += " adds"
		}
		out = append(out, line)
	}
	return strings.Join(out, "; ")
}

// By which columns the rows that a statement reads and writes are told apart.
func TestNarrow(t *testing.T) {
	s := yard.Schema()
	for sql, want := range map[string]string{
		"select name from ports where ID = 5":                                               "read s.ports id@0 unique",
		"select name from ports p where p.name = 'x' and depth = 3":                         "read s.ports Name@0",
		"select name from ports where depth = 3":                                            "",
		"select 1 from ports where id = 5 and id = (select max(id) from s.ports)":           "",
		"select 1 from ports a, ports b where a.id = 5":                                     "",
		"select 1 from ports, open where ports.id = 5":                                      "",
		"select 1 from ports, o.ports q where ports.id = 5 and q.id = 6":                    "read o.ports id@1; read s.ports id@0 unique",
		"select 1 from ports, o.ports q where id = 5":                                       "",
		"select 1 from ports join sailings s on s.port = ports.id where ports.id = 5":       "read s.ports id@0 unique; read s.sailings port@1",
		"select 1 from ports join sailings using (id) where id = 5":                         "",
		"select 1 from sailings where ship = 'x' and port = 3":                              "read s.sailings port@1",
		"select 1 from signs where n = 3 and code = 'x'":                                    "read s.signs code@1 n@0 unique",
		"select 1 from open where id = 5":                                                   "",
		"select 1 from open o where o.id = 5":                                               "",
		"select 1 from moved where id = 5":                                                  "read s.moved id@0",
		"select 1 from ports P where p.id = 5":                                              "",
		"select 1 from ports where nothing = 5":                                             "",
		"update ports set name = 'x' where id = 5":                                          "write s.ports id@[0]",
		"update ports set id = 6 where id = 5":                                              "write s.ports id@[0 1]",
		"update ports set id = id + 1 where id = 5":                                         "write s.ports",
		"update sailings set port = 3 where twice = 4":                                      "write s.sailings",
		"delete from sailings where twice = 4":                                              "write s.sailings twice@[0]",
		"delete from ports where id = 5":                                                    "write s.ports id@[0]",
		"delete from tree where id = 5":                                                     "",
		"update tree set up = 5 where id = 5":                                               "write s.tree id@[0]",
		"insert into ports (id, name) values (5, 'x')":                                      "write s.ports id@[0] Name@[1] adds",
		"insert into ports (id, name) values (5, 'x') on duplicate key update name = 'y'":   "write s.ports id@[0]",
		"replace into ports (id, name) values (5, 'x')":                                     "write s.ports id@[0]",
		"replace into sailings (id, port) values (5, 3)":                                    "write s.sailings",
		"insert into signs (code) values ('x') on duplicate key update n = 4":               "write s.signs code@[0]",
		"insert into signs (code, n) values ('x', 1) on duplicate key update code = 'y'":    "write s.signs n@[1]",
		"insert into moved (id) values (5)":                                                 "write s.moved adds",
		"replace into moved (id) values (5)":                                                "write s.moved",
		"update open set id = 5 where id = 6":                                               "",
		"insert into ports (id) select id from sailings":                                    "write s.ports adds",
		"update ports p join sailings s on s.port = p.id set p.name = 'x' where p.id = 5":   "write s.ports",
		"delete from ports where id = 5 limit 1":                                            "write s.ports id@[0]",
		"insert into ports (id) values (5); delete from ports where id = 6":                 "",
		"update ports set name = 'x' where id = 5 and exists (select 1 from ports where 1)": "write s.ports id@[0]",
	} {
		assert.Equal(t, want, narrow(s.Resolve(facts.Facts(syntax.Syntax, sql), catalog.Hints{Path: []string{"s"}})), sql)
	}
	declared := catalog.Hints{Path: []string{"s"}, Declared: catalog.Declaration{Reads: []string{"ports"}, Writes: []string{"sailings"}}}
	assert.Empty(t, narrow(s.Resolve(facts.Facts(syntax.Syntax, "select 1 from ports where id = 5"), declared)), "what is declared is any row")
	assert.Empty(t, narrow(s.Resolve(facts.Facts(syntax.Syntax, "update sailings set port = 3 where id = 5"), declared)))
	assert.Empty(t, narrow(s.Resolve(facts.Facts(syntax.Syntax, "select 1 from ports where id = 5"), catalog.Hints{})), "a name may mean either table")
}

// What a log tells of tables, and of which columns it does.
func TestWhatALogTells(t *testing.T) {
	s := yard.Schema()
	assert.Equal(t, catalog.ToldRows, s.Told("s", "ports"))
	assert.Equal(t, catalog.ToldTable, s.Told("s", "sailings"), "a reference may change its rows")
	assert.Equal(t, catalog.ToldTable, s.Told("s", "tree"))
	assert.Equal(t, catalog.ToldTable, s.Told("s", "new"))
	assert.Equal(t, catalog.ToldLess, s.Told("s", "open"))
	assert.Equal(t, []catalog.Column{{Name: "id", Type: freshness.Integer}, {Name: "Name", Type: freshness.Text}}, s.PinColumns("s", "ports"))
	assert.Equal(t, []catalog.Column{{Name: "id", Type: freshness.Integer}, {Name: "port", Type: freshness.Integer}}, s.PinColumns("s", "sailings"), "and not what is computed")
	assert.Empty(t, s.PinColumns("s", "open"))
	merged := *yard
	merged.Tables = append(slices.Clone(yard.Tables), Table{"s", "all", "BASE TABLE", "MRG_MyISAM"})
	assert.Equal(t, catalog.ToldTable, merged.Schema().Told("s", "ports"), "another table may have its rows")
	assert.Equal(t, catalog.ToldLess, merged.Schema().Told("s", "all"))
}

// Which values a column stores as they are given.
func TestRooms(t *testing.T) {
	for _, c := range []struct {
		Column
		holds, not []freshness.Value
	}{
		{of("s", "t", "c", "tinyint(3) unsigned"), []freshness.Value{freshness.IntegerValue(0), freshness.IntegerValue(255)}, []freshness.Value{freshness.IntegerValue(-1), freshness.IntegerValue(256)}},
		{of("s", "t", "c", "mediumint(9)"), []freshness.Value{freshness.IntegerValue(-8388608)}, []freshness.Value{freshness.IntegerValue(8388608)}},
		{of("s", "t", "c", "bigint unsigned"), []freshness.Value{freshness.IntegerValue(1 << 60)}, []freshness.Value{freshness.IntegerValue(-1)}},
		{Column{Type: "int(11)", Extra: "auto_increment"}, []freshness.Value{freshness.IntegerValue(1)}, []freshness.Value{freshness.IntegerValue(0)}},
		{text("s", "t", "c", "latin1_bin"), []freshness.Value{freshness.TextValue([]byte("12345678901234567890"))}, []freshness.Value{freshness.TextValue([]byte("123456789012345678901"))}},
		{Column{Type: "tinytext", Collation: "utf8mb4_bin", Length: 255}, []freshness.Value{freshness.TextValue(make([]byte, 63))}, []freshness.Value{freshness.TextValue(make([]byte, 64))}},
	} {
		column := columnOf(c.Column)
		for _, v := range c.holds {
			assert.True(t, column.room.Holds(v), "%v %v", c.Column, v)
		}
		for _, v := range c.not {
			assert.False(t, column.room.Holds(v), "%v %v", c.Column, v)
		}
	}
	assert.True(t, catalog.Room{}.Holds(freshness.IntegerValue(1<<62)))
	for _, kind := range []string{"decimal(4,1)", "year(4)", "bit(4)", "varbinary(4)", "enum('a')", "double", "date", "integer_like"} {
		assert.Equal(t, freshness.NoType, columnOf(of("s", "t", "c", kind)).is, kind)
	}
}
