package freshcheck

import (
	"context"
	"errors"
	"fmt"
	"os"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"jollylarder/internal/privatemaria"
	"jollylarder/internal/privatepg"
)

var (
	server *privatepg.Server
	maria  *privatemaria.Server
)

func TestMain(m *testing.M) {
	code, err := withServers(m)
	if err != nil {
		fmt.Println(err)
		code = 1
	}
	os.Exit(code)
}

// withServers runs the tests with a server of each kind, if there is one on this machine.
func withServers(m *testing.M) (code int, err error) {
	here := func(err error) bool {
		return err == nil || os.Getenv("CI") == "" && (errors.Is(err, privatepg.ErrMissing) || errors.Is(err, privatemaria.ErrMissing))
	}
	if server, err = privatepg.Start("", PostgreSQLSettings...); !here(err) {
		return 0, err
	}
	if server != nil {
		defer server.Stop()
	}
	if maria, err = MariaDBOptions.Start(); !here(err) {
		return 0, err
	}
	if maria != nil {
		defer maria.Stop()
	}
	return m.Run(), nil
}

func checker(t *testing.T) *Checker {
	if server == nil {
		t.Skip("no PostgreSQL here")
	}
	return &Checker{Address: server.Address()}
}

func mariaChecker(t *testing.T) *Checker {
	if maria == nil {
		t.Skip("no MariaDB here")
	}
	return &Checker{Database: MariaDB, Address: maria.Address()}
}

// Nobody is answered with what the database would not have answered; nor, with some writes around the larder and a feed,
// once it has told of them.
func TestNobodyIsAnsweredOld(t *testing.T) {
	for name, x := range map[string]struct {
		checker func(*testing.T) *Checker
		feed    bool
		hits    int
	}{
		"through the larder": {checker, false, 20_000}, "and around it": {checker, true, 1000},
		"before MariaDB": {mariaChecker, false, 10_000}, "and around it before MariaDB": {mariaChecker, true, 1000},
	} {
		t.Run(name, func(t *testing.T) {
			c := x.checker(t)
			c.Feed = x.feed
			judges(t, c, 1, x.hits)
		})
	}
}

// longest is within what time the hits of a test are judged on whatever machine: it takes half a minute on a quiet one.
const longest = 10 * time.Minute

// judges has the checker judge so many hits at least, however long that takes.
func judges(t *testing.T, c *Checker, seed uint64, hits int) {
	t.Helper()
	ctx, enough := context.WithCancel(context.Background())
	defer enough()
	sum, found, err := c.Run(ctx, seed, longest, 2, func(n Counts) {
		if n.Hits >= hits {
			enough()
		}
	})
	require.NoError(t, err)
	require.Nil(t, found, "%v", found)
	t.Logf("%+v", sum)
	require.GreaterOrEqual(t, sum.Hits, hits)
}
