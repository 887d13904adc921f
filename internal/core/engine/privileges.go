package engine

import (
	"maps"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"jollylarder/internal/core/analysis"
	"jollylarder/internal/core/catalog"
)

// privileges are when accounts of a database came to have others, where sessions go on with those that they logged in with:
// what such a session may read, a later one of the same account may not. Every read looks there, and hardly anything ever
// changes: it is replaced whole.
type privileges struct {
	known atomic.Pointer[knownPrivileges] // nil while none have changed since the larder began

	mu     sync.Mutex
	doubts doubts
}

type knownPrivileges struct {
	changed map[string]time.Time // by account
	unknown []stretch            // in their order
}

// stretch is a time in which privileges came and went, so that those of who logged in then are not known.
type stretch struct{ from, to time.Time }

// doubts are the statements that may have changed privileges since these were read last.
type doubts struct {
	first   time.Time
	count   int
	certain bool // one of them says that it does
}

// Bounds of what is told apart; beyond them more is taken for changed.
const (
	mostAccounts  = 10_000
	mostStretches = 16
)

// mayChange notes a statement that is about to run, if it may change privileges.
func (p *privileges) mayChange(f *analysis.Facts, calls bool, now time.Time) {
	if !f.MayGrant && !calls {
		return
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.doubts.count == 0 {
		p.doubts.first = now
	}
	p.doubts.count++
	p.doubts.certain = p.doubts.certain || f.MayGrant && f.Effect&analysis.Unknown == 0
}

// compares takes in who has which privileges, by the last description of the catalog and the one before, or nil. Settled says
// that nothing may have changed them while they were read. It is called with the database's lock held.
func (p *privileges) compares(before, after catalog.Description, settled bool, now time.Time) {
	is, ok := after.(catalog.Privileged)
	if !ok {
		return
	}
	p.mu.Lock()
	seen := p.doubts
	if settled {
		p.doubts = doubts{}
	}
	p.mu.Unlock()
	var others []string
	was, has := before.(catalog.Privileged)
	switch {
	case has:
		others = differing(was.Privileges(), is.Privileges())
	case seen.certain: // what they were before is not known
		others = []string{catalog.EveryAccount}
	}
	returned := has && seen.count > 1 // what one has changed, another may have changed back
	if len(others) == 0 && !returned {
		return
	}
	next := &knownPrivileges{changed: map[string]time.Time{}}
	if last := p.known.Load(); last != nil {
		next = &knownPrivileges{maps.Clone(last.changed), slices.Clone(last.unknown)}
	}
	for _, account := range others {
		if len(next.changed) >= mostAccounts {
			account = catalog.EveryAccount
		}
		next.changed[account] = now
	}
	if returned {
		next.unknown = append(next.unknown, stretch{seen.first, now})
		if len(next.unknown) > mostStretches {
			next.unknown[1].from = next.unknown[0].from
			next.unknown = next.unknown[1:]
		}
	}
	p.known.Store(next)
}

// differing gives the accounts that have other privileges in one list than in another.
func differing(old, new map[string]uint64) (accounts []string) {
	for account, what := range old {
		if as, has := new[account]; !has || what != as {
			accounts = append(accounts, account)
		}
	}
	for account := range new {
		if _, had := old[account]; !had {
			accounts = append(accounts, account)
		}
	}
	return accounts
}

// Entered notes when the session entered another database, of which it has the privileges of that time from then on.
func (s *Session) Entered(sent, done time.Time) { s.entered = stretch{sent, done} }

// outgrown says whether the session may have other privileges than one that logs in now.
func (s *Session) outgrown() bool {
	known := s.db.privileges.known.Load()
	account := s.settings.Account
	if known == nil || account == "" {
		return false
	}
	for _, x := range known.unknown {
		if x.meets(stretch{s.Since, s.Until}) || x.meets(s.entered) {
			return true
		}
	}
	return !s.Since.After(known.changed[catalog.EveryAccount]) || !s.Since.After(known.changed[account])
}

// meets says whether two stretches have a moment in common.
func (s stretch) meets(o stretch) bool { return !o.to.Before(s.from) && !o.from.After(s.to) }
