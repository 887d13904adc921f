package mysql

import (
	"fmt"
	"sort"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"

	facts "jollylarder/internal/core/analysis/mysql"
	"jollylarder/internal/core/catalog"
	"jollylarder/internal/core/reason"
	syntax "jollylarder/internal/core/statement/mysql"
)

// harbour is a server with all that can stand behind a name.
var harbour = &Described{
	Tables: []Table{
		{"harbour", "quays", "BASE TABLE", "InnoDB"}, {"skerrow", "Ports", "BASE TABLE", "InnoDB"}, {"skerrow", "bookings", "BASE TABLE", "InnoDB"},
		{"skerrow", "everything", "BASE TABLE", "MRG_MyISAM"}, {"skerrow", "far", "BASE TABLE", "FEDERATED"}, {"skerrow", "log", "BASE TABLE", "MyISAM"},
		{"skerrow", "odd", "BASE TABLE", "Mroonga"}, {"skerrow", "open_sailings", "VIEW", ""}, {"skerrow", "hidden", "VIEW", ""}, {"skerrow", "priced", "VIEW", ""},
		{"skerrow", "quays", "BASE TABLE", "Aria"}, {"skerrow", "sailings", "BASE TABLE", "InnoDB"}, {"skerrow", "seats", "BASE TABLE", "InnoDB"},
		{"skerrow", "buoys", "BASE TABLE", "InnoDB"}, {"skerrow", "lights", "BASE TABLE", "InnoDB"}, {"harbour", "dice", "BASE TABLE", "InnoDB"}, {"harbour", "guests", "BASE TABLE", "InnoDB"},
		{"skerrow", "tickets", "SEQUENCE", "InnoDB"}, {"mysql", "user", "VIEW", ""}, {"information_schema", "TABLES", "SYSTEM VIEW", "MEMORY"},
	},
	Columns: []Column{
		of("skerrow", "sailings", "Leaves", "time"), computed("skerrow", "buoys", "twice", "`depth` * 2"), computed("skerrow", "buoys", "label", "concat(`name`,' (',hex(`id`),')')"),
		computed("skerrow", "lights", "lit", "`since` < current_timestamp()"), computed("harbour", "dice", "n", "rand()"), computed("harbour", "guests", "who", "user()"),
	},
	Views: []View{
		{"skerrow", "open_sailings", "select `s`.`id` AS `id`,`p`.`name` AS `name` from (`skerrow`.`sailings` `s` join `skerrow`.`Ports` `p` on(`s`.`route` = `p`.`id`)) where `s`.`seats_left` > 0"},
		{"skerrow", "hidden", ""}, {"skerrow", "priced", "select `skerrow`.`load_price`(`skerrow`.`open_sailings`.`id`) AS `x` from `skerrow`.`open_sailings`"},
	},
	Triggers: []Trigger{
		{"skerrow", "sailings", "UPDATE", "AFTER", "insert into log (what) values (new.id)", ""}, {"skerrow", "log", "INSERT", "AFTER", "call harbour.count_up()", ""},
		{"skerrow", "seats", "DELETE", "AFTER", "insert into log values (1)", ""},
	},
	Routines: []Routine{
		{"skerrow", "load_price", "FUNCTION", "begin declare n int; select count(*) into n from Ports; return replace(n, 1, 2); end", ""},
		{"harbour", "count_up", "PROCEDURE", "update quays set n = n + 1", ""}, {"skerrow", "refit", "PROCEDURE", "begin call harbour.count_up(); delete from seats; end", ""},
		{"skerrow", "made", "PROCEDURE", "execute immediate concat('drop table ', x)", ""}, {"skerrow", "secret", "FUNCTION", "", ""},
		{"skerrow", "loop_a", "FUNCTION", "return loop_b()", ""}, {"skerrow", "loop_b", "FUNCTION", "return loop_a()", ""},
		{"skerrow", "bin_to_uuid", "FUNCTION", "begin insert into log values (1); return 1; end", "ANSI_QUOTES"},
		{"skerrow", "allow", "PROCEDURE", "update mysql.user set x = 1", ""},
		{"skerrow", "renew", "PROCEDURE", "create or replace view open_sailings as select * from sailings", ""},
		{"skerrow", "stage", "PROCEDURE", "begin create temporary table s select * from Ports; drop temporary table s; end", ""},
		{"skerrow", "admit", "PROCEDURE", "begin grant select on skerrow.* to ines; end", ""},
		{"skerrow", "admits", "PROCEDURE", "execute immediate concat('grant select on skerrow.* to ', x)", ""},
	},
	References: []Reference{
		{"skerrow", "bookings", "skerrow", "sailings", "id", "SET NULL", "CASCADE"}, {"skerrow", "seats", "skerrow", "bookings", "id", "RESTRICT", "CASCADE"},
		{"harbour", "quays", "skerrow", "Ports", "id,name", "CASCADE", "NO ACTION"},
	},
	Natives: []string{"Knots"},
}

