package protocoltest

import (
	"errors"
	"flag"
	"fmt"
	"os"
	"runtime"
	"testing"
	"time"

	"pgregory.net/rapid"
)

// Search has rapid look for a case that fails, and returns the error of the last that did, which is the smallest of them.
// It counts also if it does not happen again: what is found may depend on the moment. In CI it looks at the same cases
// every time.
func Search(t testing.TB, try func(*rapid.T) error) error {
	if seed := flag.Lookup("rapid.seed"); os.Getenv("CI") == "true" && seed.Value.String() == seed.DefValue {
		_ = seed.Value.Set("20270301")
	}
	r := &recorder{TB: t}
	var found error
	done := make(chan struct{})
	go func() { // which FailNow ends
		defer close(done)
		rapid.Check(r, func(rt *rapid.T) {
			if err := try(rt); err != nil {
				found = err
				rt.Fatal(err)
			}
		})
	}()
	<-done
	if r.failed && found == nil {
		return errors.New("the cases could not be run")
	}
	return found
}

// recorder notes a failure for whoever asked for the check.
type recorder struct {
	testing.TB
	failed bool
}

func (r *recorder) Errorf(format string, args ...any) { r.failed = true; r.TB.Logf(format, args...) }
func (r *recorder) Error(args ...any)                 { r.failed = true; r.TB.Log(args...) }
func (r *recorder) Fail()                             { r.failed = true }
func (r *recorder) FailNow()                          { r.failed = true; runtime.Goexit() }
func (r *recorder) Fatalf(format string, args ...any) { r.Errorf(format, args...); r.FailNow() }
func (r *recorder) Fatal(args ...any)                 { r.Error(args...); r.FailNow() }
func (r *recorder) Failed() bool                      { return r.failed }

// Sequences has a client send whatever may be sent, in pieces of any length: it receives what it would receive from the
// database itself, at the first time and with what was kept by then.
func Sequences(t testing.TB, s *Subject) error {
	if s.Any == nil {
		return nil
	}
	y, database, err := ready(t, s)
	if err != nil {
		return err
	}
	direct, err := enter(s, s.Address, database)
	if err != nil {
		return err
	}
	defer direct.conn.Close()
	const least = 50
	// What is answered from memory depends on how soon things are known again, so it goes on until enough was.
	for round := 0; round == 0 || y.answered <= least && round < 30; round++ {
		if err := Search(t, func(rt *rapid.T) error { return y.sequence(rt, database, direct) }); err != nil {
			return err
		}
	}
	if y.answered <= least {
		return fmt.Errorf("only %d answers came from memory", y.answered)
	}
	return nil
}

// restore gives the rows their first values, directly, and has what was kept of others dropped.
func (y *yard) restore(direct *client, database string, larder bool) error {
	q := &y.subject.SQL
	_ = direct.conn.SetDeadline(time.Now().Add(patience()))
	now, err := direct.Ask(q.ReadAll)
	if err != nil {
		return err
	}
	if y.first == "" {
		y.first = now
	}
	if now != y.first {
		for row := range q.Rows {
			if _, err := direct.Ask(q.Write(row+1, row+1)); err != nil {
				return err
			}
		}
		if now, err = direct.Ask(q.ReadAll); err != nil {
			return err
		}
		if now != y.first {
			return fmt.Errorf("the rows cannot be brought back: %w", differ(y.first, now))
		}
		y.engine.DropAll()
	}
	if larder {
		return y.know(database) // after what might have been anything
	}
	return nil
}

// sequence has one sequence sent directly, and three times through the larder.
func (y *yard) sequence(t *rapid.T, database string, direct *client) error {
	s := y.subject
	sequence := append([]byte{}, s.Opening...)
	var cuts []int // where the client waits a moment, and in between where its bytes are cut
	for range rapid.IntRange(1, 25).Draw(t, "length") {
		sequence = append(sequence, s.Any(t)...)
		switch rapid.IntRange(0, 5).Draw(t, "then") {
		case 0:
			cuts = append(cuts, len(sequence)-rapid.IntRange(1, min(len(sequence), 40)).Draw(t, "cut"))
		case 1, 2, 3:
			cuts = append(cuts, len(sequence))
		}
	}
	sequence = append(sequence, s.Closing...)
	once := func(address string, pause time.Duration) (string, error) {
		if err := y.restore(direct, database, address == y.address); err != nil {
			return "", err
		}
		c, err := enter(s, address, database)
		if err != nil {
			return "", err
		}
		defer c.conn.Close()
		go func() {
			from := 0
			for _, at := range append(cuts, len(sequence)) {
				_, _ = c.conn.Write(sequence[min(from, at):at])
				from = max(from, at)
				time.Sleep(pause)
			}
		}()
		var received string
		err = y.counts(func() (err error) { received, err = c.Hear(TheEnd); return err })
		return s.alike(received), err
	}
	want, err := once(s.Address, time.Millisecond)
	if err != nil {
		return err
	}
	// Then with what was kept; and unhurried, so that what the client did is known again before it goes on.
	for _, pause := range []time.Duration{time.Millisecond, time.Millisecond, 5 * time.Millisecond} {
		got, err := once(y.address, pause)
		if err == nil {
			err = differ(want, got)
		}
		if err != nil {
			return fmt.Errorf("%w\nafter the bytes\n%q\ncut at %v, waiting %s", err, sequence, cuts, pause)
		}
	}
	return nil
}
