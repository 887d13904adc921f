package trial

import (
	"context"
	"time"

	"jollylarder/internal/core/ledger"
)

// Statement is one statement to be asked.
type Statement struct {
	SQL string
	// Protocol is how it was asked, by the protocol's name; empty for any.
	Protocol string
	// Parameters are its bound values, and Types the names of their types as it declared them, which may be fewer; one
	// that is empty was not declared.
	Parameters []Parameter
	Types      []string
	// At is when it came, in milliseconds since the recording began, and Session who sent it.
	At      float64
	Session string

	// Writes is set when it is run in a transaction that is rolled back.
	Writes bool
}

// Wanted is a trial with statements of its own, as somebody asks for it.
type Wanted struct {
	// File holds the statements: a recording, or SQL.
	File string
	// Direct is the URL of the database, or empty, and Through that of the larder.
	Direct, Through string
	// Writes allows statements that may write: each is run in a transaction that is rolled back.
	Writes  bool
	Clients int
	Rounds  int
	Length  time.Duration
	// Count gives what the larder has counted of an application.
	Count func(ctx context.Context, application string) (ledger.Sums, error)
	// Progress is told how much is done, from 0 to 1, and what is being done.
	Progress func(done float64, what string)
}

// The bounds of a live trial.
const (
	ShortestSlice = time.Second
	LongestSlice  = 10 * time.Minute
	MostRounds    = 100
)

// Client is a connection over which a trial asks.
type Client interface {
	// Ask runs a statement with a text put behind it, and gives its rows, each as bytes that are equal only if the rows
	// are.
	Ask(ctx context.Context, s *Statement, behind string) (rows [][]byte, err error)
	// Begin begins a transaction, and Rollback takes it back.
	Begin(context.Context) error
	Rollback(context.Context) error
	// Closed says whether the connection has ended.
	Closed() bool
	Close()
}
