package freshcheck

import (
	"net"
	"sync"
	"time"
)

// gate stands between the larder and the database, and can hold back what passes, or cut it, for one client at a time:
// so what happens in which order is for the script to say.
type gate struct {
	ln     net.Listener
	kind   Database
	origin string

	mu      sync.Mutex
	changed *sync.Cond
	clients map[string]*passage // by the name in its login
	all     map[net.Conn]bool
	orphans []*passage // cut from the larder, with requests still on their way
	closed  bool
}

// passage is the connection of one client of the larder.
type passage struct {
	larder, server net.Conn
	holdRequests   bool
	holdReplies    bool
	held           []byte // replies held back
	ready          int    // how often the server has said that it is ready
	owed           bool   // something was sent to the server since
	stuck          bool   // a request has come as far as here
	gone           bool
}

func newGate(kind Database, origin string) (*gate, error) {
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	g := &gate{ln: ln, kind: kind, origin: origin, clients: map[string]*passage{}, all: map[net.Conn]bool{}}
	g.changed = sync.NewCond(&g.mu)
	go g.accept()
	return g, nil
}

func (g *gate) address() string { return g.ln.Addr().String() }

func (g *gate) accept() {
	for {
		c, err := g.ln.Accept()
		if err != nil {
			return
		}
		go g.pass(c)
	}
}

func (g *gate) close() {
	g.ln.Close()
	g.mu.Lock()
	defer g.mu.Unlock()
	g.closed = true
	for c := range g.all {
		c.Close()
	}
	g.changed.Broadcast()
}

func (g *gate) pass(larder net.Conn) {
	server, err := net.Dial("tcp", g.origin)
	if err != nil {
		larder.Close()
		return
	}
	name, err := g.kind.login(larder, server)
	if err != nil {
		larder.Close()
		server.Close()
		return
	}
	p := &passage{larder: larder, server: server}
	g.mu.Lock()
	if g.closed {
		g.mu.Unlock()
		larder.Close()
		server.Close()
		return
	}
	g.all[larder], g.all[server] = true, true
	if name != "" {
		g.clients[name] = p
	}
	g.mu.Unlock()
	go g.requests(p)
	g.replies(p)
}

func (g *gate) end(p *passage) {
	p.larder.Close()
	p.server.Close()
	g.mu.Lock()
	defer g.mu.Unlock()
	p.gone = true
	delete(g.all, p.larder)
	delete(g.all, p.server)
	g.changed.Broadcast()
}

func (g *gate) requests(p *passage) {
	defer g.end(p)
	buf := make([]byte, 32<<10)
	for {
		n, err := p.larder.Read(buf)
		if err != nil {
			g.runToEnd(p)
			return
		}
		g.mu.Lock()
		for p.holdRequests && !p.gone && !g.closed {
			p.stuck = true
			g.changed.Wait()
		}
		p.stuck, p.owed = false, true
		g.mu.Unlock()
		if _, err := p.server.Write(buf[:n]); err != nil {
			return
		}
	}
}

// runToEnd waits until the server has done what it was sent, or a while, if that has to wait for something else.
func (g *gate) runToEnd(p *passage) {
	late := time.AfterFunc(2*time.Second, func() {
		g.mu.Lock()
		defer g.mu.Unlock()
		p.owed = false
		g.changed.Broadcast()
	})
	defer late.Stop()
	g.mu.Lock()
	defer g.mu.Unlock()
	for p.owed && !p.gone && !g.closed {
		g.changed.Wait()
	}
}

func (g *gate) replies(p *passage) {
	defer g.end(p)
	buf := make([]byte, 32<<10)
	counts := g.kind.replies()
	for {
		n, err := p.server.Read(buf)
		if err != nil {
			return
		}
		ready := counts(buf[:n])
		g.mu.Lock()
		p.ready += ready
		p.owed = p.owed && ready == 0
		g.changed.Broadcast()
		if p.holdReplies {
			p.held = append(p.held, buf[:n]...)
			g.mu.Unlock()
			continue
		}
		g.mu.Unlock()
		_, _ = p.larder.Write(buf[:n]) // one that was cut still runs what is on its way
	}
}

// hold has a client's requests, or the replies to them, held back from now on.
func (g *gate) hold(name string, replies bool) {
	g.mu.Lock()
	defer g.mu.Unlock()
	if p := g.clients[name]; p != nil {
		if replies {
			p.holdReplies = true
		} else {
			p.holdRequests = true
		}
	}
}

// release lets go on what was held back.
func (g *gate) release(name string) {
	g.mu.Lock()
	defer g.mu.Unlock()
	p := g.clients[name]
	if p == nil {
		return
	}
	p.holdRequests, p.holdReplies = false, false
	if len(p.held) > 0 && !p.gone {
		_, _ = p.larder.Write(p.held)
	}
	p.held = nil
	g.changed.Broadcast()
}

// cut ends a client's connection to the database, with what is held back.
func (g *gate) cut(name string) {
	g.mu.Lock()
	p := g.clients[name]
	g.mu.Unlock()
	if p != nil {
		g.end(p)
	}
}

// orphan cuts a client's connection from the larder alone: what is held back of its requests still reaches the
// database, when let.
func (g *gate) orphan(name string) {
	g.mu.Lock()
	defer g.mu.Unlock()
	if p := g.clients[name]; p != nil {
		delete(g.clients, name)
		g.orphans = append(g.orphans, p)
		p.larder.Close()
	}
}

// arrive lets those reach it.
func (g *gate) arrive() {
	g.mu.Lock()
	var before []int
	for _, p := range g.orphans {
		p.holdRequests = false
		before = append(before, p.ready)
	}
	g.changed.Broadcast()
	for i, p := range g.orphans {
		for end := time.Now().Add(2 * time.Second); p.ready == before[i] && !p.gone && time.Now().Before(end); {
			g.mu.Unlock()
			time.Sleep(100 * time.Microsecond)
			g.mu.Lock()
		}
	}
	g.orphans = nil
	g.mu.Unlock()
}

// readies says how often the server has been ready for a client.
func (g *gate) readies(name string) int {
	g.mu.Lock()
	defer g.mu.Unlock()
	if p := g.clients[name]; p != nil {
		return p.ready
	}
	return 0
}

// holds says whether it has a request of a client's that it holds back.
func (g *gate) holds(name string) bool {
	g.mu.Lock()
	defer g.mu.Unlock()
	p := g.clients[name]
	return p != nil && p.stuck
}

// await waits until the server has been ready for a client more often than that, or something else has happened, or a
// while.
func (g *gate) await(name string, more int, done <-chan struct{}) {
	for end := time.Now().Add(2 * time.Second); time.Now().Before(end); {
		select {
		case <-done:
			return
		default:
		}
		if g.readies(name) > more {
			return
		}
		time.Sleep(50 * time.Microsecond)
	}
}
