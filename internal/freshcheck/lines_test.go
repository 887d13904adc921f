package freshcheck

import (
	"bufio"
	"errors"
	"fmt"
	"math/rand/v2"
	"net"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jollylarder/internal/core/engine"
	"jollylarder/internal/feed"
	"jollylarder/internal/protocol"
	"jollylarder/internal/protocoltest/lines"
	"jollylarder/internal/wire/link"
)

// smallest is the checker's view of the smallest database there is, behind a larder with a fault.
type smallest struct{ kind *protocol.Protocol }

func (d smallest) protocol() *protocol.Protocol { return d.kind }

func (smallest) create(address, name string, schema []string) (func(), error) { return func() {}, nil }

func (smallest) connect(address, database, name string) (conn, error) {
	c, err := net.Dial("tcp", address)
	if err != nil {
		return nil, err
	}
	x := &linesConn{c: c, in: bufio.NewReader(c), rest: true}
	if got := x.ask("hello ines."+name+" "+database, 0); !strings.HasPrefix(got, "welcome") {
		return nil, errors.New(got)
	}
	return x, nil
}

func (smallest) local(sql, _, _ string) string { return sql }

func (smallest) world(*rand.Rand) *world {
	return &world{
		reads: []string{"select name from quay where id = {i}", "select name from quay where id = {j}", "select id, name from quay"},
		writes: []string{
			"update quay set name = 'v{v}' where id = {i}", "update quay set name = 'v{v}' where id = {j}", "update quay set name = 'v{v}'", "begin", "commit", "rollback",
		},
		wild: []string{"nonsense"},
	}
}

func (d smallest) generated(r *rand.Rand, _ ...string) *world { return d.world(r) }
func (smallest) plain(sql string) bool                        { return sql != "begin" }
func (smallest) harmless() string                             { return "select name from quay where id = 1" }
func (smallest) forever() []string                            { return nil }

func (smallest) login(larder, server net.Conn) (name string, err error) {
	var head []byte
	for b := make([]byte, 1); ; {
		if _, err := larder.Read(b); err != nil {
			return "", err
		}
		if head = append(head, b...); b[0] == '\n' {
			words := strings.Fields(string(head))
			_, name, _ := strings.Cut(words[1], ".")
			_, err := server.Write(head)
			return name, err
		}
	}
}

func (smallest) account() *link.Account { return nil }

func (smallest) replies() func([]byte) int {
	return func(b []byte) int { return strings.Count(string(b), "ready ") }
}

func (smallest) follow(string, string, *engine.Engine) (feed.Follower, error) {
	return nil, errors.New("there is no feed")
}

func (smallest) unfollow(string, string) bool { return true }

// linesConn is a connection to it.
type linesConn struct {
	c    net.Conn
	in   *bufio.Reader
	rest bool
	dead bool
}

func (x *linesConn) ask(sql string, _ int) (reply string) {
	_ = x.c.SetDeadline(time.Now().Add(time.Minute))
	if _, err := fmt.Fprintln(x.c, sql); err != nil {
		x.dead = true
		return noAnswer
	}
	for {
		got, err := x.in.ReadString('\n')
		if err != nil {
			x.dead = true
			return noAnswer
		}
		if state, ok := strings.CutPrefix(got, "ready "); ok {
			x.rest = state == "I\n"
			return strings.Replace(reply, "failed", refused, 1)
		}
		reply += got
	}
}

func (x *linesConn) fromMemory() bool    { return false } // it does not say
func (x *linesConn) accepts(string) bool { return true }
func (x *linesConn) atRest() bool        { return x.rest }
func (x *linesConn) closed() bool        { return x.dead }
func (x *linesConn) close()              { x.c.Close() }

// The checker drives any protocol: here one that has nothing in common with PostgreSQL's. It finds what is wrong with it.
func TestAnyProtocol(t *testing.T) {
	o, err := lines.NewOrigin()
	require.NoError(t, err)
	defer o.Close()
	for fault, wrong := range map[lines.Fault]bool{lines.None: false, lines.OverlooksWrites: true} {
		c := Checker{Database: smallest{lines.Protocol(fault)}, Address: o.Address(), Steps: 400, Shrink: 20}
		var found *Violation
		var sum Counts
		for seed := uint64(1); seed < 6 && found == nil; seed++ {
			var n Counts
			n, found, err = c.Seed(seed)
			require.NoError(t, err)
			sum.add(n)
		}
		assert.Equal(t, wrong, found != nil, "%v", found)
		assert.Greater(t, sum.Hits, 20)
	}
}
