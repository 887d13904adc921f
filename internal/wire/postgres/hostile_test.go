package postgres_test

import (
	"context"
	"encoding/binary"
	"fmt"
	"io"
	"net"
	"runtime"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgproto3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jollylarder/internal/core/engine"
	"jollylarder/internal/core/ledger"
)

// asStranger begins a session as a user who is asked for a password, and waits for the challenge.
func asStranger(t *testing.T, address, database string) *talk {
	c, err := net.Dial("tcp", address)
	require.NoError(t, err)
	t.Cleanup(func() { c.Close() })
	x := &talk{t: t, conn: c}
	x.start(3<<16, "user", "scram_user", "database", database)
	return x.hear('R', 1)
}

// Before a login has ended well, nothing of a client's is looked at but its responses: no SQL is read, no name is remembered
// and no clock moves.
func TestWhoHasNotLoggedInCostsNothing(t *testing.T) {
	l := newLarder(t, berths, oneBerth)
	l.keep(readBerth)
	reader := connect(t, l.through, pgx.QueryExecModeSimpleProtocol)
	one(t, reader, readBerth)
	l.hit(reader, func() { one(t, reader, readBerth) })
	patterns := func() (n int) { l.engine.Patterns(func(*engine.Pattern) { n++ }); return }
	databases := func() (n int) { l.engine.Databases(func(string, bool, bool, []string) { n++ }); return }
	callers := func() (n int) { l.engine.Ledger.Applications(func(string, *ledger.Tally) { n++ }); return }
	p, d, a := patterns(), databases(), callers()

	deep := query("select 1" + strings.Repeat("+1", 100_000))
	unit := func(sql string) []pgproto3.FrontendMessage {
		return []pgproto3.FrontendMessage{parse("", sql), bind("", ""), &pgproto3.Execute{}, &pgproto3.Sync{}}
	}
	for name, messages := range map[string][]pgproto3.FrontendMessage{
		"anything":          {query("do $$begin end$$")},
		"a deep statement":  {deep},
		"a write":           {query("update berths set n = n + 1")},
		"a unit":            unit("select 'nobody has read this'"),
		"a call by number":  {&pgproto3.FunctionCall{Function: 1}},
		"copied data":       {&pgproto3.CopyData{Data: make([]byte, 70_000)}},
		"a flush, a sync":   {&pgproto3.Flush{}, &pgproto3.Sync{}},
		"an empty response": {&pgproto3.PasswordMessage{}},
		"a wrong response, and a statement": append([]pgproto3.FrontendMessage{
			&pgproto3.SASLInitialResponse{AuthMechanism: "SCRAM-SHA-256", Data: []byte("n,,n=,r=abc")}}, query("do $$begin end$$")),
		"a long response": {&pgproto3.PasswordMessage{Password: strings.Repeat("x", 1<<20)}},
	} {
		x := asStranger(t, l.address, l.database)
		var said []byte
		for _, m := range messages {
			var err error
			said, err = m.Encode(said)
			require.NoError(t, err)
		}
		if _, err := x.conn.Write(said); err != nil {
			continue // refused before it had said it all
		}
		answer := told(t, x.conn)
		assert.Contains(t, answer, "FATAL", name)
	}
	for _, name := range []string{"nowhere", "elsewhere"} {
		asStranger(t, l.address, name).conn.Close()
		x := dialTalk(t, l.address, name, "application_name", "nobody's "+name) // a login that does not end well
		x.hear('Z', 1)
	}
	x := asStranger(t, l.address, l.database) // lengths that no message has
	x.bytes([]byte{'p', 0, 0, 0, 1})
	assert.Contains(t, told(t, x.conn), "before the login has ended")

	require.Eventually(t, func() bool { return l.server.Clients() == 1 }, time.Minute, 5*time.Millisecond)
	assert.Equal(t, []int{p, d, a}, []int{patterns(), databases(), callers()})
	l.hit(reader, func() { one(t, reader, readBerth) })
}