func of(schema, table, name, kind string) Column {
	return Column{Schema: schema, Table: table, Name: name, Type: kind}
}

func computed(schema, table, name, expression string) Column {
	return Column{Schema: schema, Table: table, Name: name, Type: "int(11)", Expression: expression}
}

// does gives what a statement does in one line.
func does(s catalog.Schema, sql string, path ...string) string {
	r := s.Resolve(facts.Facts(syntax.Syntax, sql), catalog.Hints{Path: path})
	out := strings.Join(r.Reads, " ") + " > " + strings.Join(r.Writes, " ")
	if r.Everything {
		out += " everything"
	}
	if r.SchemaChanges {
		out += " schema"
	}
	if r.MayGrant {
		out += " may grant"
	}
	for _, why := range r.Reasons {
		if why.Code != reason.Writes {
			out += "; " + why.String()
		}
	}
	return out
}

// A view of another database is read by entering that, which changes nothing of the session unless it calls something.
func TestViewsOfOtherDatabases(t *testing.T) {
	for _, x := range []struct {
		in, sql string
		enters  bool
	}{
		{"harbour", "select 1 from skerrow.open_sailings", true}, {"harbour", "select 1 from quays, skerrow.open_sailings", true}, {"", "select 1 from skerrow.open_sailings", true},
		{"skerrow", "select 1 from open_sailings", false}, {"harbour", "select 1 from skerrow.Ports", false}, {"harbour", "select 1 from skerrow.priced", false},
		{"harbour", "select skerrow.load_price(1) from skerrow.open_sailings", false},
	} {
		r := harbour.Schema().Resolve(facts.Facts(syntax.Syntax, x.sql), catalog.Hints{Path: []string{x.in}})
		assert.Equal(t, x.enters, r.Enters, "%s in %s", x.sql, x.in)
	}
}

