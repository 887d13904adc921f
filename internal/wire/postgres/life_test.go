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
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgproto3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jollylarder/internal/wire/link"
)

// told reads what a client is told before its connection ends.
func told(t *testing.T, c net.Conn) string {
	require.NoError(t, c.SetReadDeadline(time.Now().Add(time.Minute)))
	b, err := io.ReadAll(c)
	if err != nil && !strings.Contains(err.Error(), "reset") {
		require.NoError(t, err)
	}
	return string(b)
}

func TestDrainingLetsTheBusyFinish(t *testing.T) {
	l := newLarder(t, berths, oneBerth)
	idle, busy, block, stuck := dialTalk(t, l.address, l.database), dialTalk(t, l.address, l.database), dialTalk(t, l.address, l.database), dialTalk(t, l.address, l.database)
	for _, x := range []*talk{idle, busy, block, stuck} {
		x.ready()
	}
	busy.say(query("select pg_sleep(1), 'finished'"))
	block.say(query("begin")).ready().say(query("update berths set n = 7")).ready()
	stuck.say(query("select pg_sleep(30)"))
	l.underWay("select pg_sleep(1), 'finished'")
	l.underWay("select pg_sleep(30)")
	drained := make(chan struct{})
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	go func() { l.server.Drain(ctx); close(drained) }()
	assert.Contains(t, told(t, idle.conn), "57P01", "the idle one is told, while the others go on")
	answer := told(t, busy.conn)
	assert.Contains(t, answer, "finished")
	assert.Contains(t, answer, "57P01")
	block.say(query("commit"))
	assert.Contains(t, told(t, block.conn), "COMMIT")
	require.Eventually(t, func() bool { return l.server.Clients() == 1 }, time.Minute, time.Millisecond)
	cancel()
	<-drained
	assert.Equal(t, 1, l.server.Clients(), "the bound on waiting")
	assert.Equal(t, "7", one(t, connect(t, l.direct, pgx.QueryExecModeSimpleProtocol), readBerth))
}

func TestLimits(t *testing.T) {
	l := newLarder(t)
	l.server.Configure(link.Settings{MaxConnections: 2, StartupTimeout: time.Second, IdleTimeout: 400 * time.Millisecond, MaxMessageSize: 5000})

	slow, err := net.Dial("tcp", l.address)
	require.NoError(t, err)
	go func() { // a byte at a time, for longer than it may take
		for _, b := range []byte("\x00\x00\x00\x40\x00\x03\x00\x00user\x00ines") {
			time.Sleep(100 * time.Millisecond)
			_, _ = slow.Write([]byte{b})
		}
	}()
	assert.Contains(t, told(t, slow), "startup_timeout")

	a := dialTalk(t, l.address, l.database).ready()
	b := dialTalk(t, l.address, l.database).ready()
	_, err = pgx.Connect(ctx, l.through)
	var pe *pgconn.PgError
	require.ErrorAs(t, err, &pe)
	assert.Equal(t, "53300", pe.Code)
	assert.Contains(t, pe.Hint, "connections in the larder's configuration")

	a.say(query("select '" + strings.Repeat("x", 6000) + "'"))
	assert.Contains(t, told(t, a.conn), "max_message_size")

	b.say(query("begin")).ready()
	time.Sleep(600 * time.Millisecond)
	l.server.EndIdle()
	b.say(query("commit")).ready() // idle within a transaction is the server's affair
	time.Sleep(600 * time.Millisecond)
	l.server.EndIdle()
	assert.Contains(t, told(t, b.conn), "idle_timeout")
	require.Eventually(t, func() bool { return l.server.Clients() == 0 }, time.Minute, 10*time.Millisecond)
}

