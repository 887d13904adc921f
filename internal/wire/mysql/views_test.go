package mysql_test

import (
	"net"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A view of another database is cached, though the server says with each of its results that the session's state has
// changed: it enters that database and comes back. What has changed is left out of the reply, in each form of it.
func TestViewsOfOtherDatabasesAreCached(t *testing.T) {
	enter := func(address string, further uint32) *conversing {
		c, err := net.Dial("tcp", address)
		require.NoError(t, err)
		t.Cleanup(func() { c.Close() })
		x, err := enters(c, "skerrow", further)
		require.NoError(t, err)
		return x
	}
	ask := func(x *conversing, sql string) string {
		heard, err := x.Ask(sql)
		require.NoError(t, err, sql)
		return heard
	}
	if server == nil {
		t.Skip("no MariaDB here")
	}
	direct := enter(server.Address(), 0)
	for _, q := range []string{
		"create or replace database quayside", "create or replace table lamps (id int primary key, watts int)", "insert into lamps values (1, 40), (2, 60)",
		"create view quayside.bright as select id, watts from skerrow.lamps where watts > 10",
	} {
		ask(direct, q)
	}
	t.Cleanup(func() { ask(direct, "drop database quayside") })
	a := newAnswering(t) // which reads what there is
	const track = 1 << 23
	for _, further := range []uint32{0, deprecateEOF, track, track | deprecateEOF} {
		x, plain := enter(a.address, further), enter(a.address, further)
		const read = "select watts from quayside.bright where id = 1"
		var kept string
		fromMemory := func() bool {
			before := a.hits()
			kept = ask(x, read)
			return a.hits() > before
		}
		for end := time.Now().Add(time.Minute); !fromMemory() && time.Now().Before(end); {
		}
		beside := ask(plain, "select watts from lamps where id = 1")
		assert.Equal(t, beside, strings.ReplaceAll(kept, `\x06bright`, `\x05lamps`), "but for its name it is as if it were a table here")
		assert.Contains(t, ask(x, "select database()"), "skerrow")
		ask(plain, "update lamps set watts = watts + 1 where id = 1")
	}
}
