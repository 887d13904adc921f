package store

import (
	"sync"

	"jollylarder/internal/core/freshness"
)

// index finds the entries that rest on a counter, so that what a write dropped is found without looking at the rest.
type index struct {
	mu     sync.Mutex
	rest   map[*freshness.Counter]*link // the first of each
	tables map[*freshness.Clock]int
}

// link is an entry's place among those that rest on one counter: its stamp's of the same number.
type link struct {
	entry      *Entry
	prev, next *link
}

func (x *index) add(e *Entry) {
	e.links = make([]link, 0, e.Stamp.Len())
	alone := 0
	x.mu.Lock()
	defer x.mu.Unlock()
	e.Stamp.Counters(func(c *freshness.Counter) {
		e.links = append(e.links, link{entry: e, next: x.rest[c]})
		l := &e.links[len(e.links)-1]
		if l.next != nil {
			l.next.prev = l
		} else {
			alone++
		}
		x.rest[c] = l
	})
	for _, c := range e.Dependencies {
		x.tables[c]++
	}
	e.measure(alone) // before anybody can find it, who would release it
}

func (x *index) remove(e *Entry) {
	x.mu.Lock()
	defer x.mu.Unlock()
	links := e.links
	e.Stamp.Counters(func(c *freshness.Counter) {
		if len(links) == 0 { // it never was in
			return
		}
		l := &links[0]
		links = links[1:]
		if l.next != nil {
			l.next.prev = l.prev
		}
		switch {
		case l.prev != nil:
			l.prev.next = l.next
		case l.next != nil:
			x.rest[c] = l.next
		default:
			delete(x.rest, c)
		}
	})
	if e.links != nil {
		for _, c := range e.Dependencies {
			if x.tables[c]--; x.tables[c] == 0 {
				delete(x.tables, c)
			}
		}
	}
	e.links = nil
}

// DependOn appends the entries that rest on a counter.
func (s *Store) DependOn(c *freshness.Counter, list []*Entry) []*Entry {
	s.index.mu.Lock()
	defer s.index.mu.Unlock()
	for l := s.index.rest[c]; l != nil; l = l.next {
		list = append(list, l.entry)
	}
	return list
}

// Readers says how many entries there are that read a table, any of its rows.
func (s *Store) Readers(table *freshness.Clock) int {
	s.index.mu.Lock()
	defer s.index.mu.Unlock()
	return s.index.tables[table]
}
