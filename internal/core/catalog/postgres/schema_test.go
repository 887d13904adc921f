package postgres

import (
	"testing"

	"github.com/stretchr/testify/assert"

	facts "jollylarder/internal/core/analysis/postgres"
	"jollylarder/internal/core/catalog"
)

var harbour = New([]Row{
	{What: "relation", Schema: "public", Name: "ports", Flags: "r"},
	{What: "relation", Schema: "north", Name: "ports", Flags: "r"},
	{What: "relation", Schema: "public", Name: "quays", Flags: "r"},
	{What: "relation", Schema: "public", Name: "berths", Flags: "r"},
	{What: "relation", Schema: "public", Name: "audited", Flags: "rT"},
	{What: "relation", Schema: "public", Name: "defining", Flags: "rTX"},
	{What: "relation", Schema: "public", Name: "shown", Flags: "v"},
	{What: "relation", Schema: "public", Name: "tides", Flags: "p"},
	{What: "reference", Schema: "public", Name: "ports", Flags: "ac", OtherSchema: "public", OtherName: "quays"},
	{What: "reference", Schema: "public", Name: "quays", Flags: "ac", OtherSchema: "public", OtherName: "berths"},
	{What: "reference", Schema: "public", Name: "berths", Flags: "ac", OtherSchema: "public", OtherName: "quays"},
	{What: "function", Name: "steady", Flags: "i"},
	{What: "function", Name: "lower", Flags: "v"},
	{What: "function", Schema: "public", Name: "codesend", Flags: "sf", OtherSchema: "internal", OtherName: " textsend"},
	{What: "function", Schema: "public", Name: "momentsend", Flags: "sf", OtherSchema: "internal", OtherName: " timestamptz_send"},
	{What: "function", Schema: "public", Name: "strange", Flags: "sf", OtherSchema: "c", OtherName: "$libdir/strange textsend"},
	{What: "function", Schema: "public", Name: "fixed", Flags: "if", OtherSchema: "sql", OtherName: "create function fixed(int) returns bigint language sql immutable as 'select count(*) from berths'"},
	{What: "function", Schema: "public", Name: "counted", Flags: "sf", OtherSchema: "sql", OtherName: "create function counted() returns bigint language sql stable as 'select count(*) from berths'"},
	{What: "function", Schema: "public", Name: "deep", Flags: "if", OtherSchema: "sql", OtherName: "create function deep() returns bigint language sql immutable as 'select counted()'"},
	{What: "function", Schema: "public", Name: "pure", Flags: "if", OtherSchema: "sql", OtherName: "create function pure(int) returns int language sql immutable as 'select $1 + 1'"},
	{What: "operator", Name: "<->", Flags: "i"},
	{What: "operator", Name: "~~~", Flags: "s"},
})

func resolve(sql string) *catalog.Resolved { return harbour.Resolve(facts.Facts(sql), catalog.Hints{}) }

func TestNamesAndCascades(t *testing.T) {
	r := resolve("select * from ports")
	assert.Equal(t, []string{"north.ports", "public.ports"}, r.Reads, "without a schema both may be meant")
	assert.Empty(t, r.Reasons)
	assert.Equal(t, []string{"north.ports"}, resolve("select * from north.ports").Reads)
	r = resolve("delete from public.ports")
	assert.Equal(t, []string{"public.berths", "public.ports", "public.quays"}, r.Writes, "round the cycle of cascades once")
	assert.False(t, r.Everything)
}

func TestCommonTableExpressions(t *testing.T) {
	assert.Empty(t, resolve("with x as (select 1) select * from x").Reasons)
	assert.Equal(t, []string{"public.quays"}, resolve("with quays as (select * from quays) select * from quays").Reads,
		"the table of the same name counts")
	assert.NotEmpty(t, resolve("select * from x").Reasons)
}

func TestWhatMayDoMore(t *testing.T) {
	for _, c := range []struct {
		sql                         string
		cacheable, everything, also bool // also: the schema may change
	}{
		{"select steady(1)", false, false, false},
		{"select lower('A')", false, true, true}, // one of this database's own may be meant
		{"select pg_catalog.lower('A')", true, false, false},
		{"select unheard(1)", false, true, true},
		{"select pure(1)", true, false, false},
		{"select counted()", true, false, false},
		{"select fixed(1)", false, false, false}, // the server works it out when it plans a statement, which it may have done long ago
		{"select deep()", false, false, false},
		{"select counted(), deep()", false, false, false},
		{"select codesend('a')", true, false, false}, // which is one of the server's own under another name
		{"select momentsend(a) from quays", false, false, false},
		{"select strange('a')", false, false, false},
		{"select * from shown", false, false, false},
		{"select * from tides", false, false, false},
		{"select a <-> b from quays", true, false, false},
		{"select a ~~~ b from quays", false, false, false},
		{"select q.steady from quays q", false, false, false},
		{"insert into audited values (1)", false, true, false},
		{"insert into defining values (1)", false, true, true},
		{"insert into shown values (1)", false, true, true},
		{"insert into tides values (1)", false, true, true},
		{"insert into made_since values (1)", false, true, true},
		{"create table x (a int)", false, true, true},
		{"update quays set a = 1", false, false, false},
	} {
		r := resolve(c.sql)
		assert.Equal(t, c.cacheable, len(r.Reasons) == 0, "%s: %v", c.sql, r.Reasons)
		assert.Equal(t, c.everything, r.Everything, c.sql)
		assert.Equal(t, c.also, r.SchemaChanges, c.sql)
	}
}

// What is declared of a function counts as what its body reads: with IMMUTABLE it may be of an earlier moment.
func TestDeclaredFunctionsThatAreFixed(t *testing.T) {
	s := harbour.With(map[string]catalog.Declaration{"public.pure": {Reads: []string{"public.berths"}}, "public.counted": {Reads: []string{"public.berths"}}})
	r := s.Resolve(facts.Facts("select pure(1)"), catalog.Hints{})
	assert.Len(t, r.Reasons, 1)
	assert.Equal(t, []string{"public.berths"}, r.Reads)
	assert.Empty(t, s.Resolve(facts.Facts("select counted()"), catalog.Hints{}).Reasons)
}

func TestWithoutACatalogNothingIsKept(t *testing.T) {
	r := catalog.Unread(facts.Facts("select * from ports"))
	assert.NotEmpty(t, r.Reasons)
	assert.True(t, r.Everything, "it may be a view that calls anything")
	assert.False(t, catalog.Unread(facts.Facts("show time zone")).Everything)
	assert.True(t, catalog.Unread(facts.Facts("insert into ports values (1)")).Everything)
}
