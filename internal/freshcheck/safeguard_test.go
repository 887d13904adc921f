//go:build safeguards

package freshcheck

import (
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"jollylarder/internal/core/freshness"
)

var small = &world{schema: []string{
	"create table a (id int primary key, k int, n int default 0)", "create table c (id int primary key, k int, n int default 0)", "create table e (id serial primary key, n int)",
	"create table stamps (id int primary key, at timestamptz)", "create view v as select id, n from c",
	"create function follow() returns trigger language plpgsql as $$ begin update e set n = new.n; return new; end $$",
	"create function mirror() returns trigger language plpgsql as $$ begin update c set n = new.n where id = new.id; return new; end $$",
	"create trigger follows after update on c for each row execute function follow()",
	"insert into a select g, g from generate_series(0, 4) g", "insert into c select g, g from generate_series(0, 4) g", "insert into stamps values (1, '2026-01-01 00:00+00')",
}}

func asks(session int, sql string) step  { return step{session: session, kind: read, sql: sql} }
func sends(session int, sql string) step { return step{session: session, kind: write, sql: sql} }

// need is a safeguard, and what happens when it is missed.
type need struct {
	off    freshness.Safeguard
	script Script
}

var needed = map[string]need{
	"clock moved": {freshness.ClockMoved, Script{asks(0, "select n from a where id = 1"), asks(0, "select n from a where id = 1"), sends(1, "update a set n = 5 where id = 1"), asks(0, "select n from a where id = 1")}},
	"pending at sending": {freshness.PendingAtSending, Script{
		asks(2, "select n from a where id = 1"), {session: 1, kind: beginStuck, sql: "update a set n = 5 where id = 1"}, asks(0, "select n from a where id = 1"), {session: 1, kind: release}, asks(2, "select n from a where id = 1"),
	}},
	"other columns": {freshness.OtherColumns, Script{asks(0, "select n from a where id = 1"), sends(1, "update a set n = 5 where k = 1"), asks(0, "select n from a where id = 1")}},
	"new keys wait": {freshness.NewKeysWait, Script{
		{session: 1, kind: beginStuck, sql: "update a set n = 5 where id = 1"}, asks(0, "select n from a where k = 1"), {session: 1, kind: release}, asks(0, "select n from a where k = 1"),
	}},
	"schema meanwhile": {freshness.SchemaMeanwhile, Script{
		{session: 1, kind: beginStuck, sql: "update a set n = 5 where id = 1"}, sends(2, "create trigger mirrors after update on a for each row execute function mirror()"),
		asks(0, "select n from c where id = 1"), asks(0, "select n from c where id = 1"), {session: 1, kind: release}, asks(0, "select n from c where id = 1"),
	}},
	"open definitions": {freshness.OpenDefinitions, Script{
		sends(1, "begin"), sends(1, "create trigger mirrors after update on a for each row execute function mirror()"), sends(1, "update a set n = 5 where id = 1"),
		asks(0, "select n from c where id = 1"), asks(0, "select n from c where id = 1"), sends(1, "commit"), asks(0, "select n from c where id = 1"),
	}},
	"schemas anew": {freshness.SchemasAnew, slices.Concat(Script{
		sends(0, "set search_path = north, public"), asks(0, "select n from a where id = 1"), asks(0, "select n from a where id = 1"), sends(1, "create schema north"),
		sends(1, "create table north.a as select id, k, 7 as n from public.a"),
	}, slices.Repeat(Script{asks(1, "select n from c where id = 1")}, 60), Script{ // until the catalog has been read, or its doubts would have the session ask anew
		asks(0, "select n from a where id = 1"), asks(0, "select n from a where id = 1"), sends(1, "update north.a set n = 9"), asks(0, "select n from a where id = 1"),
	})},
	"own writes": {freshness.OwnWrites, Script{asks(0, "select n from a where id = 1"), sends(0, "begin"), sends(0, "update a set n = 5 where id = 1"), asks(0, "select n from a where id = 1")}},
	"assigned": {freshness.Assigned, Script{
		asks(0, "select count(*) from a where k = 2"), asks(0, "select count(*) from a where k = 2"), sends(1, "update a set k = k + 1 where k = 1"), asks(0, "select count(*) from a where k = 2"),
	}},
	"unique found": {freshness.UniqueFound, Script{asks(0, "select n from e where id = 1"), sends(1, "insert into e (n) values (5)"), asks(0, "select n from e where id = 1")}},
	"isolation": {freshness.Isolation, Script{
		sends(0, "begin isolation level repeatable read"), asks(0, "select n from a where id = 1"), sends(1, "update a set n = 5 where id = 1"),
		asks(2, "select n from a where id = 1"), asks(0, "select n from a where id = 1"),
	}},
	"hidden": {freshness.Hidden, Script{asks(0, "select sum(n) from e"), sends(1, "insert into e (n) values (1)"), asks(0, "select sum(n) from e"), sends(1, "update c set n = 5 where id = 1"), asks(0, "select sum(n) from e")}},
	"settings in key": {freshness.SettingsInKey, Script{
		asks(0, "select at::text from stamps where id = 1"), sends(1, "set time zone 'Asia/Tokyo'"), asks(1, "select at::text from stamps where id = 1"),
	}},
	"unknown effects": {freshness.UnknownEffects, Script{asks(0, "select n from a where id = 1"), sends(1, "do $$ begin execute 'update a set n = 5'; end $$"), asks(0, "select n from a where id = 1")}},
	"two-phase": {freshness.TwoPhase, Script{
		sends(1, "begin"), sends(1, "update a set n = 5 where id = 1"), sends(1, "prepare transaction 'x1'"), asks(0, "select n from a where id = 1"),
		sends(2, "commit prepared 'x1'"), asks(0, "select n from a where id = 1"),
	}},
	"lost connections": {freshness.LostConnections, Script{
		asks(0, "select n from a where id = 1"), {session: 1, kind: beginStuck, sql: "update a set n = 5 where id = 1"}, {session: 1, kind: cutLate},
		asks(0, "select n from a where id = 1"), asks(0, "select n from a where id = 1"), {kind: arrives}, asks(0, "select n from a where id = 1"),
	}},
}

// Each safeguard is needed: without it an old answer is found by a script that finds none with it.
func TestEachSafeguardIsNeeded(t *testing.T) { eachIsNeeded(t, checker(t), small, needed) }

func eachIsNeeded(t *testing.T, c *Checker, w *world, needed map[string]need) {
	c.Patience = 2 * time.Second // in none of these does one wait for another
	for name, x := range needed {
		t.Run(name, func(t *testing.T) {
			_, with, err := c.try(w, x.script)
			require.NoError(t, err)
			require.NoError(t, with)
			defer freshness.SwitchOff(x.off)()
			for ends := time.Now().Add(time.Minute); time.Now().Before(ends); { // on a slow machine something may not be cached in time
				_, without, err := c.try(w, x.script)
				require.NoError(t, err)
				if without != nil {
					return
				}
			}
			t.Error("it may be left out unnoticed")
		})
	}
}

// The oracle is needed: without the safeguard for whole rows it knows of more.
func TestTheServerKnowsOfWholeRows(t *testing.T) {
	c := checker(t)
	defer freshness.SwitchOff(freshness.WholeRows)()
	for seed := range uint64(25) {
		o, reads, done := oracleOf(t, c, seed)
		found := false
		for _, sql := range reads {
			missing, _ := o.Missing(sql)
			found = found || len(missing) > 0
		}
		done()
		if found {
			return
		}
	}
	t.Error("it finds nothing where something is missing")
}
