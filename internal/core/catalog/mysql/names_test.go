package mysql

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	facts "jollylarder/internal/core/analysis/mysql"
	"jollylarder/internal/core/catalog"
	"jollylarder/internal/core/reason"
	syntax "jollylarder/internal/core/statement/mysql"
)

// Names mean tables of the schema that is written with them, or else of that which is in use.
func TestNamesAreThoseOfTables(t *testing.T) {
	resolve := func(sql string, path ...string) *catalog.Resolved {
		return Names{}.Resolve(facts.Facts(syntax.Syntax, sql), catalog.Hints{Path: path})
	}
	r := resolve("insert into berths select * from Quays a join berths b join harbour.quays c", "skerrow")
	assert.Equal(t, []string{"harbour.quays", "skerrow.Quays", "skerrow.berths"}, r.Reads)
	assert.Equal(t, []string{"skerrow.berths"}, r.Writes)
	assert.False(t, r.Everything)
	assert.Equal(t, []string{"berths"}, resolve("select 1 from berths").Reads, "nothing is in use")
	assert.Equal(t, []reason.Reason{reason.Of(reason.NoAccount)}, resolve("select name from berths", "skerrow").Reasons)

	r = resolve("select load_price(id) from berths", "skerrow")
	assert.True(t, r.Everything, "what a function does is not known")
	assert.Equal(t, "calls load_price(), a function whose tables are not known", r.Reasons[0].String())
	r = resolve("alter table berths add column x int", "skerrow")
	assert.True(t, r.Everything && r.SchemaChanges)
	assert.True(t, resolve("nonsense").Beyond)
}

// A round takes one answer, which is that nobody can be asked, or all there is.
func TestARoundHasOneAnswer(t *testing.T) {
	r := &Reader{}
	r.Begin()
	assert.True(t, r.InRound())
	_, ok := r.Take(r.Bundle()[0], 5, time.Second)
	assert.False(t, ok, "that is no answer of its")
	ended, ok := r.Take(r.Bundle()[0], Nothing{}, time.Second)
	assert.True(t, ended && ok && r.Changed() && !r.InRound())
	r.Accept()
	_, _ = r.Take(r.Bundle()[0], Nothing{}, time.Second)
	assert.False(t, r.Changed())
	assert.False(t, r.Description().Schema().Whole())
	_, ok = r.Take(r.Bundle()[0], &Described{Tables: []Table{{"skerrow", "ports", "BASE TABLE", "InnoDB"}}}, time.Second)
	assert.True(t, ok && r.Changed() && r.Description().Schema().Whole())
	r.Accept()
	_, _ = r.Take(r.Bundle()[0], &Described{Tables: []Table{{"skerrow", "ports", "BASE TABLE", "InnoDB"}}}, time.Second)
	assert.False(t, r.Changed())
}
