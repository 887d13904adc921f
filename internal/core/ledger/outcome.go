// Package ledger counts what became of statements and how long clients waited for them: for all, per application, and
// per pattern. Recording is a handful of atomic additions, so that no connection waits for another; what is shown per
// minute is derived from the totals by Tick.
package ledger

import (
	"time"

	"jollylarder/internal/core/reason"
)

// Outcome is what became of a statement.
type Outcome uint8

// The outcomes.
const (
	Hit    Outcome = iota // answered from memory
	Miss                  // fetched from the origin and kept, or meant to be
	Bypass                // sent to the origin and not kept
	Write                 // sent to the origin, and changes something there
)

// Outcomes are all of them, in the order they are shown.
var Outcomes = [...]Outcome{Hit, Miss, Bypass, Write}

func (o Outcome) String() string { return [...]string{"hit", "miss", "bypass", "write"}[o] }

// Record is one statement's end.
type Record struct {
	Outcome Outcome
	// Reason says the reason for a bypass; there are few that a pattern passes for.
	Reason reason.Reason
	// Took is the time from the statement's arrival to the last byte of its reply.
	Took time.Duration
	// Saved is what a hit spared: the time that fetching this very result took last, less Took.
	Saved time.Duration
	// Own is what the larder itself added to the time of a miss: Took less what the origin needed. It is counted
	// against what was spared.
	Own time.Duration
	// Followed is the part of a hit's Took in which it waited for what another session was fetching.
	Followed time.Duration
	// Cacheable is set when a rule could have kept its result, and Ruled when one does: then its time is part of what
	// came after, or else of what was before anything was kept. LeftOut belongs to neither.
	Cacheable, Ruled, LeftOut bool
	Failed                    bool
	// Here is set when the larder answered it, though not from memory: its time is neither the memory's nor the
	// origin's.
	Here bool
	// Lane tells connections apart, so that they do not count in the same memory; any number will do.
	Lane uint8
	// Caller is who sent it, or nil.
	Caller *Caller
	Rows   int
	Bytes  int
}
