package freshcheck

import (
	"context"
	"embed"
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"sync/atomic"
)

// Pairs are a schema, queries of it, and changes to it. Each change is made while the results of all queries are cached,
// so that each meets each: what a list says, somebody has thought of, and what a pair of the two does, nobody.
type Pairs struct {
	Schema  []string
	Reads   []string
	Changes []Change
	// Uncached are those of the queries that are never answered from memory.
	Uncached []string
}

// Change is what one client does, step by step.
type Change []string

func (c Change) String() string { return strings.Join(c, " / ") }

//go:embed pairs
var pairTexts embed.FS

// The marks in the lists of pairs.
const (
	remark   = "--"
	uncached = " -- uncached" // behind a query
)

// ReadPairs gives the pairs that there are for a kind of database.
func ReadPairs(kind Database) (p Pairs, err error) {
	list := func(name string) (lines []string) {
		text, failed := pairTexts.ReadFile("pairs/" + kind.protocol().Name + "/" + name + ".sql")
		err = errors.Join(err, failed)
		for line := range strings.Lines(string(text)) {
			if line = strings.TrimRight(line, "\n"); line != "" && !strings.HasPrefix(line, remark) {
				lines = append(lines, line)
			}
		}
		return lines
	}
	p.Schema = list("schema")
	for _, line := range list("reads") {
		sql, never := strings.CutSuffix(line, uncached)
		p.Reads = append(p.Reads, sql)
		if never {
			p.Uncached = append(p.Uncached, sql)
		}
	}
	for _, line := range list("changes") {
		if next, more := strings.CutPrefix(line, "\t"); more && len(p.Changes) > 0 {
			last := &p.Changes[len(p.Changes)-1]
			*last = append(*last, next)
			continue
		}
		p.Changes = append(p.Changes, Change{line})
	}
	return p, err
}

// The clients that take part: the one for which everything is cached, and another.
const (
	cachedFor = iota
	another
	pairClients
)

// Meeting is one or several changes, each by a client, one after the other.
type Meeting []struct {
	Client int
	Change Change
}

// Each gives one meeting for each change and client.
func (p Pairs) Each() (all []Meeting) {
	for _, c := range p.Changes {
		for client := range pairClients {
			all = append(all, Meeting{{client, c}})
		}
	}
	return all
}

// Random gives a meeting of so many changes that a seed chooses.
func (p Pairs) Random(seed uint64, changes int) (m Meeting) {
	r := rand.New(rand.NewPCG(seed, 31))
	m = make(Meeting, changes)
	for i := range m {
		m[i].Client, m[i].Change = r.IntN(pairClients), p.Changes[r.IntN(len(p.Changes))]
	}
	return m
}

// script gives what is done of a meeting. How a query is sent depends on where it stands and on the seed.
func (p Pairs) script(m Meeting, seed uint64) (s Script) {
	asks := func(client int) {
		for i, sql := range p.Reads {
			s = append(s, step{session: client, kind: read, sql: sql, mode: (i + int(seed)) % len(modes)})
		}
	}
	asks(cachedFor)
	asks(cachedFor)
	for _, x := range m {
		for _, sql := range x.Change {
			s = append(s, step{session: x.Client, kind: write, sql: sql})
		}
		for client := range pairClients {
			asks(client)
		}
	}
	return s
}

// Meet has changes meet the queries, on a fresh database. The seed chooses how those are sent.
func (c *Checker) Meet(p Pairs, m Meeting, seed uint64) (Counts, *Violation, error) {
	w := &world{schema: p.Schema, reads: p.Reads, generated: true, inOrder: true}
	s := p.script(m, seed)
	counts, what, err := c.try(w, s)
	if err != nil || what == nil {
		return counts, nil, err
	}
	s = slices.DeleteFunc(s, func(x step) bool { return x.kind == read }) // all are asked, in their order
	return counts, &Violation{seed, p.Schema, s, what}, nil
}

// AllMeetings checks each change, made by each client, so many at once, until all are done, the context is over or it finds a
// violation. Progress, if it is not nil, is called after each.
func (c *Checker) AllMeetings(ctx context.Context, p Pairs, seed uint64, atOnce int, progress func(Counts)) (Counts, *Violation, error) {
	list := p.Each()
	return c.meetings(ctx, p, func(i uint64) (Meeting, bool) {
		if i >= uint64(len(list)) {
			return nil, false
		}
		return list[i], true
	}, seed, atOnce, progress)
}

// Meetings does it with so many changes in a row, which seeds choose, until the context is over.
func (c *Checker) Meetings(ctx context.Context, p Pairs, changes int, seed uint64, atOnce int, progress func(Counts)) (Counts, *Violation, error) {
	return c.meetings(ctx, p, func(i uint64) (Meeting, bool) { return p.Random(seed+i, changes), true }, seed, atOnce, progress)
}

func (c *Checker) meetings(ctx context.Context, p Pairs, of func(uint64) (Meeting, bool), seed uint64, atOnce int, progress func(Counts)) (Counts, *Violation, error) {
	var next atomic.Uint64
	return checks(ctx, atOnce, func() (Counts, *Violation, error) {
		i := next.Add(1) - 1
		m, more := of(i)
		if !more {
			return Counts{}, nil, errEnded
		}
		counts, found, err := c.Meet(p, m, seed+i)
		if err != nil {
			err = fmt.Errorf("%v: %w", m, err)
		}
		return counts, found, err
	}, progress)
}
