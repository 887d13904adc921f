package engine

import (
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"jollylarder/internal/core/catalog"
)

// privileged is a description that tells nothing but privileges.
type privileged struct {
	catalog.Description
	of map[string]uint64
}

func (p privileged) Privileges() map[string]uint64 { return p.of }

// Whoever logged in before privileges of his account changed may have the old ones; others have the new ones.
func TestPrivilegesThatASessionLoggedInWith(t *testing.T) {
	at := func(n int) time.Time { return time.Unix(int64(n), 0) }
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
		db.privileges.compares(nil, before, at(1))
		assert.False(t, db.outgrown("ines", at(0)), "%s: it was read for the first time", name)
		db.privileges.compares(before, privileged{of: c.after}, at(5))
		for _, account := range []string{"ines", "tern", "skua"} {
			old := slices.Contains(c.outgrown, account)
			assert.Equal(t, old, db.outgrown(account, at(3)), "%s: %s, before", name, account)
			assert.Equal(t, old, db.outgrown(account, at(5)), "%s: %s, at the moment", name, account)
			assert.False(t, db.outgrown(account, at(6)), "%s: %s, afterwards", name, account)
		}
	}
}
