package mysql_test

import (
	"bytes"
	"errors"
	"io"
	"math/rand/v2"
	"net"
	"os"
	"runtime"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jollylarder/internal/wire/link"
)

// Clients that begin with anything are sent away, or go, and nobody else notices.
func TestHostileBeginnings(t *testing.T) {
	l := newLarder(t, link.Settings{ClientTLS: clientTLS(t), StartupTimeout: time.Second})
	other := connect(t, l.address, "ines", "Quay#7", "")
	require.NoError(t, other.Ping())
	random := rand.New(rand.NewPCG(20270301, 0))
	beginnings := [][]byte{nil, {0}, []byte("GET / HTTP/1.1\r\n\r\n"), packet(1, nil), packet(1, make([]byte, 31)), packet(1, make([]byte, 32)), packet(7, make([]byte, 60)),
		{0xff, 0xff, 0xff, 1}, append([]byte{0xff, 0xff, 0, 1}, make([]byte, 70000)...), packet(1, bytes.Repeat([]byte{0xff}, 200)), packet(1, append([]byte{0, 0x0a, 0, 0}, make([]byte, 28)...))}
	for range 100 {
		b := make([]byte, random.IntN(120))
		for i := range b {
			b[i] = byte(random.UintN(256))
		}
		if random.IntN(2) == 0 {
			b = packet(byte(random.IntN(3)), b)
			if len(b) > 6 {
				b[5] |= 2 // the protocol of today
			}
		}
		beginnings = append(beginnings, b)
	}
	var all sync.WaitGroup
	for i, b := range beginnings {
		all.Go(func() {
			c, err := net.Dial("tcp", l.address)
			if !assert.NoError(t, err) {
				return
			}
			defer c.Close()
			_, _ = c.Write(b)
			if i%2 == 0 {
				_ = c.(*net.TCPConn).CloseWrite()
			}
			_ = c.SetReadDeadline(time.Now().Add(time.Minute))
			_, err = io.Copy(io.Discard, c)
			assert.NotErrorIs(t, err, os.ErrDeadlineExceeded, "%q is not sent away", b)
		})
	}
	all.Wait()
	require.NoError(t, other.Ping())
	other.Close()
	require.Eventually(t, func() bool { return l.server.Clients() == 0 }, time.Minute, 5*time.Millisecond)
}

// A client that asks for much and reads nothing is in nobody's way, and gets all of it when it reads.
func TestAClientThatDoesNotRead(t *testing.T) {
	l := newLarder(t, link.Settings{})
	const times, size = 40, 2 << 20
	mute := say(t, l.address, "ines", "Quay#7", 0).ok()
	written := make(chan error, 1)
	go func() {
		var all error
		for range times {
			_, err := mute.Write(query("select repeat('y', 2097152)"))
			all = errors.Join(all, err)
		}
		_, err := mute.Write(query(theEnd))
		written <- errors.Join(all, err)
	}()
	for range 30 { // while it stands there
		db := connect(t, l.address, "ines", "Quay#7", "")
		got, err := asks(db, "select count(*) from berths")
		require.NoError(t, err)
		require.Equal(t, "300", got)
		db.Close()
	}
	got := mute.hear()
	require.NoError(t, <-written)
	assert.Equal(t, times*size, bytes.Count([]byte(got), []byte("y"))-bytes.Count([]byte(got), []byte("repeat('y'"))-bytes.Count([]byte(got), []byte("very")))
}

// Clients and servers that vanish at any moment leave nothing behind.
func TestWhoeverVanishes(t *testing.T) {
	if server == nil {
		t.Skip("no MariaDB here")
	}
	before := runtime.NumGoroutine()
	l := newLarder(t, link.Settings{LostTimeout: 300 * time.Millisecond})
	var conversation bytes.Buffer
	for _, b := range [][]byte{query("select * from berths"), prepare("select ?"), execute(last, 0, 3), query("begin"), query("select sleep(0.01)")} {
		conversation.Write(b)
	}
	random := rand.New(rand.NewPCG(7, 0))
	for range 60 {
		x := say(t, l.address, "ines", "Quay#7", uint32(random.IntN(2))*deprecateEOF)
		if random.IntN(4) > 0 {
			x.ok()
			_, _ = x.Write(conversation.Bytes()[:random.IntN(conversation.Len())])
			_ = x.SetReadDeadline(time.Now().Add(time.Duration(random.IntN(4)) * time.Millisecond))
			_, _ = io.Copy(io.Discard, x)
		}
		if c, ok := x.Conn.(*net.TCPConn); ok && random.IntN(2) == 0 {
			_ = c.SetLinger(0) // a reset
		}
		x.Close()
	}
	require.Eventually(t, func() bool { return l.server.Clients() == 0 }, time.Minute, 5*time.Millisecond)

	// The server's side is cut.
	far := make(chan net.Conn, 64)
	address := bare(t, func(c net.Conn) { far <- c })
	cut := newLarderBefore(t, address, link.Settings{})
	for range 20 {
		x := say(t, cut.address, "ines", "Quay#7", 0)
		if random.IntN(4) > 0 {
			x.ok()
			_, _ = x.Write(conversation.Bytes()[:random.IntN(conversation.Len())])
		}
		(<-far).Close()
		_ = x.SetReadDeadline(time.Now().Add(time.Minute))
		_, err := io.Copy(io.Discard, x)
		assert.NotErrorIs(t, err, os.ErrDeadlineExceeded, "the client is told by its connection's end")
	}
	require.Eventually(t, func() bool { return cut.server.Clients() == 0 }, time.Minute, 5*time.Millisecond)
	require.Eventually(t, func() bool { return runtime.NumGoroutine() <= before+12 }, time.Minute, 20*time.Millisecond, "goroutines are left")
}

// When the larder stops, those at rest go at once, those who are busy finish, and the end does not wait for others.
func TestDraining(t *testing.T) {
	l := newLarder(t, link.Settings{})
	idle, busy := say(t, l.address, "ines", "Quay#7", 0).ok(), say(t, l.address, "ines", "Quay#7", 0).ok()
	block := say(t, l.address, "ines", "Quay#7", 0).ok()
	block.send(0, append([]byte{3}, "begin"...)).ok()
	busy.send(0, append([]byte{3}, "select 'finished', sleep(0.5)"...))
	direct := connect(t, server.Address(), "ines", "Quay#7", "")
	require.Eventually(t, func() bool {
		n, err := asks(direct, "select count(*) from information_schema.processlist where info like '%finished%' and info not like '%processlist%'")
		return err == nil && n == "1"
	}, time.Minute, time.Millisecond)
	ended := make(chan struct{})
	go func() { l.server.Drain(t.Context()); close(ended) }()
	read := func(x *talk) string {
		_ = x.SetReadDeadline(time.Now().Add(time.Minute))
		b, err := io.ReadAll(x)
		require.NotErrorIs(t, err, os.ErrDeadlineExceeded)
		return string(b)
	}
	assert.Empty(t, read(idle))
	assert.Contains(t, read(busy), "\x08finished")
	require.Eventually(t, func() bool { return l.server.Clients() == 1 }, time.Minute, time.Millisecond, "one is in a transaction")
	block.send(0, append([]byte{3}, "commit"...))
	assert.NotEmpty(t, read(block))
	<-ended
}
