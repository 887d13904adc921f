package postgres_test

import (
	"bytes"
	"encoding/binary"
	"encoding/json"
	"io"
	"net"
	"os"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgproto3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jollylarder/internal/core/reason"
	"jollylarder/internal/wire/link"
)

// countingRelay passes bytes on to the origin, and counts how often it was asked something. Tamper may change what is
// sent on.
type countingRelay struct {
	to     string
	asked  atomic.Int64
	tamper atomic.Pointer[func([]byte) []byte]
}

func (r *countingRelay) start(t *testing.T) string {
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { ln.Close() })
	go func() {
		for {
			c, err := ln.Accept()
			if err != nil {
				return
			}
			o, err := net.Dial("tcp", r.to)
			if err != nil {
				c.Close()
				return
			}
			go func() { _, _ = io.Copy(c, o); c.Close() }()
			go func() {
				buf := make([]byte, 64<<10)
				for {
					n, err := c.Read(buf)
					if err != nil {
						o.Close()
						return
					}
					r.asked.Add(1)
					b := buf[:n]
					if f := r.tamper.Load(); f != nil {
						b = (*f)(b)
					}
					if _, err := o.Write(b); err != nil {
						return
					}
				}
			}()
		}
	}()
	return ln.Addr().String()
}

// refuse has the origin take each held BEGIN for an error.
func (r *countingRelay) refuse() {
	f := func(b []byte) []byte {
		return bytes.ReplaceAll(b, []byte("jolly larder asks\x00begin\x00"), []byte("jolly larder asks\x00begun\x00"))
	}
	r.tamper.Store(&f)
}

// held gives a larder that holds each BEGIN for a time, behind a relay, and a client whose statement is kept.
func held(t *testing.T, hold time.Duration, mode pgx.QueryExecMode) (*larder, *countingRelay, *pgx.Conn) {
	l := newLarder(t, berths, oneBerth)
	r := &countingRelay{to: server.Address()}
	l.serve(r.start(t))
	l.server.Configure(link.Settings{BeginDelay: hold})
	l.through = "postgres://postgres@" + l.address + "/" + l.database + "?sslmode=disable"
	l.keep(readBerth)
	c := connect(t, l.through, mode)
	l.hit(c, func() { one(t, c, readBerth) })
	l.hit(c, func() { // in the form that Exec asks in
		_, err := c.Exec(ctx, readBerth)
		require.NoError(t, err)
	})
	return l, r, c
}

const never = 24 * time.Hour // a BEGIN that is held so long is sent only when it is needed

func TestWhatABlockAsksTheOrigin(t *testing.T) {
	const other = "select count(*) from berths where n > 1"
	for name, c := range map[string]struct {
		block []string
		asked int
	}{
		"hits alone":                          {[]string{"begin", readBerth, readBerth, readBerth, "commit"}, 0},
		"hits, rolled back":                   {[]string{"begin", readBerth, "rollback"}, 0},
		"nothing at all":                      {[]string{"begin", "commit"}, 0},
		"other words":                         {[]string{"START TRANSACTION READ ONLY", readBerth, "END"}, 0},
		"its isolation said":                  {[]string{"BEGIN ISOLATION LEVEL READ COMMITTED", readBerth, "ABORT"}, 0},
		"a statement in between":              {[]string{"begin", readBerth, other, readBerth, "commit"}, 2},
		"a statement first":                   {[]string{"begin", other, readBerth, "commit"}, 2},
		"two blocks":                          {[]string{"begin", readBerth, "commit", "begin", readBerth, "commit"}, 0},
		"one that begins with a write":        {[]string{"begin", "update berths set n = n", "commit"}, 2},
		"an isolation that a standby refuses": {[]string{"begin isolation level serializable", "commit"}, 2},
		"a mode that a standby refuses":       {[]string{"begin read write", "commit"}, 2},
		"a chain":                             {[]string{"begin", readBerth, "commit and chain", "commit"}, 2},
	} {
		t.Run(name, func(t *testing.T) {
			for _, mode := range []pgx.QueryExecMode{pgx.QueryExecModeSimpleProtocol, pgx.QueryExecModeExec} {
				l, r, conn := held(t, never, mode)
				before := r.asked.Load()
				for _, sql := range c.block {
					_, err := conn.Exec(ctx, sql)
					require.NoError(t, err, sql)
				}
				assert.EqualValues(t, c.asked, r.asked.Load()-before)
				assert.EqualValues(t, 'I', conn.PgConn().TxStatus())
				if c.asked == 0 { // the time that the origin takes for it is not known
					numbers := l.engine.Pattern(patternOf(c.block[0])).Numbers
					assert.Zero(t, numbers.Origin().Count())
					assert.Equal(t, reason.Of(reason.AnsweredHere), numbers.Reasons()[0].Reason)
				}
			}
		})
	}
}

