package engine

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jollylarder/internal/core/analysis"
	schema "jollylarder/internal/core/catalog/postgres"
	"jollylarder/internal/core/ledger"
)

// sends has a session send statements, each of which ends well.
func sends(s *Session, list ...string) {
	state := s.State()
	for _, sql := range list {
		d := decide(s, sql)
		d.Sent(now)
		switch d.does.Kind {
		case analysis.KindBegin:
			state = InBlock
		case analysis.KindCommit, analysis.KindRollback:
			state = Idle
		}
		d.End(Result{}, now)
		s.Ready(state)
	}
}

// Until the catalog has been read again, what has to do with a changed definition passes, and all else goes on.
func TestWhileADefinitionHasNotBeenReadAgain(t *testing.T) {
	const other = "select n from ports where n = 1"
	for name, c := range map[string]struct {
		sent  []string
		read  bool // the reader of berths is still answered from memory
		other bool // and that of ports
	}{
		"a new table, and what is put into it": {[]string{"create table x (id serial, n int references ports on delete cascade)", "insert into x values (1, 2)", "update x set n = 3", "select * from x"}, true, true},
		"an index":                             {[]string{"create index on berths (n)"}, true, true},
		"an index that is dropped":             {[]string{"drop index berths_pkey"}, false, true},
		"a reference with a cascade, and a write of what is referred to": {[]string{"alter table ports add foreign key (n) references berths on delete cascade", "delete from berths where n = 77"}, false, false},
		"a reference without, and the same":                              {[]string{"create table x (n int references berths)", "delete from ports where n = 77"}, true, true},
		"a view that writes, and a read of it":                           {[]string{"create view busy as select moves()", "select * from busy"}, false, false},
		"a column more, and a write":                                     {[]string{"alter table berths add column more text", "update berths set n = 1"}, false, true},
		"a trigger, and a read":                                          {[]string{"create trigger t after insert on berths execute function f()", "select n from berths"}, false, true},
		"a trigger, and a write":                                         {[]string{"create trigger t after insert on berths execute function f()", "insert into berths values (1)"}, false, false},
		"a table of that name elsewhere":                                 {[]string{"create table north.berths (id int)"}, false, true},
		"an index of that name":                                          {[]string{"create table berth (n int)", "create index berths on berth (n)"}, false, true},
		"one that is dropped and made again":                             {[]string{"drop table ports", "create table ports (n int)", "insert into ports values (1)"}, true, false},
		"in a block that is rolled back":                                 {[]string{"begin", "alter table berths add column more text", "rollback"}, false, true},
		"in a block":                                                     {[]string{"begin", "alter table berths add column more text"}, false, true},
		"of its name's beginning":                                        {[]string{"create table ber (id int)"}, true, true},
	} {
		t.Run(name, func(t *testing.T) {
			e := quays(t)
			reader, writer := client(e, "10", described), client(e, "10", described)
			for _, sql := range []string{read, other} {
				ask(reader, sql, now)
				require.Equal(t, ledger.Hit, ask(reader, sql, now))
			}
			sends(writer, c.sent...)
			assert.Equal(t, c.read, ask(reader, read, now) == ledger.Hit)
			assert.Equal(t, c.other, ask(reader, other, now) == ledger.Hit)
			sends(writer, "rollback")
			settle(reader, "10", "UTC", described)
			ask(reader, read, now)
			assert.Equal(t, ledger.Hit, ask(reader, read, now), "it is kept again when the catalog has been read")
		})
	}
}

// A catalog that was asked for while a definition was being changed does not hold it.
func TestACatalogReadWhileADefinitionChanges(t *testing.T) {
	e := quays(t)
	reader, writer := client(e, "10", described), client(e, "10", described)
	ask(reader, read, now)
	require.Equal(t, ledger.Hit, ask(reader, read, now))
	sends(writer, "begin", "alter table berths add column more text")
	settle(reader, "10", "UTC", described)
	assert.Equal(t, ledger.Bypass, ask(reader, read, now))
	reader.Asking(NeedCatalog, now)
	sends(writer, "commit")
	reader.LearnedCatalog(describe(described), now)
	assert.Equal(t, ledger.Bypass, ask(reader, read, now), "it may have been read before the commit")
	settle(reader, "10", "UTC", described)
	ask(reader, read, now)
	assert.Equal(t, ledger.Hit, ask(reader, read, now))
}

// What was written by the catalog of before counts for what the new one says, too: a table that is new refers to the one
// that is written, and its rows go with those of the other.
func TestAWriteThatEndsUnderANewerCatalog(t *testing.T) {
	const child = "select id from lines where id = 1"
	after := append(described[:len(described):len(described)], schema.Row{What: "relation", Schema: "public", Name: "lines", Flags: "r"}, schema.Row{What: "reference", Schema: "public", Name: "ports", Flags: "ac n", OtherSchema: "public", OtherName: "lines"})
	for name, meanwhile := range map[string]bool{"and is known before": false, "and becomes known meanwhile": true} {
		t.Run(name, func(t *testing.T) {
			e := quays(t)
			reader, writer := client(e, "10", described), client(e, "10", described)
			definer := client(e, "10", described)
			defines := func() {
				sends(definer, "create table lines (id int, n int references ports on delete cascade)")
				settle(reader, "10", "UTC", after)
			}
			if !meanwhile {
				defines()
			}
			sends(writer, "begin", "delete from ports where n = 7")
			if meanwhile {
				defines()
			}
			ask(reader, read, now)
			ask(reader, child, now)
			require.Equal(t, ledger.Hit, ask(reader, child, now))
			require.Equal(t, ledger.Hit, ask(reader, read, now))
			sends(writer, "commit")
			assert.NotEqual(t, ledger.Hit, ask(reader, child, now))
			assert.Equal(t, ledger.Hit, ask(reader, read, now), "what it has nothing to do with stays")
		})
	}
}

