package ledger

import (
	"cmp"
	"slices"
	"sync/atomic"
)

// Caller is who sends statements. Make it with Ledger.Caller.
type Caller struct {
	Application, User, Database string
}

// mostCallers bounds the callers that are told apart: names come from clients. Those beyond it share one.
const mostCallers = 4096

// Caller gives the one and only Caller of these names.
func (l *Ledger) Caller(c Caller) *Caller {
	if c.Application == "" {
		c.Application = "(unnamed)"
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	if len(l.callers) >= mostCallers {
		if have := l.callers[c]; have != nil {
			return have
		}
		c = Caller{Others, Others, Others}
	}
	have := l.callers[c]
	if have == nil {
		have = &c
		l.callers[c] = have
	}
	return have
}

// callers counts who calls one pattern: the first few by name, the rest in sum.
type callers struct {
	who    [callersEach]atomic.Pointer[Caller]
	count  [callersEach]atomic.Uint64
	others atomic.Uint64
}

const callersEach = 6

func (n *numbers) called(c *Caller) {
	list := n.callers.Load()
	if list == nil {
		list = &callers{}
		if !n.callers.CompareAndSwap(nil, list) {
			list = n.callers.Load()
		}
	}
	for i := range list.who {
		have := list.who[i].Load()
		if have == nil && list.who[i].CompareAndSwap(nil, c) || have == c || list.who[i].Load() == c {
			list.count[i].Add(1)
			return
		}
	}
	list.others.Add(1)
}

// CallerCount is how often one caller sent statements of a pattern.
type CallerCount struct {
	Caller
	Calls uint64
}

// Callers gives who sent statements of the pattern, the most frequent first; what further callers sent is in one sum.
func (p *Pattern) Callers() []CallerCount {
	sums := map[Caller]uint64{}
	var others uint64
	p.parts(func(n *numbers) {
		list := n.callers.Load()
		if list == nil {
			return
		}
		for i := range list.who {
			if c := list.who[i].Load(); c != nil {
				sums[*c] += list.count[i].Load()
			}
		}
		others += list.others.Load()
	})
	var out []CallerCount
	for c, calls := range sums {
		out = append(out, CallerCount{c, calls})
	}
	slices.SortFunc(out, func(a, b CallerCount) int {
		return cmp.Or(
			cmp.Compare(b.Calls, a.Calls),
			cmp.Compare(a.Application, b.Application),
			cmp.Compare(a.User, b.User),
			cmp.Compare(a.Database, b.Database),
		)
	})
	if others > 0 {
		out = append(out, CallerCount{Caller{Others, "", ""}, others})
	}
	return out
}