// Each block gives through the larder what it gives without, whatever in it needs the origin first.
func TestAHeldBeginIsThereWhenItIsNeeded(t *testing.T) {
	for name, block := range map[string][]string{
		"a write is rolled back":       {"begin", readBerth, "insert into berths values (70, 7)", "rollback", "select count(*) from berths"},
		"a write is committed":         {"begin", readBerth, "insert into berths values (71, 7)", "commit", "select count(*) from berths"},
		"a savepoint":                  {"begin", readBerth, "savepoint s", "insert into berths values (72, 7)", "rollback to s", "commit", "select count(*) from berths"},
		"a setting for the block":      {"begin", readBerth, "set local work_mem = '2MB'", "commit", "show work_mem"},
		"an isolation too late":        {"begin", readBerth, "set transaction isolation level serializable", "rollback"},
		"an isolation in time":         {"begin", "set transaction isolation level repeatable read", "show transaction_isolation", "rollback"},
		"a lock":                       {"begin", readBerth, "lock table berths", "commit"},
		"a cursor":                     {"begin", readBerth, "declare c cursor for select n from berths", "fetch c", "commit"},
		"an error":                     {"begin", readBerth, "select 1/0", readBerth, "commit", readBerth},
		"one BEGIN more":               {"begin", readBerth, "begin", readBerth, "commit", readBerth},
		"no BEGIN":                     {"commit", readBerth},
		"several in one":               {"begin", readBerth, "insert into berths values (73, 7); select 1", "rollback", "select count(*) from berths"},
		"what needs to be in no block": {"begin", readBerth, "vacuum berths", "rollback"},
		"its second phase":             {"begin", readBerth, "prepare transaction 'p'", "rollback prepared 'p'"},
		"everything discarded":         {"begin", readBerth, "discard all", "rollback"},
		"a notification":               {"listen quay", "begin", readBerth, "notify quay", "commit"},
	} {
		t.Run(name, func(t *testing.T) {
			for _, mode := range []pgx.QueryExecMode{pgx.QueryExecModeSimpleProtocol, pgx.QueryExecModeExec} {
				l, _, c := held(t, never, mode)
				var said [2][]string
				for i, conn := range []*pgx.Conn{connect(t, l.direct, mode), c} {
					for _, sql := range block {
						rows, _ := conn.Query(ctx, sql) // which tells of errors itself
						var line []string
						for rows.Next() {
							for _, v := range rows.RawValues() {
								line = append(line, string(v))
							}
						}
						rows.Close()
						line = append(line, rows.CommandTag().String(), string(conn.PgConn().TxStatus()))
						if err := rows.Err(); err != nil {
							line = append(line, strings.ReplaceAll(err.Error(), "through", ""))
						}
						said[i] = append(said[i], strings.Join(line, " "))
					}
					_, _ = conn.Exec(ctx, "delete from berths where n = 7")
				}
				assert.Equal(t, said[0], said[1])
			}
		})
	}
}

// The block of a BEGIN that is held has one now(), and begins for the origin before long.
func TestAHeldBeginIsSentBeforeLong(t *testing.T) {
	l, _, c := held(t, time.Millisecond, pgx.QueryExecModeSimpleProtocol)
	admin := connect(t, l.direct, pgx.QueryExecModeSimpleProtocol)
	_, err := c.Exec(ctx, "begin")
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		return one(t, admin, "select count(*) from pg_stat_activity where state = 'idle in transaction' and datname = current_database()") == "1"
	}, time.Minute, 5*time.Millisecond)
	first := one(t, c, "select now()::text")
	one(t, c, readBerth)
	assert.Equal(t, first, one(t, c, "select now()::text"))
	_, err = c.Exec(ctx, "rollback")
	require.NoError(t, err)
}

