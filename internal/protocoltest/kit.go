package protocoltest

import (
	"fmt"
	"net"
	"testing"

	"github.com/stretchr/testify/require"

	"jollylarder/internal/wire/link"
)

// Run runs the whole kit.
func Run(t *testing.T, s *Subject) {
	for _, check := range []struct {
		name string
		run  func(testing.TB, *Subject) error
	}{
		{"conversations", Converse},
		{"scripts", func(t testing.TB, s *Subject) error { return Scripts(t, s, 60) }},
		{"sequences", Sequences},
		{"a client that does not read", DoesNotRead},
		{"cancellation", Cancel},
		{"hostile beginnings", Hostile},
		{"clients that vanish", Vanish},
		{"an origin that is gone", OriginGone},
	} {
		t.Run(check.name, func(t *testing.T) { require.NoError(t, check.run(t, s)) })
	}
}

// Converse has each conversation directly, through a larder that keeps nothing, through one that keeps all, and again
// with what that has kept.
func Converse(t testing.TB, s *Subject) error {
	y := newYard(t, s)
	once := func(address, database string, x Conversation) (string, error) {
		c, err := net.Dial(link.Network(address), address)
		if err != nil {
			return "", err
		}
		defer c.Close()
		return s.alike(x.Run(t, c, database)), nil
	}
	for _, x := range s.Conversations {
		y.keep(true)
		database, err := y.database()
		if err != nil {
			return err
		}
		want, err := once(s.Address, database, x)
		if err != nil {
			return err
		}
		for _, pass := range []string{"with nothing kept", "the first time", "again", "and again"} {
			keep := pass != "with nothing kept"
			if y.keep(keep); keep {
				if err := y.know(database); err != nil {
					return err
				}
			}
			before := y.hits()
			got, err := once(y.address, database, x)
			if err == nil {
				err = differ(want, got)
			}
			if err != nil {
				return fmt.Errorf("%s, %s: %w", x.Name, pass, err)
			}
			if pass == "and again" && x.Hits && y.hits() == before {
				return fmt.Errorf("%s: nothing of it is answered from memory", x.Name)
			}
		}
	}
	return nil
}