// An origin that goes away in the middle of a reply, refuses, and comes back.
func TestAnOriginThatComesAndGoes(t *testing.T) {
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	login := []byte("R\x00\x00\x00\x08\x00\x00\x00\x00Z\x00\x00\x00\x05I")
	half := []byte("T\x00\x00\x00\x06\x00\x00D\x00\x00\x00\x64half a ro")
	nothing := []byte("E\x00\x00\x00\x0fSERROR\x00C0\x00\x00Z\x00\x00\x00\x05I")
	serve := func(ln net.Listener) {
		for {
			c, err := ln.Accept()
			if err != nil {
				return
			}
			go func() {
				defer c.Close()
				head := make([]byte, 8)
				_, _ = io.ReadFull(c, head)
				_, _ = io.CopyN(io.Discard, c, int64(binary.BigEndian.Uint32(head))-8)
				_, _ = c.Write(login)
				for {
					if _, err := io.ReadFull(c, head[:5]); err != nil {
						return
					}
					_, _ = io.CopyN(io.Discard, c, int64(binary.BigEndian.Uint32(head[1:]))-4)
					switch head[0] {
					case 'S': // the end of what the larder asks
						_, _ = c.Write(nothing)
					case 'Q':
						_, _ = c.Write(half)
						return
					}
				}
			}()
		}
	}
	go serve(ln)
	l := &larder{t: t}
	l.serve(ln.Addr().String())
	begin := func() *talk { return dialTalk(t, l.address, "skerrow") }
	x := begin().ready()
	_, err = x.conn.Write([]byte("Q\x00\x00\x00\x0dselect 1\x00"))
	require.NoError(t, err)
	assert.Equal(t, string(half), told(t, x.conn), "all that the origin sent, and then its end")
	ln.Close()
	assert.Contains(t, told(t, begin().conn), "08006")
	again, err := net.Listen("tcp", ln.Addr().String())
	require.NoError(t, err)
	defer again.Close()
	go serve(again)
	begin().ready()

	hanging, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer hanging.Close()
	l.server.Configure(link.Settings{ConnectTimeout: 200 * time.Millisecond})
	l.server.Dial = func(ctx context.Context, _ string) (net.Conn, error) {
		<-ctx.Done() // as one whose packets are lost
		return nil, ctx.Err()
	}
	assert.Contains(t, told(t, begin().conn), "deadline exceeded")
}

// Protocol 3.2 has cancel keys of any length, and clients may ask for encryption of either kind first.
func TestLongCancelKeysAndWhatIsAskedBefore(t *testing.T) {
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer ln.Close()
	key := strings.Repeat("k", 200)
	login := "R\x00\x00\x00\x08\x00\x00\x00\x00K\x00\x00\x00\xd0\x00\x00\x00\x07" + key + "Z\x00\x00\x00\x05I"
	began := make(chan string, 10)
	go func() {
		for {
			c, err := ln.Accept()
			if err != nil {
				return
			}
			buf := make([]byte, 1<<16)
			n, _ := c.Read(buf)
			began <- string(buf[:n])
			_, _ = c.Write([]byte(login))
			if n > 8 && buf[4] == 4 { // a cancel request
				c.Close()
			}
		}
	}()
	l := &larder{t: t}
	l.serve(ln.Addr().String())
	c, err := net.Dial("tcp", l.address)
	require.NoError(t, err)
	for _, ask := range []string{"\x00\x00\x00\x08\x04\xd2\x16\x30", "\x00\x00\x00\x08\x04\xd2\x16\x2f"} { // GSSAPI, TLS
		_, err = c.Write([]byte(ask))
		require.NoError(t, err)
		answer := make([]byte, 1)
		_, err = c.Read(answer)
		require.NoError(t, err)
		assert.Equal(t, "N", string(answer))
	}
	start := "\x00\x00\x00\x13\x00\x03\x00\x02user\x00ines\x00\x00"
	_, err = c.Write([]byte(start))
	require.NoError(t, err)
	got := make([]byte, len(login))
	_, err = io.ReadFull(c, got)
	require.NoError(t, err)
	assert.Equal(t, login, string(got))
	assert.Equal(t, start, <-began, "the version asked for is left to the database")

	cancel := "\x00\x00\x00\xd4\x04\xd2\x16\x2e\x00\x00\x00\x07" + key
	other, err := net.Dial("tcp", l.address)
	require.NoError(t, err)
	_, err = other.Write([]byte(cancel))
	require.NoError(t, err)
	told(t, other)
	assert.Equal(t, cancel, <-began)
}

