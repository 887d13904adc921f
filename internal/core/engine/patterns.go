package engine

import (
	"crypto/sha256"
	"hash/maphash"
	"sync"
	"sync/atomic"

	"jollylarder/internal/core/inputs"
	"jollylarder/internal/core/ledger"
	"jollylarder/internal/core/statement"
)

// patterns holds all patterns. The way of a known statement goes by its shape, in parts so that sessions do not wait
// for each other.
type patterns struct {
	room  *Room
	parts [32]struct {
		sync.RWMutex
		bySyntax map[*statement.Syntax]*shapes
	}
	byID  sync.Map // statement.ID to *Pattern
	count atomic.Int64

	mu     sync.Mutex // taken before a part's
	byText map[key]*Pattern
	shapes int

	overflow atomic.Pointer[Pattern]
}

// shapes are those of one syntax, long ones by their hash.
type shapes struct {
	short map[string]*shaped
	long  map[[sha256.Size]byte]*shaped
}

// shapesEach bounds the shapes that are remembered, as so many times the number of patterns: bulk inserts have one for
// every number of rows. A statement of a shape that is not remembered takes the long way each time.
const shapesEach = 4

var seed = maphash.MakeSeed()

// find gives the pattern of a shape, or nil. It does not hold on to the shape. What is not made of a statement's text has
// no syntax.
func (ps *patterns) find(syntax *statement.Syntax, shape []byte) *Pattern {
	if x := ps.shaped(syntax, shape); x != nil {
		return x.pattern
	}
	return nil
}

// shaped gives what is known of a shape, or nil. It does not hold on to it.
func (ps *patterns) shaped(syntax *statement.Syntax, shape []byte) *shaped {
	part := &ps.parts[maphash.Bytes(seed, shape)%uint64(len(ps.parts))]
	if len(shape) > longKey {
		sum := sha256.Sum256(shape)
		part.RLock()
		defer part.RUnlock()
		if of := part.bySyntax[syntax]; of != nil {
			return of.long[sum]
		}
		return nil
	}
	part.RLock()
	defer part.RUnlock()
	if of := part.bySyntax[syntax]; of != nil {
		return of.short[string(shape)]
	}
	return nil
}

// longKey is the length in bytes up to which texts and shapes are remembered whole. Of longer ones there is only a hash
// that nobody can find another text for.
const longKey = 1 << 10

// key is a text in a syntax, or the hash of a long one.
type key struct {
	syntax *statement.Syntax
	text   string
	long   [sha256.Size]byte
	part   uint8 // of the engine's patterns, where it is a shape's
}

func keyOf(syntax *statement.Syntax, text []byte) key {
	if len(text) > longKey {
		return key{syntax: syntax, long: sha256.Sum256(text)}
	}
	return key{syntax: syntax, text: string(text)}
}

// bytes is what a key takes in a map, with what it leads to.
func (k key) bytes() int64 { return int64(len(k.text)) + 160 }

// known gives the pattern with this text, or nil, and remembers that the shape is of it, if there is room for that.
func (ps *patterns) known(syntax *statement.Syntax, text, shape []byte, most int) *Pattern {
	k := keyOf(syntax, text)
	ps.mu.Lock()
	defer ps.mu.Unlock()
	p := ps.byText[k]
	if p != nil && ps.shapes < shapesEach*most {
		ps.remember(p, syntax, shape)
	}
	return p
}

// also remembers that a shape is of a pattern which is no more than a name for such, if there is room for that.
func (ps *patterns) also(p *Pattern, syntax *statement.Syntax, shape []byte, most int) {
	ps.mu.Lock()
	defer ps.mu.Unlock()
	if ps.byText[p.key] == p && ps.shapes < shapesEach*most {
		ps.remember(p, syntax, shape)
	}
}

// remember is called with mu held.
func (ps *patterns) remember(p *Pattern, syntax *statement.Syntax, shape []byte) {
	k := keyOf(syntax, shape)
	k.part = uint8(maphash.Bytes(seed, shape) % uint64(len(ps.parts)))
	if !ps.room.Take(k.bytes()) {
		return // it takes the long way each time
	}
	part := &ps.parts[k.part]
	part.Lock()
	defer part.Unlock()
	of := part.bySyntax[syntax]
	if of == nil {
		of = &shapes{map[string]*shaped{}, map[[sha256.Size]byte]*shaped{}}
		if part.bySyntax == nil {
			part.bySyntax = map[*statement.Syntax]*shapes{}
		}
		part.bySyntax[syntax] = of
	}
	if k.text == "" && of.long[k.long] != nil || k.text != "" && of.short[k.text] != nil {
		ps.room.Give(k.bytes())
		return
	}
	if k.text == "" && len(shape) > 0 {
		of.long[k.long] = &shaped{pattern: p}
	} else {
		of.short[k.text] = &shaped{pattern: p}
	}
	p.shapes = append(p.shapes, k)
	p.bytes += k.bytes()
	ps.shapes++
}

// add puts a pattern in, unless another session was first; it gives the one that is in, or nil if there is no room for
// it.
func (ps *patterns) add(
	p *Pattern,
	syntax *statement.Syntax,
	text, shape []byte,
	numbers func() (*ledger.Pattern, *inputs.Pattern),
) *Pattern {
	k := keyOf(syntax, text)
	ps.mu.Lock()
	defer ps.mu.Unlock()
	if have := ps.byText[k]; have != nil {
		return have
	}
	p.key, p.bytes = k, patternBytes(p)+k.bytes()
	if !ps.room.Take(p.bytes) {
		return nil
	}
	if ps.byText == nil {
		ps.byText = map[key]*Pattern{}
	}
	p.Numbers, p.Inputs = numbers()
	ps.byText[k] = p
	ps.remember(p, syntax, shape)
	ps.byID.Store(p.ID, p)
	ps.count.Add(1)
	return p
}

// patternBytes is what a pattern takes: its numbers, its text and what is known of its effects, as measured of many
// (see the tests).
func patternBytes(p *Pattern) int64 { return 4000 + int64(len(p.Text)) + p.Facts.Bytes() }

// remove takes patterns out.
func (ps *patterns) remove(list []*Pattern) {
	ps.mu.Lock()
	defer ps.mu.Unlock()
	for _, p := range list {
		if ps.byText[p.key] != p {
			continue
		}
		delete(ps.byText, p.key)
		ps.byID.Delete(p.ID)
		ps.count.Add(-1)
		for _, k := range p.shapes {
			part := &ps.parts[k.part]
			part.Lock()
			if k.text == "" {
				delete(part.bySyntax[k.syntax].long, k.long)
			}
			delete(part.bySyntax[k.syntax].short, k.text)
			part.Unlock()
		}
		ps.shapes -= len(p.shapes)
		ps.room.Give(p.bytes)
		p.shapes, p.bytes = nil, 0
	}
}

func (ps *patterns) each(f func(*Pattern)) {
	ps.mu.Lock()
	list := make([]*Pattern, 0, len(ps.byText))
	for _, p := range ps.byText {
		list = append(list, p)
	}
	ps.mu.Unlock()
	for _, p := range list {
		f(p)
	}
}
