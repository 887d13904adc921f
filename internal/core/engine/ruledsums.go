package engine

import "jollylarder/internal/core/ledger"

// RuledSums is what was counted of the patterns that some rule keeps: all there is to compare when keeping is switched
// on and off.
type RuledSums struct {
	ledger.Sums
	// Times counts the statements by how long they took, in the buckets of ledger.Distribution: the lower bound of each
	// is its key, in microseconds.
	Times map[int64]ledger.Bucket
}

// Ruled gives what was counted since the beginning of the patterns that some rule keeps.
func (e *Engine) Ruled() RuledSums {
	out := RuledSums{Times: map[int64]ledger.Bucket{}}
	e.Patterns(func(p *Pattern) {
		if !e.MayCache(p) {
			return
		}
		out.Sums = out.Plus(p.Numbers.Total())
		for _, d := range []*ledger.Distribution{p.Numbers.Origin(), p.Numbers.Memory()} {
			for _, b := range d.Buckets() {
				have := out.Times[b.From.Microseconds()]
				b.Count += have.Count
				out.Times[b.From.Microseconds()] = b
			}
		}
	})
	return out
}

// Minus gives what came since.
func (r RuledSums) Minus(o RuledSums) RuledSums {
	out := RuledSums{Sums: r.Sums.Minus(o.Sums), Times: map[int64]ledger.Bucket{}}
	for k, b := range r.Times {
		if b.Count -= min(o.Times[k].Count, b.Count); b.Count > 0 {
			out.Times[k] = b
		}
	}
	return out
}