// Whatever a connection begins with, a write over it is seen: nobody is answered with the row from before it.
func TestNothingIsWrittenUnseen(t *testing.T) {
	l := newLarder(t, berths, oneBerth)
	l.keep(readBerth)
	reader := connect(t, l.through, pgx.QueryExecModeSimpleProtocol)
	direct := connect(t, l.direct, pgx.QueryExecModeSimpleProtocol)
	message := func(code uint32, rest ...byte) []byte {
		b := binary.BigEndian.AppendUint32(nil, uint32(8+len(rest)))
		return append(binary.BigEndian.AppendUint32(b, code), rest...)
	}
	startup := func(version uint32, parameters ...string) []byte {
		body := strings.Join(parameters, "\x00") + "\x00\x00"
		return message(version, []byte(body)...)
	}
	as := []string{"user", "postgres", "database", l.database}
	begins := map[string][]byte{
		"ssl, then as usual": append(message(80877103), startup(3<<16, as...)...),
		"gss, then as usual": append(message(80877104), startup(3<<16, as...)...),
		"a long ssl request": append(message(80877103, 1, 2, 3), startup(3<<16, as...)...),
		"a long gss request": append(message(80877104, 0, 0, 0, 0), startup(3<<16, as...)...),
		"ssl twice":          append(append(message(80877103), message(80877103)...), startup(3<<16, as...)...),
		"version 2":          startup(2<<16, as...),
		"version 3.2":        startup(3<<16|2, as...),
		"version 4":          startup(4<<16, as...),
		"a wrong cancel":     append(message(80877102, 1), startup(3<<16, as...)...),
		"two databases":      startup(3<<16, append([]string{"database", "nowhere"}, as...)...),
		"nothing":            message(3 << 16),
		"not ended":          message(3<<16, []byte("user\x00postgres\x00database\x00"+l.database+"\x00")...),
	}
	for _, value := range []string{"f", "FALSE", "Off", "n", "of", "0", "no", "fals", "t", "TRUE", "1", "on", "yes", "y", "database", "Database", "o", "", "2", "physical"} {
		begins["replication = "+value] = startup(3<<16, append(as, "replication", value)...)
		begins["replication = database, "+value] = startup(3<<16, append(as, "replication", "database", "replication", value)...)
		begins["replication = "+value+", false"] = startup(3<<16, append(as, "replication", value, "replication", "false")...)
	}
	unit, err := parse("", "update berths set n = n + 1 where id = 1").Encode(nil)
	require.NoError(t, err)
	for _, m := range []pgproto3.FrontendMessage{bind("", ""), &pgproto3.Execute{}, &pgproto3.Sync{}} {
		unit, err = m.Encode(unit)
		require.NoError(t, err)
	}
	simple, err := query("update berths set n = n + 1 where id = 1").Encode(nil)
	require.NoError(t, err)
	wrote := 0
	for name, begin := range begins {
		for _, write := range [][]byte{simple, unit} {
			before := one(t, direct, readBerth)
			one(t, reader, readBerth)
			one(t, reader, readBerth)
			c, err := net.Dial("tcp", l.address)
			require.NoError(t, err)
			require.NoError(t, c.SetDeadline(time.Now().Add(time.Minute)))
			_, err = c.Write(append(begin[:len(begin):len(begin)], write...))
			require.NoError(t, err)
			_ = c.(*net.TCPConn).CloseWrite()
			_, _ = io.Copy(io.Discard, c) // until it has ended, one way or another
			c.Close()
			now := one(t, direct, readBerth)
			if now != before {
				wrote++
			}
			assert.Equal(t, now, one(t, reader, readBerth), name)
			assert.Equal(t, now, one(t, reader, readBerth), name)
		}
	}
	assert.Greater(t, wrote, 20, "the writes of those that the server lets begin")
}