// If the origin refuses a BEGIN that the client was answered, nothing is run outside of the block.
func TestARefusedBegin(t *testing.T) {
	const insert = "insert into berths values (80, 8)"
	t.Run("before a simple query", func(t *testing.T) {
		l, r, c := held(t, never, pgx.QueryExecModeSimpleProtocol)
		r.refuse()
		_, err := c.Exec(ctx, "begin")
		require.NoError(t, err)
		_, err = c.Exec(ctx, insert)
		var told *pgconn.PgError
		require.ErrorAs(t, err, &told)
		assert.Equal(t, "42601", told.Code)
		assert.EqualValues(t, 'I', c.PgConn().TxStatus())
		assert.Equal(t, "0", one(t, c, "select count(*) from berths where n = 8"), "the session goes on")
		assert.Equal(t, "0", one(t, connect(t, l.direct, pgx.QueryExecModeSimpleProtocol), "select count(*) from berths where n = 8"))
	})
	t.Run("in a batch", func(t *testing.T) {
		_, r, c := held(t, never, pgx.QueryExecModeExec)
		r.refuse()
		_, err := c.Exec(ctx, "begin")
		require.NoError(t, err)
		_, err = c.Exec(ctx, insert)
		require.ErrorContains(t, err, "42601")
		assert.EqualValues(t, 'I', c.PgConn().TxStatus())
		assert.Equal(t, "0", one(t, c, "select count(*) from berths where n = 8"))
	})
	t.Run("before several simple queries at once", func(t *testing.T) {
		l, r, c := held(t, never, pgx.QueryExecModeSimpleProtocol)
		r.refuse()
		_, err := c.Exec(ctx, "begin")
		require.NoError(t, err)
		raw, err := c.PgConn().Hijack()
		require.NoError(t, err)
		defer raw.Conn.Close()
		raw.Frontend.Send(&pgproto3.Query{String: insert})
		raw.Frontend.Send(&pgproto3.Query{String: insert})
		require.NoError(t, raw.Frontend.Flush())
		require.NoError(t, raw.Conn.SetReadDeadline(time.Now().Add(time.Minute)))
		for err == nil { // the connection ends: nobody knows where in what was sent
			_, err = raw.Frontend.Receive()
		}
		assert.NotErrorIs(t, err, os.ErrDeadlineExceeded)
		assert.Equal(t, "0", one(t, connect(t, l.direct, pgx.QueryExecModeSimpleProtocol), "select count(*) from berths where n = 8"))
	})
	t.Run("when it was held for long", func(t *testing.T) {
		_, r, c := held(t, time.Millisecond, pgx.QueryExecModeSimpleProtocol)
		r.refuse()
		_, err := c.Exec(ctx, "begin")
		require.NoError(t, err)
		require.Eventually(t, func() bool {
			_, err := c.Exec(ctx, insert)
			return err != nil
		}, time.Minute, time.Millisecond)
	})
}

// A client that goes while its BEGIN is held leaves nothing behind.
func TestAClientGoesWhileItsBeginIsHeld(t *testing.T) {
	l, _, c := held(t, never, pgx.QueryExecModeSimpleProtocol)
	_, err := c.Exec(ctx, "begin")
	require.NoError(t, err)
	require.NoError(t, c.Close(ctx))
	require.Eventually(t, func() bool { return l.server.Clients() == 0 }, time.Minute, 5*time.Millisecond)
}

// A session whose block ends while all are to end is ended then, though its client sends nothing more and does not go.
func TestABlockOfAHeldBeginEndsWhileTheLarderDrains(t *testing.T) {
	l, _, c := held(t, never, pgx.QueryExecModeSimpleProtocol)
	_, err := c.Exec(ctx, "begin")
	require.NoError(t, err)
	ended := make(chan struct{})
	go func() { defer close(ended); l.server.Drain(ctx) }()
	require.Eventually(t, l.server.Draining, time.Minute, time.Millisecond)
	_, err = c.Exec(ctx, "commit")
	require.NoError(t, err)
	select {
	case <-ended:
	case <-time.After(time.Minute):
		require.Fail(t, "the session waits for its client")
	}
}

