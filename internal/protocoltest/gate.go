package protocoltest

import (
	"io"
	"net"
	"sync"

	"jollylarder/internal/wire/link"
)

// gate stands before the server, and can cut it off.
type gate struct {
	ln net.Listener

	mu    sync.Mutex
	conns []net.Conn
	wg    sync.WaitGroup
}

func newGate(server string) (*gate, error) {
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	g := &gate{ln: ln}
	g.wg.Go(func() {
		for {
			near, err := ln.Accept()
			if err != nil {
				return
			}
			far, err := net.Dial(link.Network(server), server)
			if err != nil {
				near.Close()
				continue
			}
			g.mu.Lock()
			g.conns = append(g.conns, near, far)
			g.mu.Unlock()
			g.wg.Go(func() { pipe(near, far) })
			g.wg.Go(func() { pipe(far, near) })
		}
	})
	return g, nil
}

// pipe copies one way, and ends both when that ends.
func pipe(from, to net.Conn) {
	_, _ = io.Copy(to, from)
	from.Close()
	to.Close()
}

func (g *gate) address() string { return g.ln.Addr().String() }

// cut cuts all connections, and lets nobody in any more.
func (g *gate) cut() {
	g.ln.Close()
	g.mu.Lock()
	defer g.mu.Unlock()
	for _, c := range g.conns {
		c.Close()
	}
}

func (g *gate) close() {
	g.cut()
	g.wg.Wait()
}