// A result of any size takes no memory, and a client that does not read slows nobody else.
func TestASlowClientSlowsOnlyItself(t *testing.T) {
	l := newLarder(t, berths, oneBerth)
	l.keep(readBerth)
	var slow []*talk
	for range 8 {
		x := dialTalk(t, l.address, l.database).ready()
		x.say(query("select repeat('x', 100000) from generate_series(1, 2000)")) // 200 MB, of which nothing is read
		slow = append(slow, x)
	}
	quick := connect(t, l.through, pgx.QueryExecModeExec)
	for range 200 {
		assert.Equal(t, "0", one(t, quick, readBerth))
	}
	time.Sleep(300 * time.Millisecond)
	var m runtime.MemStats
	runtime.GC()
	runtime.ReadMemStats(&m)
	assert.Less(t, m.HeapInuse, uint64(48<<20))
	buf := make([]byte, 1<<20)
	n := 0
	for n < 200_000_000 { // and one that begins to read gets it all
		m, err := slow[0].conn.Read(buf)
		require.NoError(t, err)
		n += m
	}
}

// A client may send any number of statements before it reads a reply; what is remembered of them is bounded.
func TestAClientThatSendsWithoutReading(t *testing.T) {
	l := newLarder(t)
	for _, one := range [][]pgproto3.FrontendMessage{{query("select 1")}, {parse("", "select 1"), syncing}, {describe('S', "none"), flushing, syncing}} {
		x := dialTalk(t, l.address, l.database).ready()
		var many []byte
		for range 1000 {
			for _, m := range one {
				many, _ = m.Encode(many)
			}
		}
		const rounds = 30
		go func() {
			for range rounds {
				_, _ = x.conn.Write(many)
			}
		}()
		time.Sleep(100 * time.Millisecond)
		x.received.Reset()
		x.hear('Z', 1000*rounds)
		assert.NotContains(t, x.received.String(), "the end")
		x.conn.Close()
	}
}

// A client that shuts its side of the connection after its last statement still gets the answer, and then the end.
func TestAClientThatOnlyStopsSending(t *testing.T) {
	l := newLarder(t, berths, oneBerth)
	l.keep(readBerth)
	for i := range 20 {
		x := dialTalk(t, l.address, l.database).ready()
		x.say(query(readBerth)).ready()
		out, err := (&pgproto3.Query{String: readBerth}).Encode(nil)
		require.NoError(t, err)
		_, err = x.conn.Write(out)
		require.NoError(t, err)
		if i%2 == 0 {
			require.NoError(t, x.conn.(*net.TCPConn).CloseWrite())
		} else {
			x.conn.Close()
		}
		if i%2 == 0 {
			assert.Contains(t, told(t, x.conn), "SELECT 1", fmt.Sprint(i))
		}
	}
	require.Eventually(t, func() bool { return l.server.Clients() == 0 }, time.Minute, 5*time.Millisecond, "all of them are noticed to be gone")
}

// A fault of the larder's own costs nobody a connection or an answer: from then on it only relays.
func TestAFaultOfTheLarder(t *testing.T) {
	l := newLarder(t, berths, oneBerth)
	l.keep(readBerth)
	for _, mode := range []pgx.QueryExecMode{pgx.QueryExecModeSimpleProtocol, pgx.QueryExecModeCacheStatement} {
		c := connect(t, l.through, mode)
		for range 2 {
			assert.Equal(t, "0", one(t, c, readBerth))
		}
		assert.Equal(t, "a fault", one(t, c, "select 'a fault'"))
		_, err := c.Exec(ctx, "update berths set n = n + 1")
		require.NoError(t, err)
		assert.Equal(t, "1", one(t, c, readBerth), "relayed")
		other := connect(t, l.through, mode)
		assert.Equal(t, "1", one(t, other, readBerth), "what it wrote unseen counts")
		_, err = c.Exec(ctx, "update berths set n = 0")
		require.NoError(t, err)
		assert.Equal(t, "0", one(t, other, readBerth))
		require.NoError(t, c.Close(ctx))
		l.know()
		for range 2 {
			one(t, other, readBerth)
		}
	}
}
