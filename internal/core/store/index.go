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

// link is an entry's place among those that rest on one counter.
type link struct {
	entry      *Entry
	counter    *freshness.Counter
	prev, next *link
}

func (x *index) add(e *Entry) {
	n := 0
	e.Stamp.Counters(func(*freshness.Counter) { n++ })
	e.links = make([]link, 0, n)
	x.mu.Lock()
	defer x.mu.Unlock()
	e.Stamp.Counters(func(c *freshness.Counter) {
		e.links = append(e.links, link{entry: e, counter: c, next: x.rest[c]})
		l := &e.links[len(e.links)-1]
		if l.next != nil {
			l.next.prev = l
		} else {
			e.own++
		}
		x.rest[c] = l
	})
	for _, c := range e.Readings {
		x.tables[c]++
	}
	e.measure() // before anybody can find it, who would release it
}

func (x *index) remove(e *Entry) {
	x.mu.Lock()
	defer x.mu.Unlock()
	for i := range e.links {
		l := &e.links[i]
		if l.next != nil {
			l.next.prev = l.prev
		}
		switch {
		case l.prev != nil:
			l.prev.next = l.next
		case l.next != nil:
			x.rest[l.counter] = l.next
		default:
			delete(x.rest, l.counter)
		}
	}
	if e.links != nil {
		for _, c := range e.Readings {
			if x.tables[c]--; x.tables[c] == 0 {
				delete(x.tables, c)
			}
		}
	}
	e.links = nil
}

// RestOn appends the entries that rest on a counter.
func (s *Store) RestOn(c *freshness.Counter, list []*Entry) []*Entry {
	s.index.mu.Lock()
	defer s.index.mu.Unlock()
	for l := s.index.rest[c]; l != nil; l = l.next {
		list = append(list, l.entry)
	}
	return list
}

// Reading says how many entries there are that read a table, any of its rows.
func (s *Store) Reading(table *freshness.Clock) int {
	s.index.mu.Lock()
	defer s.index.mu.Unlock()
	return s.index.tables[table]
}
