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
		length  time.Duration
		judged  int
	}{
		"through the larder": {checker, false, 45 * time.Second, 5000}, "and around it": {checker, true, 15 * time.Second, 500},
		"before MariaDB": {mariaChecker, false, 30 * time.Second, 5000}, "and around it before MariaDB": {mariaChecker, true, 15 * time.Second, 500},
	} {
		t.Run(name, func(t *testing.T) {
			c := x.checker(t)
			c.Feed = x.feed
			sum, found, err := c.Run(context.Background(), 1, x.length, 2, nil)
			require.NoError(t, err)
			require.Nil(t, found, "%v", found)
			t.Logf("%+v", sum)
			assert.Greater(t, sum.Hits, x.judged)
		})
	}
}
