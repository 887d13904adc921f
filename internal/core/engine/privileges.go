package engine

import (
	"maps"
	"sync/atomic"
	"time"

	"jollylarder/internal/core/catalog"
)

// privileges are when accounts of a database came to have others, where sessions go on with those that they logged in with:
// what such a session may read, a later one of the same account may not. Every read looks there, and hardly anything ever
// changes: it is replaced whole. It is nil while none have changed since the larder began.
type privileges struct {
	changed atomic.Pointer[map[string]time.Time]
}

// mostAccounts bounds the accounts that are told apart.
const mostAccounts = 10_000

// compares takes in who has which privileges, by the last description of the catalog and the one before. It is called with
// the database's lock held.
func (p *privileges) compares(before, after catalog.Description, now time.Time) {
	was, ok := before.(catalog.Privileged)
	is, fine := after.(catalog.Privileged)
	if !ok || !fine {
		return
	}
	old, new := was.Privileges(), is.Privileges()
	if maps.Equal(old, new) {
		return
	}
	changed := map[string]time.Time{}
	if last := p.changed.Load(); last != nil {
		changed = maps.Clone(*last)
	}
	for _, list := range []map[string]uint64{old, new} {
		for account := range list {
			what, had := old[account]
			if as, has := new[account]; had && has && what == as {
				continue
			}
			if len(changed) >= mostAccounts {
				account = catalog.EveryAccount
			}
			changed[account] = now
		}
	}
	p.changed.Store(&changed)
}

// outgrown says whether an account has other privileges than it had at a moment, or may have.
func (db *database) outgrown(account string, since time.Time) bool {
	changed := db.privileges.changed.Load()
	if changed == nil {
		return false
	}
	return !since.After((*changed)[catalog.EveryAccount]) || !since.After((*changed)[account])
}
