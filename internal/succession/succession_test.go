package succession

import (
	"bytes"
	"encoding/binary"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jollylarder/internal/core/engine"
)

// waits opens where a predecessor waits, and gives the path.
func waits(t testing.TB) (*Listener, string) {
	path := filepath.Join(t.TempDir(), "handover.sock")
	l, err := Listen(path)
	require.NoError(t, err)
	t.Cleanup(l.Close)
	return l, path
}

// listening opens a socket for clients.
func listening(t testing.TB, network, address string) net.Listener {
	ln, err := net.Listen(network, address)
	require.NoError(t, err)
	t.Cleanup(func() { ln.Close() })
	return ln
}

// answers has a predecessor answer one request.
func answers(t testing.TB, l *Listener, how func(*Request) error) <-chan error {
	done := make(chan error, 1)
	go func() {
		r, err := l.Accept()
		if err == nil {
			defer r.Close()
			err = how(r)
		}
		done <- err
	}()
	return done
}

// reaches says whether a client that connects at an address is accepted by a listener.
func reaches(t testing.TB, ln net.Listener) {
	c, err := net.Dial(ln.Addr().Network(), ln.Addr().String())
	require.NoError(t, err)
	defer c.Close()
	got, err := ln.Accept()
	require.NoError(t, err)
	got.Close()
}

func TestSocketsAreHandedOver(t *testing.T) {
	l, path := waits(t)
	unix := filepath.Join(t.TempDir(), "clients.sock")
	tcp, own := listening(t, "tcp", "127.0.0.1:0"), listening(t, "unix", unix)
	own.(*net.UnixListener).SetUnlinkOnClose(false)
	inputs := []engine.Wanted{{Rule: "boards", Key: []byte("a key\x00\xff with any bytes")}}
	done := answers(t, l, func(r *Request) error {
		assert.Equal(t, os.Getpid(), r.Process)
		return r.Yield(Offer{Sockets: []Socket{{Configured: "127.0.0.1:0", Listener: tcp}, {Configured: unix, Owned: true, Listener: own}}, Inputs: inputs})
	})
	p, err := Ask(path)
	require.NoError(t, err)
	defer p.Close()
	require.Len(t, p.Sockets, 2)
	assert.Equal(t, "127.0.0.1:0", p.Sockets[0].Configured)
	assert.False(t, p.Sockets[0].Owned)
	assert.True(t, p.Sockets[1].Owned)
	assert.Equal(t, inputs, p.Inputs)
	require.NoError(t, p.Confirm())
	require.NoError(t, <-done)
	tcp.Close()
	own.Close()
	for _, s := range p.Sockets {
		reaches(t, s.Listener)
	}
	p.CloseSockets()
	assert.FileExists(t, unix, "whose it is by then is not known here")
}

func TestNobodyHandsOver(t *testing.T) {
	dir := t.TempDir()
	p, err := Ask(filepath.Join(dir, "none.sock"))
	require.NoError(t, err)
	assert.Nil(t, p)
	ln, err := net.ListenUnix("unix", &net.UnixAddr{Name: filepath.Join(dir, "left.sock"), Net: "unix"})
	require.NoError(t, err)
	ln.SetUnlinkOnClose(false)
	ln.Close()
	p, err = Ask(filepath.Join(dir, "left.sock"))
	require.NoError(t, err, "a process that was killed leaves it behind")
	assert.Nil(t, p)
	_, err = Listen(filepath.Join(dir, strings.Repeat("long", 30)))
	assert.ErrorContains(t, err, "choose a shorter directory with --state")
}

func TestEitherSideMayGiveUp(t *testing.T) {
	tcp := listening(t, "tcp", "127.0.0.1:0")
	offer := Offer{Sockets: []Socket{{Configured: "127.0.0.1:0", Listener: tcp}}}
	t.Run("the predecessor refuses", func(t *testing.T) {
		l, path := waits(t)
		done := answers(t, l, func(r *Request) error { r.Refuse("it is busy: try again"); return nil })
		_, err := Ask(path)
		assert.EqualError(t, err, "the larder that runs does not hand over: it is busy: try again")
		require.NoError(t, <-done)
	})
	t.Run("the successor ends before it is ready", func(t *testing.T) {
		l, path := waits(t)
		done := answers(t, l, func(r *Request) error { return r.Yield(offer) })
		p, err := Ask(path)
		require.NoError(t, err)
		p.CloseSockets()
		p.Close()
		assert.ErrorContains(t, <-done, "has not become ready")
		reaches(t, tcp)
	})
	t.Run("the predecessor ends before it has left the clients", func(t *testing.T) {
		l, path := waits(t)
		done := answers(t, l, func(r *Request) error {
			return send(r.conn, message{Kind: "offer", Offer: &Offer{}}, nil)
		})
		p, err := Ask(path)
		require.NoError(t, err)
		defer p.Close()
		require.NoError(t, <-done)
		assert.ErrorContains(t, p.Confirm(), "has not handed over")
	})
	t.Run("too many sockets", func(t *testing.T) {
		l, path := waits(t)
		done := answers(t, l, func(r *Request) error { return r.Yield(Offer{Sockets: make([]Socket, MostSockets+1)}) })
		_, err := Ask(path)
		require.Error(t, err)
		assert.ErrorContains(t, <-done, "at most 253 can be handed over")
	})
}

