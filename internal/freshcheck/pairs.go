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
	"time"
)

// pairs are a schema, queries of it, and changes to it. Each change is made while the results of all queries are cached,
// so that each meets each: what a list says, somebody has thought of, and what a pair of the two does, nobody.
type pairs struct {
	schema  []string
	reads   []string
	changes []change
	// uncached are those of the queries that are never answered from memory.
	uncached []string
}

// change is what one client does, step by step.
type change []string

func (c change) String() string { return strings.Join(c, " / ") }

//go:embed pairs
var pairTexts embed.FS

// The marks in the lists of pairs.
const (
	remark = "--"
	never  = " -- uncached" // behind a query
)

// readPairs gives the pairs that there are for a kind of database.
func readPairs(kind Database) (p pairs, err error) {
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
	p.schema = list("schema")
	for _, line := range list("reads") {
		sql, marked := strings.CutSuffix(line, never)
		p.reads = append(p.reads, sql)
		if marked {
			p.uncached = append(p.uncached, sql)
		}
	}
	for _, line := range list("changes") {
		if next, more := strings.CutPrefix(line, "\t"); more && len(p.changes) > 0 {
			last := &p.changes[len(p.changes)-1]
			*last = append(*last, next)
			continue
		}
		p.changes = append(p.changes, change{line})
	}
	return p, err
}

// The clients that take part: the one for which everything is cached, and another.
const (
	cachedFor = iota
	another
	pairClients
)

// meeting is one or several changes, each by a client, one after the other.
type meeting []struct {
	client int
	change change
}

// each gives one meeting for each change and client.
func (p pairs) each() (all []meeting) {
	for _, c := range p.changes {
		for client := range pairClients {
			all = append(all, meeting{{client, c}})
		}
	}
	return all
}

// random gives a meeting of so many changes that a seed chooses.
func (p pairs) random(seed uint64, changes int) (m meeting) {
	r := rand.New(rand.NewPCG(seed, 31))
	m = make(meeting, changes)
	for i := range m {
		m[i].client, m[i].change = r.IntN(pairClients), p.changes[r.IntN(len(p.changes))]
	}
	return m
}

// script gives what is done of a meeting. How a query is sent depends on where it stands and on the seed.
func (p pairs) script(m meeting, seed uint64) (s Script) {
	asks := func(client int) {
		for i, sql := range p.reads {
			s = append(s, step{session: client, kind: read, sql: sql, mode: (i + int(seed)) % len(modes)})
		}
	}
	asks(cachedFor)
	asks(cachedFor)
	for _, x := range m {
		for _, sql := range x.change {
			s = append(s, step{session: x.client, kind: write, sql: sql})
		}
		for client := range pairClients {
			asks(client)
		}
	}
	return s
}

// meet has changes meet the queries, on a fresh database. The seed chooses how those are sent.
func (c *Checker) meet(p pairs, m meeting, seed uint64) (Counts, *Violation, error) {
	w := &world{schema: p.schema, reads: p.reads, generated: true, inOrder: true}
	s := p.script(m, seed)
	counts, what, err := c.try(w, s)
	if err != nil || what == nil {
		return counts, nil, err
	}
	s = slices.DeleteFunc(s, func(x step) bool { return x.kind == read }) // all are asked, in their order
	return counts, &Violation{seed, p.schema, s, what}, nil
}

// Pairs checks meetings, so many at once, until the context is over or it finds a violation: of each change by each client
// if changes is 1, and otherwise of so many in a row, which seeds choose, for a while. Progress, if it is not nil, is called
// after each.
func (c *Checker) Pairs(ctx context.Context, first uint64, changes int, length time.Duration, atOnce int, progress func(Counts)) (Counts, *Violation, error) {
	p, err := readPairs(c.kind())
	if err != nil {
		return Counts{}, nil, err
	}
	var list []meeting
	switch {
	case changes < 1:
		return Counts{}, nil, fmt.Errorf("-changes %d: say 1 or more", changes)
	case changes == 1:
		list = p.each()
	default:
		var cancel context.CancelFunc
		ctx, cancel = context.WithTimeout(ctx, length)
		defer cancel()
	}
	var seed atomic.Uint64
	seed.Store(first)
	return checks(ctx, atOnce, func() (Counts, *Violation, error) {
		seed := seed.Add(1) - 1
		var m meeting
		switch i := seed - first; {
		case changes > 1:
			m = p.random(seed, changes)
		case i < uint64(len(list)):
			m = list[i]
		default:
			return Counts{}, nil, errEnded
		}
		counts, found, err := c.meet(p, m, seed)
		if err != nil {
			err = fmt.Errorf("%v: %w", m, err)
		}
		return counts, found, err
	}, progress)
}
