package freshness

import (
	"unsafe"
)

// Dependencies are the clocks that one result depends on.
type Dependencies []*Clock

// Dependencies gives the readings of a result that depends on these tables.
func (c *Clocks) Dependencies(tables []string) Dependencies {
	r := Dependencies{c.Every}
	for _, t := range tables {
		r = append(r, c.Table(t))
	}
	return r
}

// Pinned narrows the reading of a table to those of its rows that have one of some values in a key; or, without a key,
// to some of its columns.
type Pinned struct {
	Table *Clock
	Key   *Key
	// Hashes are those of the values; see Hash. Single says that there is but one of these: several may have one hash.
	Hashes []uint64
	Single bool
	// Columns are those that need to be known, with the one of the name "" among them.
	Columns []*Column
}

// pinned gives how the reading of a table is narrowed, or nil.
func pinned(list []Pinned, c *Clock) *Pinned {
	for i := range list {
		if list[i].Table == c {
			return &list[i]
		}
	}
	return nil
}

// Sum is the sum of what the counters show: it is another after any of them has moved.
func (r Dependencies) Sum(pins ...Pinned) (n uint64) {
	for _, c := range r {
		p := pinned(pins, c)
		if p == nil {
			n += c.changes.Load()
			continue
		}
		if p.Key == nil {
			for _, x := range p.Columns {
				n += x.changes.Load()
			}
			continue
		}
		x := p.Key.roomy()
		n += p.Key.other.changes.Load()
		for _, h := range p.Hashes {
			n += x.use(h).changes.Load()
		}
	}
	return n
}

// Stamp is what readings' counters showed at one moment.
type Stamp struct {
	parts []taken
	quiet bool // nothing was pending
	calm  bool // nor any addition of rows that the result rests on only if it found none
}

// taken is what one counter showed: every result that is kept holds some.
type taken struct {
	counter *Counter
	changes uint64 // and ifNone
}

// ifNone is set in changes of a counter of added rows, which matters only if the row looked for was not there. No counter
// ever comes so far.
const ifNone = 1 << 63

// Take reads the clocks, or the counters of those readings that are pinned. It must be called before the statement is
// sent to the origin.
func (r Dependencies) Take(pins ...Pinned) Stamp {
	s := Stamp{parts: make([]taken, 0, len(r)+2*len(pins)), quiet: true, calm: true}
	for _, c := range r {
		if p := pinned(pins, c); p != nil {
			s.takePinned(p)
		} else {
			s.take(&c.Counter, false)
		}
	}
	return s
}

func (s *Stamp) take(c *Counter, onlyIfNone bool) {
	t := taken{c, c.changes.Load()}
	if onlyIfNone {
		t.changes |= ifNone
	}
	s.parts = append(s.parts, t)
	if c.pending.Load() == 0 || Off(PendingAtSending) {
		return
	}
	if onlyIfNone {
		s.calm = false
	} else {
		s.quiet = false
	}
}

func (s *Stamp) takePinned(p *Pinned) {
	if p.Key == nil {
		for _, x := range p.Columns {
			if !x.ready() {
				s.quiet = false
			}
			s.take(&x.Counter, false)
		}
		return
	}
	before := *s
	for {
		x := p.Key.roomy()
		if !p.Key.ready(x) {
			s.quiet = false
		}
		s.take(&p.Key.other, false)
		if p.Key.Unique {
			s.take(&p.Key.inserted, p.Single)
		}
		for _, h := range p.Hashes {
			s.take(x.use(h), false)
		}
		if p.Key.last() == x {
			return
		}
		*s = before // others have come meanwhile, and changes leave out what did not rest on these before; see ended
	}
}

// Valid says whether no counter has moved since. It takes no lock.
func (s *Stamp) Valid() bool {
	if Off(ClockMoved) {
		return true
	}
	for i := range s.parts {
		if t := &s.parts[i]; t.counter.changes.Load() != t.changes&^ifNone {
			return false
		}
	}
	return true
}

// Storable says whether a result whose last byte has arrived may be kept: nothing was pending when its statement was
// sent, and no counter has moved since. A write that is pending only now began in between, and so moved one.
func (s *Stamp) Storable() bool { return s.quiet && s.calm && s.Valid() }

// Found notes that the row that each unique key with one value stands for was there. Rows that are added cannot alter
// that.
func (s *Stamp) Found() {
	s.calm = true
	kept := s.parts[:0]
	for _, t := range s.parts {
		if t.changes&ifNone == 0 {
			kept = append(kept, t)
		}
	}
	s.parts = kept
}

// Bytes is how much memory the stamp takes beside itself.
func (s *Stamp) Bytes() int { return cap(s.parts) * int(unsafe.Sizeof(taken{})) }

// Len is how many counters it holds.
func (s *Stamp) Len() int { return len(s.parts) }

// Counters calls f with every counter of the stamp.
func (s *Stamp) Counters(f func(*Counter)) {
	for i := range s.parts {
		f(s.parts[i].counter)
	}
}