// What a statement reads and writes, through views, triggers, routines and references.
func TestResolve(t *testing.T) {
	s := harbour.Schema()
	for sql, want := range map[string]string{
		"select name from Ports":                                         "skerrow.Ports > ",
		"select name from ports":                                         "skerrow.ports > ; reads skerrow.ports, which the catalog does not name",
		"select 1 from open_sailings":                                    "skerrow.Ports skerrow.sailings > ",
		"select 1 from hidden":                                           " > ; reads skerrow.hidden, a view: this database's catalog does not say what is behind it",
		"select 1 from priced":                                           "skerrow.Ports skerrow.sailings > ; reads the view skerrow.priced, which calls skerrow.load_price(), which may give another value at every call",
		"select leaves, id from sailings order by id":                    "skerrow.sailings > ",
		"select id from sailings where leaves > ?":                       "skerrow.sailings > ; computes with skerrow.sailings.leaves, a time without a date, which may be read as one of today",
		"select load_price(3)":                                           "skerrow.Ports > ; calls skerrow.load_price(), which may give another value at every call",
		"select harbour.load_price(3)":                                   " >  everything; calls harbour.load_price(), a function whose tables are not known",
		"select secret()":                                                " >  everything schema; calls skerrow.secret(), which may give another value at every call",
		"select loop_a()":                                                " > ; calls skerrow.loop_a(), which may give another value at every call",
		"select knots(3)":                                                " > ; calls knots(), a function whose tables are not known",
		"select bin_to_uuid(id) from Ports":                              "skerrow.Ports > harbour.quays skerrow.log; calls skerrow.bin_to_uuid(), which may give another value at every call",
		"select * from tickets":                                          "skerrow.tickets > ; reads skerrow.tickets, a sequence",
		"select * from everything":                                       "skerrow.everything > ; reads skerrow.everything, which shares rows with another table by inheritance or partitioning",
		"select * from far":                                              "skerrow.far > ; reads skerrow.far, a table of another server",
		"select * from odd":                                              "skerrow.odd > ; reads skerrow.odd, which is not a plain table",
		"select * from information_schema.TABLES":                        "information_schema.TABLES > ; reads the system table information_schema.TABLES",
		"insert into Ports values (1)":                                   " > skerrow.Ports",
		"update Ports set id = 2":                                        " > harbour.quays skerrow.Ports",
		"update Ports set island = 2":                                    " > skerrow.Ports",
		"update Ports set island = 2, Name = 'x'":                        " > harbour.quays skerrow.Ports",
		"update Ports p, log l set p.island = 2":                         "skerrow.Ports skerrow.log > harbour.quays skerrow.Ports skerrow.log",
		"delete from Ports":                                              " > skerrow.Ports",
		"update sailings set id = 3":                                     " > harbour.quays skerrow.bookings skerrow.log skerrow.sailings",
		"insert into sailings values (1)":                                " > skerrow.sailings",
		"replace into sailings values (1)":                               " > harbour.quays skerrow.bookings skerrow.log skerrow.sailings skerrow.seats",
		"insert into sailings values (1) on duplicate key update id = 2": " > harbour.quays skerrow.bookings skerrow.log skerrow.sailings",
		"delete from seats":                                              " > harbour.quays skerrow.log skerrow.seats",
		"delete from open_sailings":                                      " > harbour.quays skerrow.Ports skerrow.bookings skerrow.log skerrow.sailings skerrow.seats",
		"delete from hidden":                                             " >  everything",
		"insert into everything values (1)":                              " > skerrow.everything everything",
		"insert into nowhere values (1)":                                 " > skerrow.nowhere everything schema",
		"call refit()":                                                   " > harbour.quays skerrow.log skerrow.seats; runs a procedure",
		"call made()":                                                    " >  everything schema; runs a procedure",
		"call load_price(1)":                                             " >  everything; runs a procedure; calls load_price(), a function whose tables are not known",
		"call allow()":                                                   " >  everything schema may grant; runs a procedure",
		"call renew()":                                                   " > harbour.quays skerrow.Ports skerrow.bookings skerrow.log skerrow.sailings skerrow.seats everything schema; runs a procedure",
		"call stage()":                                                   " > harbour.quays skerrow.Ports; runs a procedure",
		"call admit()":                                                   " >  everything schema may grant; runs a procedure",
		"call admits()":                                                  " >  everything schema may grant; runs a procedure",
		"insert into mysql.user values (1)":                              " > mysql.user everything schema",
		"select 1 from harbour.quays, quays":                             "harbour.quays skerrow.quays > ",
		"alter table Ports add x int":                                    " >  everything schema; changes the schema or privileges",
	} {
		assert.Equal(t, want, does(s, sql, "skerrow"), sql)
	}
	assert.Equal(t, "harbour.quays skerrow.quays > ", does(s, "select 1 from quays"), "which schema is in use is not known")
	folded := *harbour
	folded.Folds = true
	assert.Equal(t, "skerrow.Ports > ", does(folded.Schema(), "select name from PORTS", "Skerrow"))
	with := s.With(map[string]catalog.Declaration{"skerrow.secret": {Reads: []string{"Ports"}, Writes: []string{"harbour.quays"}}})
	assert.Equal(t, "skerrow.Ports > harbour.quays", does(with, "select secret()", "skerrow"))
}

// How each table is come to is told.
func TestHowTablesAreComeTo(t *testing.T) {
	r := harbour.Schema().Resolve(facts.Facts(syntax.Syntax, "delete from sailings where id in (select id from open_sailings)"), catalog.Hints{Path: []string{"skerrow"}})
	assert.Equal(t, []string{"through the view skerrow.open_sailings"}, r.ReadHow["skerrow.Ports"])
	assert.Equal(t, []string{"by its reference to skerrow.sailings", "by its reference to skerrow.bookings"}, r.WrittenHow["skerrow.seats"])
	r = harbour.Schema().Resolve(facts.Facts(syntax.Syntax, "update sailings set id = 3"), catalog.Hints{Path: []string{"skerrow"}})
	assert.Equal(t, []string{"through a trigger of skerrow.sailings", "through a trigger of skerrow.log", "through harbour.count_up()"}, r.WrittenHow["harbour.quays"])
}

