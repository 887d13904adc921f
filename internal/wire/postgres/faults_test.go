//go:build faults

package postgres_test

import (
	"bytes"
	"log/slog"
	"maps"
	"os"
	"runtime"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgproto3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jollylarder/internal/fault"
)

// everything is a conversation that passes every point of the wire's way: hits and misses in all forms, writes, calls,
// pipelines, portals and messages of any length.
func everything(address, database string, t *testing.T) (x *talk) {
	x = dialTalk(t, address, database)
	x.hear('Z', 1)
	say := func(n int, messages ...pgproto3.FrontendMessage) {
		if !strings.HasSuffix(x.received.String(), "the end\n") {
			b := []byte{}
			for _, m := range messages {
				b, _ = m.Encode(b)
			}
			_, _ = x.conn.Write(b) // the connection may have ended
			x.hear('Z', n)
		}
	}
	whole := func(sql string) []pgproto3.FrontendMessage {
		return []pgproto3.FrontendMessage{parse("", sql), bind("", ""), describePortal(""), &pgproto3.Execute{}, &pgproto3.Sync{}}
	}
	read := "select n from berths where id = 1"
	say(1, query(read))
	say(1, query(read))
	say(1, whole(read)...)
	say(1, whole(read)...)
	say(1, &pgproto3.Execute{}, &pgproto3.Sync{}) // of a portal that is gone
	say(2, append(whole("select 1 from berths"), query(read))...)
	say(1, parse("s", read), &pgproto3.Sync{})
	say(1, bind("", "s"), &pgproto3.Execute{}, &pgproto3.Execute{}, &pgproto3.Sync{})
	say(1, bind("", "s"), &pgproto3.Execute{}, &pgproto3.Sync{})
	say(1, query("begin"))
	say(1, append(whole(read)[:4], &pgproto3.Execute{}, &pgproto3.Sync{})...)
	say(1, query("update berths set n = n + 1 where id = 1"))
	say(1, query("commit"))
	say(1, query("set extra_float_digits = 2"))
	say(1, query(read))
	say(3, query(read), query("select pg_sleep(0)"), query(read))
	say(1, whole(read)...)
	say(1, append(append(whole("begin")[:4], whole(read)[:4]...), &pgproto3.Sync{})...) // a hit behind what is under way
	say(1, query("commit"))
	say(1, query("wrong"))
	say(1, query("copy (select 1) to stdout"))
	say(1, &pgproto3.FunctionCall{Function: 1610}) // pi()
	say(1, query("select length('"+strings.Repeat("x", 1<<21)+"')"))
	say(1, parse("", "select length('"+strings.Repeat("x", 1<<21)+"')"), bind("", ""), &pgproto3.Execute{}, &pgproto3.Sync{})
	if !strings.HasSuffix(x.received.String(), "the end\n") {
		_, _ = x.conn.Write([]byte{'X', 0, 0, 0, 4})
		x.hear('Z', 1)
	}
	return x
}

func describePortal(name string) *pgproto3.Describe {
	return &pgproto3.Describe{ObjectType: 'P', Name: name}
}