// A statement that was prepared before a definition of its tables changed is not the same as one prepared after.
func TestAStatementPreparedBeforeItsTableChanged(t *testing.T) {
	e := quays(t)
	s, writer := client(e, "10", described), client(e, "10", described)
	before := s.Parsed()
	assert.Equal(t, ledger.Miss, askParsed(s, read, &before).Outcome)
	assert.Equal(t, ledger.Hit, askParsed(s, read, &before).Outcome)
	sends(writer, "create index on ports (n)")
	settle(s, "10", "UTC", described)
	assert.Equal(t, ledger.Hit, askParsed(s, read, &before).Outcome, "another table's")
	sends(writer, "create index on berths (n)")
	settle(s, "10", "UTC", described)
	assert.Equal(t, ledger.Hit, askParsed(s, read, &before).Outcome, "an index is no matter")
	sends(writer, "alter table berths add column more text")
	settle(s, "10", "UTC", described)
	after := s.Parsed()
	assert.Equal(t, ledger.Miss, askParsed(s, read, &after).Outcome)
	assert.Equal(t, ledger.Hit, askParsed(s, read, &after).Outcome)
	assert.Equal(t, ledger.Miss, askParsed(s, read, &before).Outcome, "it has a result of its own")
	assert.Equal(t, ledger.Hit, askParsed(s, read, &before).Outcome)

	sends(writer, "begin", "alter table berths add column more text")
	during := s.Parsed()
	sends(writer, "commit")
	settle(s, "10", "UTC", described)
	assert.Equal(t, ledger.Bypass, askParsed(s, read, &during).Outcome, "nobody knows which came first")
}

// A write that was decided on before a definition, and sent after it, counts for what that adds.
func TestAWriteDecidedOnBeforeADefinition(t *testing.T) {
	e := quays(t)
	reader, writer, definer := client(e, "10", described), client(e, "10", described), client(e, "10", described)
	d := decide(writer, "update ports set n = 1")
	sends(definer, "create trigger t after update on ports execute function f()")
	ask(reader, read, now)
	require.Equal(t, ledger.Hit, ask(reader, read, now))
	d.Sent(now)
	d.End(Result{}, now)
	writer.Ready(Idle)
	assert.NotEqual(t, ledger.Hit, ask(reader, read, now))
}

// A write of a table of its session's own may write others, too, to which definitions have added something.
func TestAWriteOfATemporaryTableAndAnother(t *testing.T) {
	e := quays(t)
	reader, writer := client(e, "10", described), client(e, "10", described)
	sends(writer, "create temp table mine (id int)")
	settle(writer, "10", "UTC", described)
	ask(reader, read, now)
	require.Equal(t, ledger.Hit, ask(reader, read, now))
	sends(writer, "create trigger t after update on ports execute function f()", "with w as (insert into mine values (1) returning id) update ports set n = id from w")
	assert.NotEqual(t, ledger.Hit, ask(reader, read, now))
}

// What changed around the larder is found though something of a similar name, or an index of the same table, was defined through it.
func TestAChangeAroundBesideADefinition(t *testing.T) {
	for name, c := range map[string]struct {
		sent    []string
		changed string // whose columns are others afterwards
	}{
		"of an index":                  {[]string{"create index on berths (n)"}, "berths"},
		"of one that is not committed": {[]string{"begin", "alter table berths add column more text"}, "berths"},
	} {
		t.Run(name, func(t *testing.T) {
			e := quays(t)
			reader, writer := client(e, "10", described), client(e, "10", described)
			ask(reader, read, now)
			require.Equal(t, ledger.Hit, ask(reader, read, now))
			sends(writer, c.sent...)
			after := slices.Clone(described)
			for i := range after {
				if after[i].What == "columns" && after[i].Name == c.changed {
					after[i].OtherName = "n id\nt n"
				}
			}
			settle(reader, "10", "UTC", after)
			sends(writer, "rollback")
			settle(reader, "10", "UTC", after)
			settle(reader, "10", "UTC", after)
			assert.Equal(t, ledger.Miss, ask(reader, read, now), "what was kept before is dropped")
		})
	}
}

// A change of which schemas there are has every session ask anew which of them it uses.
func TestANewSchemaMayStandInASearchPath(t *testing.T) {
	e := quays(t)
	reader, writer := client(e, "10", described), client(e, "10", described)
	ask(reader, read, now)
	require.Equal(t, ledger.Hit, ask(reader, read, now))
	sends(writer, "create schema north")
	reader.Asking(NeedCatalog, now)
	reader.LearnedCatalog(describe(described), now)
	d := decide(reader, read)
	assert.NotZero(t, d.Need&NeedSettings)

}
