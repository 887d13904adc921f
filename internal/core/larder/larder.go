// Package larder puts an engine together with all that observes it.
package larder

import (
	"time"

	"jollylarder/internal/core/counting"
	"jollylarder/internal/core/engine"
	"jollylarder/internal/core/ledger"
	"jollylarder/internal/core/needless"
	"jollylarder/internal/core/sample"
	"jollylarder/internal/core/stream"
)

// Larder is an engine whose statements are counted, shown to who watches, and compared.
type Larder struct {
	*engine.Engine
	// Stream shows statements and drops as they come, Samples what control samples have found, and Drops which drops
	// were needless.
	Stream  *stream.Stream
	Samples *sample.Samples
	Drops   *needless.Drops
}

// New makes a larder. Now is the time it begins at.
func New(opts engine.Options, now time.Time) (*Larder, error) {
	l := &Larder{Stream: stream.New(), Samples: sample.New(), Drops: &needless.Drops{}}
	opts.Ledger = ledger.New(now)
	opts.Observers = append(opts.Observers, counting.New(opts.Ledger), l.Stream, l.Samples, l.Drops)
	e, err := engine.New(opts, now)
	if err != nil {
		return nil, err
	}
	l.Engine = e
	l.Stream.Attach(func() uint64 { return e.Ledger.Total.Total().Calls() })
	l.Samples.Attach(e)
	return l, nil
}
