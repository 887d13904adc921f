package freshness

import "sync/atomic"

// Safeguard is one of the rules by which nobody is given an old answer. Tests switch them off one at a time, and show that
// what checks answers then finds an old one.
type Safeguard uint32

// The safeguards. Those of the package itself come first; the others are kept where they are named.
const (
	ClockMoved       Safeguard = 1 << iota // a result is valid only while no counter has moved
	PendingAtSending                       // what was fetched while a write was pending is not kept
	OtherColumns                           // a change that is not pinned by a column moves what is
	NewKeysWait                            // what is pinned by a new key waits for changes that do not know it
	SchemaMeanwhile                        // a write that waited while the schema was changed moves every clock
	OwnWrites                              // a transaction is not answered for tables that it has written
	Assigned                               // a change of a pinned column counts for both values
	UniqueFound                            // additions are left aside only where a row was found
	Isolation                              // who must see his own moment is not answered
	Hidden                                 // what a write does beyond its table counts
	SettingsInKey                          // sessions with other settings have other keys
	UnknownEffects                         // what may do anything moves every clock
	TwoPhase                               // what a prepared transaction wrote counts when it is committed
	LostConnections                        // a write whose connection was lost stays pending
	FeedGaps                               // a feed that may have left out something moves every clock
)

var off atomic.Uint32

// Off says whether a safeguard is switched off. Outside tests none ever is.
func Off(s Safeguard) bool { return off.Load()&uint32(s) != 0 }

// SwitchOff switches a safeguard off, until what it gives is called. It is for tests alone.
func SwitchOff(s Safeguard) (back func()) {
	off.Or(uint32(s))
	return func() { off.And(^uint32(s)) }
}
