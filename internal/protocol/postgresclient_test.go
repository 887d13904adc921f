package protocol

import (
	"context"
	"net"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jollylarder/internal/standin"
	"jollylarder/internal/trial"
)

// A trial connects to a server without TLS unless the URL insists on it, and to no other server than the first.
func TestWhereATrialConnects(t *testing.T) {
	o, err := standin.New(standin.Options{})
	require.NoError(t, err)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	go func() { _ = o.Serve(l) }()
	t.Cleanup(func() { l.Close(); o.Close() })
	nobody, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	nobody.Close()
	for url, ok := range map[string]bool{
		"postgres://ines@" + l.Addr().String() + "/skerrow":                                true,
		"postgres://ines@" + l.Addr().String() + "/skerrow?sslmode=disable":                true,
		"postgres://ines@" + l.Addr().String() + "/skerrow?sslmode=require":                false,
		"postgres://ines@" + nobody.Addr().String() + "," + l.Addr().String() + "/skerrow": false,
		"postgres://ines@" + nobody.Addr().String() + "/skerrow":                           false,
	} {
		c, err := dialPostgreSQL(context.Background(), url, "trial")
		if !ok {
			assert.Error(t, err, url)
			continue
		}
		require.NoError(t, err, url)
		rows, err := c.Ask(context.Background(), &trial.Statement{SQL: "select 1"}, "")
		assert.NoError(t, err, url)
		assert.Len(t, rows, 1, url)
		c.Close()
	}
}
