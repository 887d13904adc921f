// Package freshcheck looks for old answers: it has random clients of a larder do random things to random schemas, with
// faults in between, and holds every answer from memory against what the database says to the same session at that
// moment.
package freshcheck

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"jollylarder/internal/core/rules"
)

// Checker looks for old answers.
type Checker struct {
	// Database is the kind of database; nil means PostgreSQL.
	Database Database
	// Address is that of a server for nothing else, which lets its superuser in. One of PostgreSQL needs
	// max_prepared_transactions, and for Feed wal_level = logical.
	Address string
	// Feed has some writes come around the larder, with a change feed that tells of them.
	Feed bool
	// Generated has random statements asked of random tables; Focus names features that these are to have.
	Generated bool
	Focus     []string
	// Steps are those of one script; 0 means 1000.
	Steps int
	// Shrink is how often a failing script is run again at most, to make it shorter; 0 means 150.
	Shrink int
	// Patience is how long a read is awaited that may wait for what is held back; 0 means 20 ms.
	Patience time.Duration
}

// Violation is an old answer.
type Violation struct {
	Seed   uint64
	Schema []string
	Script Script
	What   error
}

func (v *Violation) String() string {
	return fmt.Sprintf("seed %d: %v\nafter\n%sin the schema\n  %s\n", v.Seed, v.What, v.Script, strings.Join(v.Schema, ";\n  "))
}

var databases atomic.Uint64

// Seed checks one world by one script, both made from a seed. A violation comes with a script that is as short as could
// be found.
func (c *Checker) Seed(seed uint64) (Counts, *Violation, error) {
	r := rand.New(rand.NewPCG(seed, 17))
	w := c.kind().world(r)
	if c.Generated {
		w = c.kind().generated(r, c.Focus...)
		if err := c.accepted(w); err != nil {
			return Counts{}, nil, err
		}
	}
	var next int64
	steps := c.Steps
	if steps == 0 {
		steps = 1000
	}
	s := newScript(w, r, steps, &next, c.Feed)
	counts, what, err := c.try(w, s)
	if err != nil || what == nil {
		return counts, nil, err
	}
	v := &Violation{seed, w.schema, s, what}
	most := c.Shrink
	if most == 0 {
		most = 150
	}
	v.Script = shrink(s, most, func(shorter Script) bool {
		_, again, err := c.try(w, shorter)
		if err == nil && again != nil {
			v.What = again
			return true
		}
		return false
	})
	return counts, v, nil
}

func (c *Checker) kind() Database {
	if c.Database != nil {
		return c.Database
	}
	return PostgreSQL
}

// fresh makes a database with a world's schema, and gives its name and what takes it away.
func (c *Checker) fresh(w *world) (name string, drop func(), err error) {
	name = fmt.Sprintf("freshcheck%d", databases.Add(1))
	drop, err = c.kind().create(c.Address, name, w.schema)
	return name, drop, err
}

// accepted leaves out of a generated world what its database refuses.
func (c *Checker) accepted(w *world) error {
	name, drop, err := c.fresh(w)
	if err != nil {
		return err
	}
	defer drop()
	own, err := c.kind().connect(c.Address, name, "own")
	if err != nil {
		return err
	}
	defer own.close()
	for _, sql := range w.maybe {
		if !strings.HasPrefix(own.ask(c.kind().local(sql, c.Address, name), 0), refused) {
			w.schema = append(w.schema, sql)
		}
	}
	var next int64
	r := rand.New(rand.NewPCG(1, 1))
	filled := func(sql string) string { return c.kind().local(fill(sql, r, &next), c.Address, name) }
	w.reads = slices.DeleteFunc(w.reads, func(sql string) bool { return !own.accepts(filled(sql)) })
	w.writes = slices.DeleteFunc(w.writes, func(sql string) bool {
		for _, kind := range []string{"update", "insert", "delete", "replace", "merge", "with"} {
			if strings.HasPrefix(sql, kind) && !strings.Contains(sql, ";") {
				return !own.accepts(filled(sql))
			}
		}
		return false
	})
	if len(w.reads) == 0 || len(w.writes) == 0 {
		return errors.New("the database refuses everything that was made for it")
	}
	return nil
}

// try runs a script on a fresh database.
func (c *Checker) try(w *world, s Script) (counts Counts, violation error, err error) {
	name, drop, err := c.fresh(w)
	if err != nil {
		return counts, nil, err
	}
	defer drop()
	x, err := newRun(c.kind(), c.Address, name, c.Feed)
	if err != nil {
		return counts, nil, err
	}
	defer x.close()
	if x.generated, x.inOrder = w.generated, w.inOrder; w.generated {
		x.engine.SetRules(rules.NewSet([]rules.Rule{{Text: "*", Action: rules.Cache, ControlSample: -1, AcrossUsers: true}}))
	}
	if x.patience = c.Patience; x.patience == 0 {
		x.patience = 20 * time.Millisecond
	}
	err = x.all(s)
	x.counts.Drops = x.engine.Ledger.Drops.Load()
	x.counts.Changed, x.counts.Same = x.engine.Drops.Counts()
	if errors.Is(err, errOld) {
		return x.counts, err, nil
	}
	return x.counts, nil, err
}

// Run checks one seed after the other, so many at once, until the time is over or it finds a violation. Progress, if it
// is not nil, is called from time to time.
func (c *Checker) Run(ctx context.Context, first uint64, length time.Duration, atOnce int, progress func(Counts)) (sum Counts, found *Violation, err error) {
	ctx, cancel := context.WithTimeout(ctx, length)
	defer cancel()
	var seed atomic.Uint64
	seed.Store(first)
	return checks(ctx, atOnce, func() (Counts, *Violation, error) { return c.Seed(seed.Add(1) - 1) }, progress)
}

// checks does a check again and again, so many at once, until the context is over, one finds a violation or fails, or it
// gives errEnded.
func checks(ctx context.Context, atOnce int, check func() (Counts, *Violation, error), progress func(Counts)) (sum Counts, found *Violation, err error) {
	type outcome struct {
		counts Counts
		found  *Violation
		err    error
	}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	results := make(chan outcome)
	for range atOnce {
		go func() {
			for ctx.Err() == nil {
				counts, v, err := check()
				if errors.Is(err, errEnded) {
					break
				}
				results <- outcome{counts, v, err}
				if v != nil || err != nil {
					break
				}
			}
			results <- outcome{err: errEnded}
		}()
	}
	for running := atOnce; running > 0; {
		o := <-results
		if errors.Is(o.err, errEnded) {
			running--
			continue
		}
		sum.add(o.counts)
		if o.found != nil && found == nil {
			found = o.found
			cancel()
		}
		if o.err != nil && err == nil {
			err = o.err
			cancel()
		}
		if progress != nil {
			progress(sum)
		}
	}
	return sum, found, err
}

// errEnded says that there is nothing more to check.
var errEnded = errors.New("ended")
