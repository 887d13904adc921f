package freshcheck

import (
	"context"
	"errors"
	"fmt"
	"os"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jollylarder/internal/privatepg"
)

var server *privatepg.Server

func TestMain(m *testing.M) {
	var err error
	server, err = privatepg.Start("", "wal_level=logical", "max_replication_slots=20", "max_wal_senders=20", "max_prepared_transactions=50", "autovacuum=off", "max_connections=200")
	if err != nil && (!errors.Is(err, privatepg.ErrMissing) || os.Getenv("CI") != "") {
		fmt.Println(err)
		os.Exit(1)
	}
	code := m.Run()
	if server != nil {
		server.Stop()
	}
	os.Exit(code)
}

func checker(t *testing.T) *Checker {
	if server == nil {
		t.Skip("no PostgreSQL here")
	}
	return &Checker{Address: server.Address()}
}

// Nobody is answered with what the database would not have answered; nor, with some writes around the larder and a feed, once it has told of them.
func TestNobodyIsAnsweredOld(t *testing.T) {
	for name, x := range map[string]struct {
		feed   bool
		length time.Duration
		judged int
	}{"through the larder": {false, 45 * time.Second, 5000}, "and around it": {true, 15 * time.Second, 500}} {
		t.Run(name, func(t *testing.T) {
			c := checker(t)
			c.Feed = x.feed
			sum, found, err := c.Run(context.Background(), 1, x.length, 2, nil)
			require.NoError(t, err)
			require.Nil(t, found, "%v", found)
			t.Logf("%+v", sum)
			assert.Greater(t, sum.Hits, x.judged)
		})
	}
}
