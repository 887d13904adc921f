// Package feed says how what is written in a database is followed, whoever writes it. The packages inside it follow one
// kind of database each.
package feed

import (
	"context"
	"fmt"
	"log/slog"
	"time"

	"jollylarder/internal/core/engine"
)

// Mode is how a database's changes are followed.
type Mode string

// The modes.
const (
	// Stream is by the stream of changes that the server gives those who replicate it: each row that is written, as soon
	// as it is committed.
	Stream Mode = "stream"
	// Poll is by the counters of changes that the server has for each table: coarser, and later.
	Poll Mode = "poll"
)

// Follower follows the changes of one database, or of a whole server where clocks belong to that.
type Follower interface {
	// Run follows until the context ends. Whatever goes wrong, it begins anew.
	Run(context.Context)
	// Status says how the database is followed.
	Status() Status
}

// Options are what a Follower is made of.
type Options struct {
	Feed             *engine.Feed
	Origin, Database string
	// Mode is the one wanted; without what Stream needs, Poll takes its place.
	Mode Mode
	// Slot and Publication are those that a plan has made, where the database has such.
	Slot, Publication string
	// MaxSlotSize is how many bytes of the server's log may be held back before the stream is let go; 0 means 1 GiB.
	MaxSlotSize int64
	// PollEvery is how often counters are read; 0 means every second.
	PollEvery time.Duration
	// ProbeEvery is how often it is measured how far the stream has come; 0 means 100 ms.
	ProbeEvery time.Duration
	// Log receives what goes wrong; nil means slog.Default.
	Log *slog.Logger
}

// Status is how a database is followed at this moment.
type Status struct {
	// Mode is the one in use, or empty while there is none.
	Mode Mode
	// Problem says why it is not the one wanted, or what is wrong otherwise; empty if nothing is.
	Problem string
	// Lag is how old the last moment is of which all changes are known, by the larder's own clock from before it asked
	// for the server's position to when the stream had passed that; At is when that was measured. In the mode Poll it
	// is how long it can take.
	Lag time.Duration
	At  time.Time
	// Held is how many bytes of its log the server retains for the stream, and Bound how many it may.
	Held, Bound int64
	// Transactions and Rows are those told of, Gaps how often something may have been left out.
	Transactions, Rows, Gaps uint64
	// Polled are the tables that only counters tell of.
	Polled []string
}

// seen is the status for who looks at it now: a stream that stalls falls behind, though nothing is measured any more.
func (s Status) seen(now time.Time) Status {
	if silent := now.Sub(s.At); s.Mode == Stream && !s.At.IsZero() && silent > stalls {
		s.Lag += silent
		s.Problem = fmt.Sprintf("the stream has told nothing for %.0f s", silent.Seconds())
	}
	return s
}

// Names are those of what a plan makes.
type Names struct {
	Slot, Publication string
	// Role is the account by which the larder follows; empty for one that is there already and may do so.
	Role string
}

// Plan is what is to be done in a database so that its changes can be followed, or so that nothing of that is left.
type Plan struct {
	// Steps are SQL statements, in their order.
	Steps []string
	// Notes say what is to be known before they are run, and Obstacles why they cannot be.
	Notes, Obstacles []string
}

// Planner works out plans for one database, and carries them out.
type Planner interface {
	// UsualNames are those of what is made in it where nothing else is said; one of what it does not have is empty.
	UsualNames() Names
	// SetUp works out what is to be done so that its changes can be followed, and Remove so that nothing is left of
	// that. They change nothing.
	SetUp(context.Context, Names) (Plan, error)
	Remove(context.Context, Names) (Plan, error)
	// Run runs a plan's steps, and says which of them failed: those before it are done.
	Run(context.Context, Plan) error
	// Configuration gives the lines of the larder's configuration, beside the user, that say what to follow.
	Configuration(Names) string
	Close()
}