// With the setting off, each BEGIN goes to the origin at once.
func TestNoBeginIsHeld(t *testing.T) {
	_, r, c := held(t, -1, pgx.QueryExecModeSimpleProtocol)
	before := r.asked.Load()
	for _, sql := range []string{"begin", readBerth, "commit"} {
		_, err := c.Exec(ctx, sql)
		require.NoError(t, err)
	}
	assert.EqualValues(t, 2, r.asked.Load()-before)
}

// What the server refuses for its form is refused, though the larder could answer what it seems to ask.
func TestMessagesOfAWrongForm(t *testing.T) {
	message := func(kind byte, body string) string {
		return string(binary.BigEndian.AppendUint32([]byte{kind}, uint32(len(body)+4))) + body
	}
	const bindsNothing, all = "\x00\x00\x00\x00\x00\x00\x00\x00", "\x00\x00\x00\x00\x00"
	sync := message('S', "")
	for name, m := range map[string]string{
		"a BEGIN with a value":              message('P', "\x00begin\x00\x00\x00") + message('B', "\x00\x00\x00\x00\x00\x01\x00\x00\x00\x011\x00\x00") + message('E', all) + sync,
		"a BEGIN with a parameter":          message('P', "\x00begin\x00\x00\x01\x00\x00\x00\x17") + message('B', bindsNothing) + message('E', all) + sync,
		"a BEGIN with formats of no values": message('P', "\x00begin\x00\x00\x00") + message('B', "\x00\x00\x00\x02\x00\x00\x00\x00\x00\x00\x00\x00") + message('E', all) + sync,
		"a BEGIN bound with bytes to spare": message('P', "\x00begin\x00\x00\x00") + message('B', bindsNothing+"x") + message('E', all) + sync,
		"a BEGIN run with bytes to spare":   message('P', "\x00begin\x00\x00\x00") + message('B', bindsNothing) + message('E', all+"x") + sync,
		"a BEGIN run for some rows":         message('P', "\x00begin\x00\x00\x00") + message('B', bindsNothing) + message('E', "\x00\x00\x00\x00\x01") + sync,
		"a BEGIN described":                 message('P', "\x00begin\x00\x00\x00") + message('B', bindsNothing) + message('D', "P\x00") + message('E', all) + message('C', "P\x00") + sync,
		"a Describe with bytes to spare":    message('P', "\x00"+readBerth+"\x00\x00\x00") + message('B', bindsNothing) + message('D', "P\x00x") + message('E', all) + sync,
		"a Close with bytes to spare":       message('P', "\x00"+readBerth+"\x00\x00\x00") + message('B', bindsNothing) + message('E', all) + message('C', "P\x00x") + sync,
		"a Describe of neither":             message('P', "\x00"+readBerth+"\x00\x00\x00") + message('B', bindsNothing) + message('D', "X\x00") + message('E', all) + sync,
		"a Sync with bytes to spare":        message('P', "\x00"+readBerth+"\x00\x00\x00") + message('B', bindsNothing) + message('E', all) + message('S', "x"),
		"a Flush with bytes to spare":       message('P', "\x00"+readBerth+"\x00\x00\x00") + message('B', bindsNothing) + message('E', all) + message('H', "x") + sync,
	} {
		t.Run(name, func(t *testing.T) {
			l, _, warm := held(t, never, pgx.QueryExecModeSimpleProtocol)
			var said [2][]string
			for i, url := range []string{l.direct, l.through} {
				raw, err := connect(t, url, pgx.QueryExecModeSimpleProtocol).PgConn().Hijack()
				require.NoError(t, err)
				defer raw.Conn.Close()
				require.NoError(t, raw.Conn.SetReadDeadline(time.Now().Add(time.Minute)))
				// Four times alike, so that it is kept in this form and known to be, where it may be; then a quiet end.
				for range 4 {
					for _, b := range []string{m, message('Q', "rollback\x00")} {
						_, err := io.WriteString(raw.Conn, b)
						require.NoError(t, err)
						for {
							got, err := raw.Frontend.Receive()
							require.NoError(t, err)
							text, err := json.Marshal(got)
							require.NoError(t, err)
							said[i] = append(said[i], string(text))
							if _, ok := got.(*pgproto3.ReadyForQuery); ok {
								break
							}
						}
					}
				}
			}
			assert.Equal(t, said[0], said[1])
			require.NoError(t, warm.Ping(ctx))
		})
	}
}
