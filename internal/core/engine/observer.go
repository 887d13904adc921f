package engine

import (
	"time"

	"jollylarder/internal/core/ledger"
	"jollylarder/internal/core/rules"
	"jollylarder/internal/core/store"
)

// Observer learns what becomes of statements and of what is kept. The engine asks it nothing that it decides by.
// Its methods are called on the way of statements, by many sessions at once: they must be quick, wait for nothing, and
// not call the engine, but for Tick, which may. Embed Unmoved for what is of no interest.
type Observer interface {
	// Wants says which bytes of statements are to be there when they have ended: they are copied for it.
	Wants() Bytes
	// Ended is told of each statement that has ended. What x points to is the engine's: it may be kept, but not x
	// itself.
	Ended(x *Ended)
	// Sampled is told of each control sample: a statement that would have been answered from memory, and was asked of
	// the origin.
	Sampled(x *Sampled)
	// Cached is told of a result that is kept from now on.
	Cached(key, reply []byte)
	// Dropped is told of a result that a write has dropped.
	Dropped(entry *store.Entry)
	// Reclaimed is told how many results a change of a table dropped, or a change that may have touched any if its name
	// is empty.
	Reclaimed(now time.Time, database, table string, dropped int)
	// Tick is called when Engine.Tick is.
	Tick(now time.Time)
}

// Bytes are bytes of a statement that an observer wants. They add up.
type Bytes uint8

// The bytes.
const (
	Comments Bytes = 1 << iota
	Values         // its text with its literals, and its parameters
)

// Ended is a statement that has ended.
type Ended struct {
	At      time.Time
	Session *Session
	Pattern *Pattern
	// Rule is the one that keeps it, or nil.
	Rule   *rules.Rule
	Record ledger.Record
	// Numbers are where statements of its pattern are counted, Application where those of its application are, and OfRule
	// where those of its rule are, or nil where it has none.
	Numbers             *ledger.Pattern
	Application, OfRule *ledger.Tally
	// Age is how old the answer of a hit was.
	Age time.Duration
	// Comment is the inside of its last comment, Exact the statement with its literals, and Types and Bound its
	// parameters as the protocol sends them, where somebody wanted these; else they are empty.
	Comment, Exact, Types, Bound []byte
}

// Sampled is a control sample that has been fetched.
type Sampled struct {
	At          time.Time
	Database    string
	Pattern     *Pattern
	Rule        *rules.Rule
	Numbers     *ledger.Pattern
	Application *ledger.Tally
	// Took is how long the origin took, and Failed is set if it refused.
	Took   time.Duration
	Failed bool
	// Was is what would have been answered, or nil where that may differ; Reply is what was fetched, or nil where that
	// was not gathered.
	Was   *store.Entry
	Reply []byte
	// SameRows says whether two replies hold the same rows; nil where that cannot be said.
	SameRows func(a, b []byte) bool
	// Steady is set if nothing changed while it was fetched, as far as is known, and AnyRows if the same rows may give
	// another result.
	Steady, AnyRows bool
	// Tables are those it rests on.
	Tables []string

	db *database
}

// Told says whether all is told that was committed around the larder before the sample was fetched, or never will be.
func (x *Sampled) Told(now time.Time) bool { return x.db.feed.passed(x.Tables, x.At, now) }

// Unmoved is an Observer of nothing.
type Unmoved struct{}

// Wants wants nothing.
func (Unmoved) Wants() Bytes { return 0 }

// Ended does nothing.
func (Unmoved) Ended(*Ended) {}

// Sampled does nothing.
func (Unmoved) Sampled(*Sampled) {}

// Cached does nothing.
func (Unmoved) Cached(_, _ []byte) {}

// Dropped does nothing.
func (Unmoved) Dropped(*store.Entry) {}

// Reclaimed does nothing.
func (Unmoved) Reclaimed(time.Time, string, string, int) {}

// Tick does nothing.
func (Unmoved) Tick(time.Time) {}

// wants gives the bytes that some observer wants of a statement.
func (e *Engine) wants() (w Bytes) {
	for _, o := range e.opts.Observers {
		w |= o.Wants()
	}
	return w
}
