package engine

import (
	"time"

	"jollylarder/internal/core/ledger"
	"jollylarder/internal/core/reason"
	"jollylarder/internal/core/statement"
)

// Report is what became of a statement.
type Report struct {
	// Pattern is the statement's, or empty if the session has not asked anything yet.
	Pattern statement.ID
	Outcome ledger.Outcome
	Reason  reason.Reason
	// Took is how long the client waited, Age how old the answer of a hit was, and Saved what it avoided.
	Took, Age, Saved time.Duration
}

// Last gives what became of the session's last statement but those that ask for this.
func (s *Session) Last() Report { return s.last }

// AsksForLast says whether statements of the pattern ask what became of the last one.
func (p *Pattern) AsksForLast() bool { return p.own }
