package succession

import (
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"syscall"
	"time"
)

// Predecessor is one that has made its offer.
type Predecessor struct {
	Offer
	// Process is the predecessor's.
	Process int
	conn    *net.UnixConn
}

// Ask asks the larder that waits at a path, if one does, for its sockets. It is nil if none does.
func Ask(path string) (*Predecessor, error) {
	c, err := net.DialUnix("unix", nil, &net.UnixAddr{Name: path, Net: "unix"})
	if errors.Is(err, os.ErrNotExist) || errors.Is(err, syscall.ECONNREFUSED) {
		return nil, nil
	}
	if err != nil {
		return nil, fmt.Errorf("asking the larder that runs to hand over: %w", err)
	}
	p, err := ask(c)
	if err != nil {
		c.Close()
		return nil, fmt.Errorf("the larder that runs does not hand over: %w", err)
	}
	return p, nil
}

func ask(c *net.UnixConn) (*Predecessor, error) {
	_ = c.SetDeadline(time.Now().Add(patience))
	if err := send(c, message{Kind: "request"}, nil); err != nil {
		return nil, err
	}
	m, files, err := receive(c, "offer")
	if err != nil {
		return nil, err
	}
	defer func() {
		for _, f := range files {
			f.Close()
		}
	}()
	if m.Offer == nil || len(m.Offer.Sockets) != len(files) {
		return nil, fmt.Errorf("%d sockets came with its offer, which names others", len(files))
	}
	p := &Predecessor{Offer: *m.Offer, conn: c}
	for i, f := range files {
		ln, err := net.FileListener(f)
		if err != nil {
			p.CloseSockets()
			return nil, fmt.Errorf("using the socket for %s: %w", p.Sockets[i].Configured, err)
		}
		p.Sockets[i].Listener = ln
	}
	return p, nil
}

// Confirm says that the successor is ready, and waits until the clients are its own. After an error they are the
// predecessor's.
func (p *Predecessor) Confirm() error {
	_ = p.conn.SetDeadline(time.Now().Add(patience))
	err := send(p.conn, message{Kind: "ready"}, nil)
	if err == nil {
		_, _, err = receive(p.conn, "yours")
	}
	if errors.Is(err, io.EOF) {
		err = errors.New("it has closed the connection")
	}
	if err != nil {
		return fmt.Errorf("the larder that runs has not handed over: %w", err)
	}
	return nil
}

// Close ends the conversation.
func (p *Predecessor) Close() { p.conn.Close() }