// As many sockets as are possible at all arrive.
func TestManySocketsAreHandedOver(t *testing.T) {
	l, path := waits(t)
	tcp := listening(t, "tcp", "127.0.0.1:0")
	var o Offer
	for range MostSockets {
		o.Sockets = append(o.Sockets, Socket{Configured: "127.0.0.1:0", Listener: tcp})
	}
	done := answers(t, l, func(r *Request) error { return r.Yield(o) })
	p, err := Ask(path)
	require.NoError(t, err)
	defer p.Close()
	defer p.CloseSockets()
	assert.Len(t, p.Sockets, MostSockets)
	require.NoError(t, p.Confirm())
	require.NoError(t, <-done)
}

// says sends bytes as one side does, and gives what the other makes of them.
func says(t testing.TB, b []byte, kind string) (message, error) {
	path := filepath.Join(t.TempDir(), "s")
	ln, err := net.ListenUnix("unix", &net.UnixAddr{Name: path, Net: "unix"})
	require.NoError(t, err)
	defer ln.Close()
	go func() {
		if c, err := net.Dial("unix", path); err == nil {
			_, _ = c.Write(b)
			c.Close()
		}
	}()
	c, err := ln.AcceptUnix()
	require.NoError(t, err)
	defer c.Close()
	require.NoError(t, c.SetDeadline(time.Now().Add(time.Minute)))
	m, files, err := receive(c, kind)
	assert.Empty(t, files)
	return m, err
}

func framed(text string) []byte {
	return append(binary.BigEndian.AppendUint32(nil, uint32(len(text))), text...)
}

func TestMessagesThatAreNone(t *testing.T) {
	for name, c := range map[string]struct {
		bytes []byte
		says  string
	}{
		"nothing":         {nil, "EOF"},
		"half a length":   {[]byte{0, 0}, "EOF"},
		"half a message":  {[]byte{0, 0, 0, 9, '{'}, "EOF"},
		"a long one":      {[]byte{255, 255, 255, 255}, "no message"},
		"no JSON":         {framed("hello"), "no message"},
		"another version": {framed(`{"version": 2, "kind": "ready"}`), "hands over in another way"},
		"no version":      {framed(`{"kind": "ready"}`), "hands over in another way"},
		"another kind":    {framed(`{"version": 1, "kind": "yours"}`), `sent "yours" where "ready" is expected`},
		"a refusal":       {framed(`{"version": 1, "kind": "ready", "refused": "no: stop it"}`), "no: stop it"},
		"sockets that are only named": {
			framed(`{"version": 1, "kind": "yours", "offer": {"sockets": [{"configured": "x"}]}}`), "expected",
		},
	} {
		t.Run(name, func(t *testing.T) {
			_, err := says(t, c.bytes, "ready")
			assert.ErrorContains(t, err, c.says)
		})
	}
	m, err := says(t, framed(`{"version": 1, "kind": "ready"}`), "ready")
	require.NoError(t, err)
	assert.Equal(t, "ready", m.Kind)
}

// An offer that names more sockets than come with it is none.
func TestAnOfferWithoutItsSockets(t *testing.T) {
	l, path := waits(t)
	done := answers(t, l, func(r *Request) error {
		return send(r.conn, message{Kind: "offer", Offer: &Offer{Sockets: []Socket{{Configured: "x"}}}}, nil)
	})
	_, err := Ask(path)
	assert.ErrorContains(t, err, "0 sockets came with its offer")
	require.NoError(t, <-done)
}

// Whatever is sent, it is a message of the kind that is expected, or an error.
func FuzzReceive(f *testing.F) {
	for _, seed := range [][]byte{nil, framed(`{"version": 1, "kind": "request"}`), framed(`{}`), {0, 0, 0, 200, '{'}, bytes.Repeat([]byte{0}, 8)} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, b []byte) {
		if m, err := says(t, b, "request"); err == nil {
			assert.Equal(t, "request", m.Kind)
			assert.Equal(t, version, m.Version)
		}
	})
}