// A fault at any point of the wire's way ends in relaying or in the end of that one session: never in a hang, in a lost
// reply, in a reply to somebody else, or in an old row for others.
func TestAFaultAnywhereStaysSmall(t *testing.T) {
	l := newLarder(t, berths, oneBerth)
	l.server.Log = slog.New(slog.DiscardHandler)
	l.cacheAll()
	reader := connect(t, l.through, pgx.QueryExecModeSimpleProtocol)
	direct := connect(t, l.direct, pgx.QueryExecModeSimpleProtocol)
	one(t, reader, readBerth)

	var mu sync.Mutex
	points := map[string]int{}
	reset := func() {
		l.exec(l.direct, "update berths set n = 0")
		l.engine.DropAll()
		l.know()
	}
	reset()
	want := everything(server.Address(), l.database, t).received.String()
	reset()
	fault.Set(func(p string) { mu.Lock(); points[p]++; mu.Unlock() })
	got := everything(l.address, l.database, t).received.String()
	fault.Set(nil)
	require.Equal(t, want, got, "without a fault")
	for _, must := range []string{"message", "read", "decided", "unit", "batch", "call by number", "long message", "exhausted", "write to client", "write to origin",
		"take", "reply", "answered", "end of exchange", "finish", "finish hit", "start", "ask ahead", "handle", "release"} {
		assert.NotZero(t, points[must], "the conversation passes %q", must)
	}
	points["lose"], points["relay the rest"], points["end"] = 1, 1, 1 // after another fault
	ended, whole := 0, 0
	for _, p := range slices.Sorted(maps.Keys(points)) {
		n := points[p]
		for _, at := range slices.Compact([]int{1, n / 2, n - 1}) {
			if at < 1 {
				continue
			}
			reset()
			one(t, reader, readBerth)
			one(t, reader, readBerth)
			passed, done := 0, false
			fault.Set(func(q string) {
				mu.Lock()
				hit := q == p
				if hit {
					passed++
				}
				hit = hit && passed == at && !done
				second := (p == "lose" || p == "relay the rest") && q == "decided" && !done // what makes it pass them
				done = done || hit
				mu.Unlock()
				if hit || second {
					panic("a fault at " + q)
				}
			})
			over := make(chan string, 1)
			go func() { over <- everything(l.address, l.database, t).received.String() }()
			var got string
			select {
			case got = <-over:
			case <-time.After(time.Minute):
				stacks := make([]byte, 1<<20)
				require.Fail(t, "it hangs", "%s, %d\n%s", p, at, stacks[:runtime.Stack(stacks, true)])
			}
			fault.Set(nil)
			if cut, gone := strings.CutSuffix(got, "the end\n"); gone && got != want {
				ended++
				assert.True(t, strings.HasPrefix(want, cut) || strings.HasPrefix(want, withoutLast(cut)) && strings.Contains(lastOf(cut), "FATAL"), "%s, %d: other replies than the database's:\n%s", p, at, tail(got))
			} else {
				whole++
				same(t, want, got, p)
			}
			// It may be hit in the reader's session, while the larder asks something of its own over it: what arrives then is
			// for nobody, so that it cannot be relayed, and that session is the one that ends.
			if reader.Ping(ctx) != nil {
				require.Equal(t, want, got, "%s, %d: one session may end by one fault", p, at)
				reader = connect(t, l.through, pgx.QueryExecModeSimpleProtocol)
				ended++
			}
			now := one(t, direct, readBerth)
			assert.Equal(t, now, one(t, reader, readBerth), "%s, %d", p, at)
			assert.Equal(t, now, one(t, reader, readBerth), "%s, %d", p, at)
		}
	}
	require.Eventually(t, func() bool { return l.server.Clients() == 1 }, time.Minute, 10*time.Millisecond, "all the others have ended")
	t.Logf("%d conversations ended by a fault, %d went on whole", ended, whole)
	assert.Positive(t, ended)
	assert.Positive(t, whole)
}

func withoutLast(s string) string {
	b := bytes.TrimSuffix([]byte(s), []byte("\n"))
	return string(b[:bytes.LastIndexByte(b, '\n')+1])
}

func lastOf(s string) string { return s[len(withoutLast(s)):] }

// What a client sends in the belief to be in a block is run neither before nor after the larder has ended the refusal.
func TestAFaultOfAHeldBeginIsTheEndForWhatFollows(t *testing.T) {
	const insert = "insert into berths values (81, 8)"
	for name, next := range map[string][]pgproto3.FrontendMessage{
		"a query":          {query(insert)},
		"a batch":          {parse("", insert), bind("", ""), &pgproto3.Execute{}, &pgproto3.Sync{}},
		"a Sync":           {&pgproto3.Sync{}},
		"a call by number": {&pgproto3.FunctionCall{Function: 1}},
	} {
		t.Run(name, func(t *testing.T) {
			l, r, c := held(t, never, pgx.QueryExecModeSimpleProtocol)
			r.refuse()
			refused, over := make(chan struct{}), make(chan struct{})
			fault.Set(func(point string) {
				if point == "sync after a refused begin" {
					close(refused)
					<-over
				}
			})
			t.Cleanup(func() { close(over); fault.Set(nil) })
			_, err := c.Exec(ctx, "begin")
			require.NoError(t, err)
			raw, err := c.PgConn().Hijack()
			require.NoError(t, err)
			defer raw.Conn.Close()
			raw.Frontend.Send(&pgproto3.Query{String: insert})
			require.NoError(t, raw.Frontend.Flush())
			<-refused
			for _, m := range next {
				raw.Frontend.Send(m)
			}
			require.NoError(t, raw.Frontend.Flush())
			require.NoError(t, raw.Conn.SetReadDeadline(time.Now().Add(time.Minute)))
			for err == nil {
				_, err = raw.Frontend.Receive()
			}
			assert.NotErrorIs(t, err, os.ErrDeadlineExceeded)
			assert.Equal(t, "0", one(t, connect(t, l.direct, pgx.QueryExecModeSimpleProtocol), "select count(*) from berths where n = 8"))
		})
	}
}