// Whatever refers to whatever, following it ends, and more references never make a write touch less.
func TestReferencesAreFollowedToTheirEnd(t *testing.T) {
	names := []string{"a", "b", "c", "d", "e"}
	rules := []string{"CASCADE", "SET NULL", "RESTRICT", "NO ACTION", "SET DEFAULT", "?"}
	rapid.Check(t, func(t *rapid.T) {
		d := &Described{}
		for _, n := range names {
			d.Tables = append(d.Tables, Table{"s", n, "BASE TABLE", "InnoDB"})
		}
		var before []string
		for range rapid.IntRange(0, 12).Draw(t, "references") {
			pick := func(of []string, what string) string { return rapid.SampledFrom(of).Draw(t, what) }
			d.References = append(d.References, Reference{"s", pick(names, "from"), "s", pick(names, "to"), "id", pick(rules, "update"), pick(rules, "delete")})
			r := d.Schema().Resolve(facts.Facts(syntax.Syntax, "delete from a"), catalog.Hints{Path: []string{"s"}})
			assert.True(t, sort.StringsAreSorted(r.Writes))
			for _, n := range before {
				assert.Contains(t, r.Writes, n)
			}
			before = r.Writes
		}
	})
}

// A statement of tens of thousands of names takes time by their number alone: with the square of that, this would take
// a minute.
func TestStatementsOfManyNames(t *testing.T) {
	list := func(form, separator string) string {
		var b strings.Builder
		for i := range 30_000 {
			if i > 0 {
				b.WriteString(separator)
			}
			fmt.Fprintf(&b, form, i)
		}
		return b.String()
	}
	s := harbour.Schema()
	for _, sql := range []string{"select 1 from " + list("t%d", ","), "select " + list("f%d(a)", ","), "select " + list("c%d+1", ","), "select 1 from json_table(a) x," + list("t%d", ",")} {
		for range 4 {
			f := facts.Facts(syntax.Syntax, sql)
			assert.NotEmpty(t, f.Called())
			s.Resolve(f, catalog.Hints{Path: []string{"skerrow"}})
			Names{}.Resolve(f, catalog.Hints{})
		}
	}
}

// A column that is computed by more than its row is another whenever it is read.
func TestComputedColumns(t *testing.T) {
	s := harbour.Schema()
	for sql, why := range map[string]string{
		"select * from buoys": "", "select lit from lights": "reads skerrow.lights, whose column lit changes on its own", "select 1 from harbour.dice": "reads harbour.dice, whose column n changes on its own",
		"select * from harbour.guests": "reads harbour.guests, whose column who changes on its own",
	} {
		r := s.Resolve(facts.Facts(syntax.Syntax, sql), catalog.Hints{Path: []string{"skerrow"}})
		assert.Equal(t, why, strings.Join(reason.Sentences(r.Reasons), "; "), sql)
	}
}

// Privileges are those of their account, and of all accounts where they may be a role's.
func TestPrivilegesOfAccounts(t *testing.T) {
	d := &Described{RolesApart: true, Grants: []Grant{{Grantee: "'ines'@'%'", Privilege: "SELECT"}, {Grantee: "'tern'@'10.1.%'", Schema: "skerrow", Privilege: "SELECT"}, {Grantee: "'clerk'@''", Privilege: "SELECT"}}}
	first := d.Privileges()
	assert.Len(t, first, 3)
	d.Grants = append(d.Grants, Grant{Grantee: "'ines'@'%'", Schema: "skerrow", Table: "ports", Privilege: "UPDATE"})
	second := d.Privileges()
	assert.NotEqual(t, first["ines@%"], second["ines@%"])
	assert.Equal(t, first["tern@10.1.%"], second["tern@10.1.%"])
	assert.Equal(t, first[catalog.EveryAccount], second[catalog.EveryAccount])
	d.Grants[2].Passed = "YES"
	assert.NotEqual(t, second[catalog.EveryAccount], d.Privileges()[catalog.EveryAccount], "a role's are everybody's who takes it")
	d.RolesApart = false
	assert.Len(t, d.Privileges(), 1, "of a server where accounts are roles")
}
