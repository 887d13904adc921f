package engine

import (
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"jollylarder/internal/core/analysis"
	"jollylarder/internal/core/catalog"
)

// privileged is a description that tells nothing but privileges.
type privileged struct {
	catalog.Description
	of map[string]uint64
}

func (p privileged) Privileges() map[string]uint64 { return p.of }

// session gives one of an account that logged in, and entered its database, at some time.
func (db *database) session(account string, login, entered stretch) *Session {
	s := &Session{Identity: Identity{Since: login.from, Until: login.to}, db: db, entered: entered}
	s.settings.Account = account
	return s
}

func at(n int) time.Time { return time.Unix(int64(n), 0) }

// Whoever logged in before privileges of his account changed may have the old ones; others have the new ones.
func TestPrivilegesThatASessionLoggedInWith(t *testing.T) {
	before := privileged{of: map[string]uint64{"ines": 1, "tern": 2, "": 3}}
	for name, c := range map[string]struct {
		after    map[string]uint64
		outgrown []string
	}{
		"nothing has changed":     {map[string]uint64{"ines": 1, "tern": 2, "": 3}, nil},
		"one has others":          {map[string]uint64{"ines": 7, "tern": 2, "": 3}, []string{"ines"}},
		"one has none any more":   {map[string]uint64{"tern": 2, "": 3}, []string{"ines"}},
		"there is another":        {map[string]uint64{"ines": 1, "tern": 2, "skua": 5, "": 3}, []string{"skua"}},
		"a role has others":       {map[string]uint64{"ines": 1, "tern": 2, "": 4}, []string{"ines", "tern", "skua"}},
		"there are no more roles": {map[string]uint64{"ines": 1, "tern": 2}, []string{"ines", "tern", "skua"}},
	} {
		db := &database{}
		outgrown := func(account string, n int) bool {
			return db.session(account, stretch{at(n), at(n)}, stretch{}).outgrown()
		}
		db.privileges.compares(nil, before, true, at(1))
		assert.False(t, outgrown("ines", 0), "%s: it was read for the first time", name)
		db.privileges.compares(before, privileged{of: c.after}, true, at(5))
		for _, account := range []string{"ines", "tern", "skua"} {
			old := slices.Contains(c.outgrown, account)
			assert.Equal(t, old, outgrown(account, 3), "%s: %s, before", name, account)
			assert.Equal(t, old, outgrown(account, 5), "%s: %s, at the moment", name, account)
			assert.False(t, outgrown(account, 6), "%s: %s, afterwards", name, account)
		}
	}
}

// Privileges that came and went between two readings of the schema are those of whoever logged in, or entered a database,
// meanwhile. One statement alone cannot have brought and taken them: the readings tell what it did.
func TestPrivilegesThatCameAndWent(t *testing.T) {
	as := privileged{of: map[string]uint64{"ines": 1}}
	grants, unknown, reads := &analysis.Facts{Effect: analysis.Shared | analysis.Schema, MayGrant: true}, &analysis.Facts{Effect: analysis.Unknown | analysis.Shared, MayGrant: true}, &analysis.Facts{}
	for name, c := range map[string]struct {
		known     bool // the schema had been read before
		unsettled bool // something was still under way when it was read
		sent      map[int]*analysis.Facts
		outgrown  []int // logins at these moments
	}{
		"nothing":                          {known: true, sent: map[int]*analysis.Facts{3: reads, 5: reads}},
		"one statement":                    {known: true, sent: map[int]*analysis.Facts{3: grants}},
		"two":                              {known: true, sent: map[int]*analysis.Facts{3: grants, 5: grants}, outgrown: []int{3, 4, 5, 6}},
		"two that are not understood":      {known: true, sent: map[int]*analysis.Facts{3: unknown, 5: unknown}, outgrown: []int{3, 4, 5, 6}},
		"one before the first reading":     {sent: map[int]*analysis.Facts{3: grants}, outgrown: []int{0, 1, 2, 3, 4, 5, 6}},
		"one that is not understood then":  {sent: map[int]*analysis.Facts{3: unknown}},
		"one while the schema was read":    {known: true, unsettled: true, sent: map[int]*analysis.Facts{3: grants}},
		"two while the schema was read":    {known: true, unsettled: true, sent: map[int]*analysis.Facts{3: grants, 5: grants}, outgrown: []int{3, 4, 5, 6, 8}},
		"what is not understood, then one": {known: true, sent: map[int]*analysis.Facts{4: unknown, 5: grants}, outgrown: []int{4, 5, 6}},
	} {
		db := &database{}
		p := &db.privileges
		var before catalog.Description
		if c.known {
			before = as
			p.compares(nil, as, true, at(0))
		}
		for n := range 7 {
			if f := c.sent[n]; f != nil {
				p.mayChange(f, false, at(n))
			}
		}
		p.compares(before, as, !c.unsettled, at(6))
		p.compares(as, as, true, at(8))
		for n := range 10 {
			want := slices.Contains(c.outgrown, n)
			if c.unsettled && len(c.sent) > 1 && n == 7 {
				want = true // between two readings, of which the first may not count
			}
			login, entered := stretch{at(n), at(n)}, stretch{}
			assert.Equal(t, want, db.session("ines", login, entered).outgrown(), "%s: login at %d", name, n)
			if c.known {
				assert.Equal(t, want, db.session("ines", stretch{at(-9), at(-9)}, login).outgrown(), "%s: entered at %d", name, n)
			}
			assert.False(t, db.session("", login, entered).outgrown(), "%s: where privileges are looked up each time", name)
		}
		assert.Equal(t, len(c.outgrown) > 0, db.session("ines", stretch{at(2), at(4)}, stretch{}).outgrown(), "%s: a long login", name)
	}
}

// However often privileges come and go, what is remembered of that is bounded, and nothing is forgotten.
func TestPrivilegesThatComeAndGoForEver(t *testing.T) {
	db := &database{}
	as := privileged{of: map[string]uint64{"ines": 1}}
	db.privileges.compares(nil, as, true, at(0))
	for n := range 1000 {
		db.privileges.mayChange(&analysis.Facts{Effect: analysis.Shared, MayGrant: true}, false, at(10*n+3))
		db.privileges.mayChange(&analysis.Facts{}, true, at(10*n+4))
		db.privileges.compares(as, as, true, at(10*n+5))
	}
	assert.LessOrEqual(t, len(db.privileges.known.Load().unknown), mostStretches)
	for n := range 1000 {
		assert.True(t, db.session("ines", stretch{at(10*n + 4), at(10*n + 4)}, stretch{}).outgrown(), n)
	}
	assert.False(t, db.session("ines", stretch{at(9999), at(9999)}, stretch{}).outgrown())
}
