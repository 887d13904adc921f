package engine

import (
	"sync"
	"sync/atomic"
	"time"

	"jollylarder/internal/core/catalog"
)

// privileges are when accounts of a database came to have others, where sessions go on with those that they logged in with:
// what such a session may read, a later one of the same account may not.
type privileges struct {
	any atomic.Bool // some have changed since the larder began

	mu       sync.Mutex
	of       map[string]time.Time // by account: when that was known
	everyone time.Time            // the same for all accounts
}

// mostAccounts bounds the accounts that are told apart.
const mostAccounts = 10_000

// compares takes in who has which privileges, by the last description of the catalog and the one before.
func (p *privileges) compares(before, after catalog.Description, now time.Time) {
	was, ok := before.(catalog.Privileged)
	is, fine := after.(catalog.Privileged)
	if !ok || !fine {
		return
	}
	old, new := was.Privileges(), is.Privileges()
	p.mu.Lock()
	defer p.mu.Unlock()
	changed := func(account string) {
		p.any.Store(true)
		if p.of == nil {
			p.of = map[string]time.Time{}
		}
		if account == catalog.EveryAccount || len(p.of) >= mostAccounts {
			p.everyone = now
			return
		}
		p.of[account] = now
	}
	for account, what := range new {
		if old[account] != what {
			changed(account)
		}
	}
	for account := range old {
		if _, still := new[account]; !still {
			changed(account)
		}
	}
}

// outgrown says whether an account has other privileges than it had at a moment, or may have.
func (db *database) outgrown(account string, since time.Time) bool {
	p := &db.privileges
	if !p.any.Load() {
		return false
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	return !since.After(p.everyone) || !since.After(p.of[account])
}