// One client that does not read its answers from memory keeps nobody from cancelling, and nobody from what it fetches.
func TestAClientThatDoesNotReadHoldsNobodyUp(t *testing.T) {
	l := newLarder(t, berths, oneBerth)
	big := "select repeat('x', 500000) from berths where id = 1"
	slow := "select repeat('x', 500000) from berths, pg_sleep(0.2) s where id = 1"
	l.cacheAll()
	reader := connect(t, l.through, pgx.QueryExecModeSimpleProtocol)
	one(t, reader, big)
	l.hit(reader, func() { one(t, reader, big) })

	stuck := dialTalk(t, l.address, l.database).ready()
	var statements []pgproto3.FrontendMessage
	for range 100 {
		statements = append(statements, query(big))
	}
	stuck.say(statements...)
	require.Eventually(t, func() bool { return blocked(t, l, stuck) }, time.Minute, 10*time.Millisecond)

	// Another is cancelled at once, and so is the one that does not read.
	sleeper := connect(t, l.through, pgx.QueryExecModeSimpleProtocol)
	ended := make(chan error, 1)
	go func() { _, err := sleeper.Exec(ctx, "select pg_sleep(60)"); ended <- err }()
	sleeping := "select count(*) from pg_stat_activity where query = 'select pg_sleep(60)' and state = 'active'"
	direct := connect(t, l.direct, pgx.QueryExecModeSimpleProtocol)
	require.Eventually(t, func() bool { return one(t, direct, sleeping) == "1" }, time.Minute, 5*time.Millisecond)
	require.NoError(t, sleeper.PgConn().CancelRequest(ctx))
	select {
	case err := <-ended:
		require.ErrorContains(t, err, "canceling statement")
	case <-time.After(time.Minute):
		require.Fail(t, "the request to cancel did not get through")
	}
	stuck.conn.Close()

	// Who waits for what a client fetches that does not read goes on by itself.
	leader := dialTalk(t, l.address, l.database).ready()
	statements = []pgproto3.FrontendMessage{}
	for range 60 { // more than the sockets hold, and nothing of it is kept yet
		statements = append(statements, query(strings.Replace(big, "'x'", "'y'||random()::text", 1)))
	}
	statements = append(statements, query(slow))
	go func() {
		b := []byte{}
		for _, m := range statements {
			b, _ = m.Encode(b)
		}
		_, _ = leader.conn.Write(b)
	}()
	require.Eventually(t, func() bool { return blocked(t, l, leader) }, time.Minute, 10*time.Millisecond)
	got := make(chan string, 1)
	go func() { got <- one(t, reader, slow) }()
	select {
	case <-got:
	case <-time.After(engine.LongestWait / 2):
		require.Fail(t, "the result was waited for that the other client does not read")
	}
}

// blocked says whether a conversation's client has as much to read as fits, and the larder can write no more of it.
func blocked(t *testing.T, l *larder, x *talk) bool {
	before := l.engine.Ledger.Total.Total().Calls()
	time.Sleep(50 * time.Millisecond)
	return l.engine.Ledger.Total.Total().Calls() == before
}

// An origin whose address leads back to the larder itself is found out with the first client, not with the last descriptor.
func TestAnOriginThatLeadsBackToTheLarder(t *testing.T) {
	l := &larder{t: t, database: "postgres"}
	l.serve("127.0.0.1:1")
	l.server.Dial = func(ctx context.Context, _ string) (net.Conn, error) {
		var d net.Dialer
		return d.DialContext(ctx, "tcp", l.address)
	}
	for range 3 {
		x := dialTalk(t, l.address, "postgres").hear('E', 1)
		assert.Contains(t, x.received.String(), "is jolly larder itself")
	}
	require.Eventually(t, func() bool { return l.server.Clients() == 0 }, time.Minute, 5*time.Millisecond)
}

// What sessions prepare, send and are sent takes no more room than there is; what has none is passed on and works all the same,
// and what it writes is known.
func TestSessionsShareTheirRoom(t *testing.T) {
	l := newLarder(t, berths, oneBerth)
	l.cacheAll()
	reader := connect(t, l.through, pgx.QueryExecModeSimpleProtocol)
	one(t, reader, readBerth)
	l.hit(reader, func() { one(t, reader, readBerth) })
	room := l.engine.SessionRoom()
	greedy := connect(t, l.through, pgx.QueryExecModeSimpleProtocol)
	for i := range 3000 { // many, and none of them small
		sql := fmt.Sprintf("select n + %d as %s from berths where id = 1", i, strings.Repeat("x", 50)) + strings.Repeat(" ", 10) + "/*" + strings.Repeat("c", 30_000) + "*/"
		_, err := greedy.PgConn().Prepare(ctx, fmt.Sprintf("s%d", i), sql, nil)
		require.NoError(t, err)
		require.LessOrEqual(t, room.Used(), room.Limit())
	}
	taken := room.Used()
	require.Greater(t, taken, room.Limit()/2)
	room.Take(room.Limit() - room.Used() - 100) // and then there is none
	_, err := greedy.PgConn().Prepare(ctx, "last", readBerth, nil)
	require.NoError(t, err)
	assert.Equal(t, one(t, reader, readBerth)+"|", run(greedy.PgConn(), "last"))
	_, err = greedy.PgConn().Prepare(ctx, "write", "update berths set n = 77 where id = 1", nil)
	require.NoError(t, err)
	assert.Equal(t, "", run(greedy.PgConn(), "write"))
	assert.Equal(t, "77", one(t, reader, readBerth))
	big := "select length('" + strings.Repeat("y", 500_000) + "')"
	assert.Equal(t, "500000", one(t, greedy, big))
	require.NoError(t, greedy.Close(ctx))
	require.Eventually(t, func() bool { runtime.GC(); return room.Used() < room.Limit()-taken/2 }, time.Minute, 10*time.Millisecond, "it is given back")
}
