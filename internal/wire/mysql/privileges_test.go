package mysql_test

import (
	"context"
	"net"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jollylarder/internal/wire/link"
)

// Privileges are granted, somebody logs in with them, and they are revoked, while the schema is not read: what that session
// may go on to read is not shown to later ones of its account.
func TestPrivilegesThatCameAndWentAreNotShared(t *testing.T) {
	var holds atomic.Bool
	held, goes := make(chan struct{}), make(chan struct{})
	a := newAnsweringWith(t, link.Options{Dial: func(_ context.Context, address string) (net.Conn, error) {
		if holds.CompareAndSwap(true, false) {
			close(held)
			<-goes
		}
		return net.Dial("tcp", address)
	}})
	root := connect(t, a.address, "root", "", "")
	_, err := root.Exec("create or replace user skua identified by 'Stores#9'")
	require.NoError(t, err)
	knows := func() { // until the schema is known
		before := a.hits()
		for end := time.Now().Add(time.Minute); a.hits() == before && time.Now().Before(end); {
			x := a.enters()
			a.ask(x, "select ship from berths where id = 255")
			x.Close()
		}
		require.Greater(t, a.hits(), before)
	}
	knows()
	holds.Store(true) // from the schema's next reading on
	_, err = root.Exec("grant select on *.* to skua")
	require.NoError(t, err)
	for end := time.Now().Add(time.Minute); holds.Load() && time.Now().Before(end); {
		_, err = root.Exec("do 1")
		require.NoError(t, err)
	}
	<-held
	had := connectTo(t, a.address, "skua", "Stores#9", "")
	require.NoError(t, had.Ping())
	_, err = root.Exec("revoke select on *.* from skua")
	require.NoError(t, err)
	close(goes)
	knows()
	const read = "select ship from skerrow.berths where id = 254"
	for range 3 {
		_, err = asks(had, read)
		require.NoError(t, err, "the server lets it go on")
	}
	hasNot := connectTo(t, a.address, "skua", "Stores#9", "")
	_, err = asks(hasNot, read)
	assert.Equal(t, uint16(1142), refusal(t, err).Number)
}
