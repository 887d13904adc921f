package trial

import (
	"context"
	"time"

	"jollylarder/internal/core/ledger"
)

// Statement is one statement to be asked.
type Statement struct {
	SQL string
	// Parameters are its bound values, and Types their types as it declared them, which may be fewer; 0 stands for
	// none.
	Parameters []Parameter
	Types      []uint32
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
