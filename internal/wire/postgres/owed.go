package postgres

import (
	"jollylarder/internal/core/analysis"
	"jollylarder/internal/core/engine"
	"jollylarder/internal/core/store"
)

// A client that was answered from memory believes the origin to hold things that it was never sent: an unnamed
// statement whose Parse was answered, an unnamed portal whose Bind was, a query in this transaction. Or to have let go
// of some: a simple query makes a server forget both statement and portal. Before the origin gets a message that rests
// on such a thing, it is told; its answers to that are not for the client.

// localPortal is an unnamed portal that was bound, and run to its end, in memory.
type localPortal struct {
	stmt      *prepared
	statement string // its name
	entry     *store.Entry
	bound     int // the length of what was bound, at the end of the entry's key
}

// forgetPortal follows the end of the unnamed portal on both sides.
func (c *conversation) forgetPortal() {
	c.local = localPortal{} // which holds on to a result
	c.portal, c.portalThere, c.portalStale = nil, false, false
}

// dependsOn says whether a message rests on the unnamed statement, and whether on the unnamed portal.
func dependsOn(p *part) (stmt, portal bool) {
	switch p.kind {
	case 'B':
		return p.statement.empty(), false
	case 'D':
		return !p.ofPortal && p.name.empty(), p.ofPortal && p.name.empty()
	case 'E':
		return false, p.name.empty()
	}
	return false, false
}

// owes says whether the origin must be told something before it gets a message.
func (c *conversation) owes(p *part) bool {
	stmt, portal := dependsOn(p)
	return stmt && c.there != c.here || portal && (c.portal != nil || c.portalStale)
}

// owed appends what the origin must be told before it gets a message of an exchange.
func (c *conversation) owed(x *exchange, p *part, dst []byte) []byte {
	stmt, portal := dependsOn(p)
	if stmt {
		dst = c.owedStatement(x, c.here, dst)
	}
	if !portal {
		return dst
	}
	if l := c.portal; l != nil {
		if l.statement == "" {
			dst = c.owedStatement(x, l.stmt, dst)
		}
		key := l.entry.Key()
		dst = frame(dst, 'B', []byte{0}, []byte(l.statement), []byte{0}, []byte(key[len(key)-l.bound:]))
		c.expects(x, expected{kind: 'B', silent: true})
		c.portalThere, c.portalStale = true, false // and c.portal stays: its rows have been read
	} else if c.portalStale {
		dst = frame(dst, 'C', []byte("P\x00"))
		c.expects(x, expected{kind: 'C', silent: true})
		c.portalThere, c.portalStale = false, false
	}
	return dst
}

// owedStatement makes the origin's unnamed statement that which it should be.
func (c *conversation) owedStatement(x *exchange, should *prepared, dst []byte) []byte {
	switch {
	case c.there == should:
	case should == nil:
		dst = frame(dst, 'C', []byte("S\x00"))
		c.expects(x, expected{kind: 'C', silent: true, unnamed: unnamed{nil, gone}})
	case should.sql != nil:
		dst = frame(dst, 'P', []byte{0}, should.sql, []byte{0}, should.types)
		c.expects(x, expected{kind: 'P', silent: true, unnamed: unnamed{nil, should}})
	}
	return dst
}

// owesQuery says whether a statement would find the transaction as if nothing had been asked in it yet, where
// something was, and was answered from memory: then the server would let it set what must be set before any query.
func (c *conversation) owesQuery(t engine.Ticket) bool {
	if !c.answeredInBlock || c.eng.State() == engine.Failed {
		return false
	}
	switch t.Pattern.Facts.Kind {
	case analysis.KindSet,
		analysis.KindReset,
		analysis.KindBegin,
		analysis.KindSeveral,
		analysis.KindUnknown,
		analysis.KindCall,
		analysis.KindDo:
		return true
	}
	return false
}

// owedQuery appends a query whose answer is for nobody, as part of a batch.
func (c *conversation) owedQuery(x *exchange, dst []byte) []byte {
	c.answeredInBlock = false
	for _, kind := range []byte("CPBECC") {
		c.expects(x, expected{kind: kind, silent: true})
	}
	whole := questionMessages(anyQuery)
	return append(dst, whole[:len(whole)-len(syncMessage)]...)
}

const anyQuery = "/* jolly larder */ select 1"
