package protocoltest

import (
	"fmt"
	"strings"
	"testing"

	"pgregory.net/rapid"
)

// Scripts has several clients write and read by turns, in transactions and out of them, in random order: directly in one
// database, and through a larder in another that began the same. Each must receive the same, whoever wrote what. Least is
// how many answers from memory there must have been in the end.
func Scripts(t testing.TB, s *Subject, least uint64) error {
	y := newYard(t, s)
	var databases [2]string // directly, and through the larder
	for i := range databases {
		var err error
		if databases[i], err = y.database(); err != nil {
			return err
		}
	}
	for round := 0; round == 0 || y.answered < least && round < 50; round++ {
		if err := Search(t, func(rt *rapid.T) error { return y.script(databases, draw(rt, s)) }); err != nil {
			return err
		}
	}
	if y.answered < least {
		return fmt.Errorf("only %d answers came from memory", y.answered)
	}
	return nil
}

// step is one statement of a script.
type step struct {
	client int
	sql    string
	values []string
}

func (s step) String() string { return fmt.Sprintf("client %d: %s %q", s.client, s.sql, s.values) }

// clients is how many take part in a script. Each writes a row of its own, so that none waits for another.
const clients = 3

// draw draws a script. It turns mostly about the rows that somebody writes, and about transactions that see no more than
// was there when they began.
func draw(t *rapid.T, s *Subject) (script []step) {
	open := [clients]bool{}
	q := &s.SQL
	value := 100
	for range rapid.IntRange(1, 30).Draw(t, "steps") {
		by := rapid.IntRange(0, clients-1).Draw(t, "client")
		add := func(sql string, values ...string) { script = append(script, step{by, sql, values}) }
		row := rapid.IntRange(1, q.Rows).Draw(t, "row")
		if rapid.IntRange(0, 3).Draw(t, "of those written") > 0 {
			row = 1 + row%clients
		}
		switch what := rapid.IntRange(0, 19).Draw(t, "what"); {
		case what < 4:
			add(q.Read(row))
		case what < 6:
			add(q.ReadBound, fmt.Sprint(row))
		case what < 7:
			add(q.ReadAll)
		case what < 10:
			value++
			add(q.Write(1+by, value))
		case what < 11:
			value++
			sql, values := q.WriteBound(1+by, value)
			add(sql, values...)
		case what < 14 && !open[by]:
			add(q.Begin[rapid.IntRange(0, len(q.Begin)-1).Draw(t, "begin")])
			open[by] = true
			if rapid.IntRange(0, 3).Draw(t, "at once") > 0 {
				add(q.Read(row)) // by which the server settles what it sees
			}
		case what == 13:
			add(rapid.SampledFrom([]string{q.Commit, q.Rollback}).Draw(t, "end"))
			open[by] = false
		case what < 16:
			add(q.Read(row))
		case what < 18 && len(q.Others) > 0:
			add(rapid.SampledFrom(q.Others).Draw(t, "other"))
		case len(q.Alone) > 0 && open == [clients]bool{}:
			add(rapid.SampledFrom(q.Alone).Draw(t, "alone"))
		default:
			add(q.ReadBound, fmt.Sprint(row))
		}
	}
	return script
}

// script plays a script on both sides. After each step somebody who has nothing to do with it looks at all rows, twice.
func (y *yard) script(databases [2]string, script []step) error {
	s := y.subject
	addresses := [2]string{s.Address, y.address}
	for side, address := range addresses { // each on its own way, so that the larder knows
		c, err := enter(s, address, databases[side])
		if err != nil {
			return err
		}
		err = c.restore()
		c.conn.Close()
		if err != nil {
			return err
		}
	}
	if err := y.know(databases[1]); err != nil {
		return err
	}
	var sides [2][clients + 1]*client
	for side := range sides {
		for i := range sides[side] {
			c, err := enter(s, addresses[side], databases[side])
			if err != nil {
				return err
			}
			defer c.conn.Close()
			sides[side][i] = c
		}
	}
	both := func(x step, times int) error {
		var want string
		for side := range sides {
			for range times {
				var got string
				var err error
				if c := sides[side][x.client]; len(x.values) > 0 {
					got, err = c.Bound(x.sql, x.values...)
				} else {
					got, err = c.Ask(x.sql)
				}
				if err != nil {
					return fmt.Errorf("%s: %w", x, err)
				}
				if got = s.alike(got); s.Elsewhere != nil {
					got = s.Elsewhere(got)
				}
				if side == 0 {
					want = got
				} else if err := differ(want, got); err != nil {
					return fmt.Errorf("%s: %w", x, err)
				}
			}
		}
		return nil
	}
	const onlooker = clients
	for i, x := range script {
		err := y.counts(func() error {
			err := both(x, 1)
			for row := 0; row <= min(clients, s.SQL.Rows) && err == nil; row++ {
				look := step{onlooker, s.SQL.ReadAll, nil}
				if row > 0 {
					look.sql = s.SQL.Read(row)
				}
				err = both(look, 2)
			}
			return err
		})
		if err != nil {
			var before []string
			for _, x := range script[:i+1] {
				before = append(before, x.String())
			}
			return fmt.Errorf("%w\nafter\n%s", err, strings.Join(before, "\n"))
		}
	}
	return nil
}
