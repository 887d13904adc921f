package succession

import (
	"errors"
	"fmt"
	"net"
	"os"
	"time"

	"jollylarder/internal/peer"
)

// patience bounds how long either side waits for the other: it may have to end connections, or to read a catalog.
const patience = time.Minute

// Listener is where a predecessor waits for a successor.
type Listener struct{ ln *net.UnixListener }

// Listen opens the socket at a path, for its owner alone. What lies there is removed: the caller has the directory to itself.
func Listen(path string) (*Listener, error) {
	if len(path) > peer.LongestPath {
		return nil, fmt.Errorf("%s has %d bytes, and a Unix socket's path may have at most %d: choose a shorter directory with --state", path, len(path), peer.LongestPath)
	}
	if err := os.Remove(path); err != nil && !errors.Is(err, os.ErrNotExist) {
		return nil, err
	}
	ln, err := peer.Listen(path)
	if err != nil {
		return nil, err
	}
	return &Listener{ln}, nil
}

// Close ends the waiting.
func (l *Listener) Close() { l.ln.Close() }

// Request is a successor's.
type Request struct {
	// Process is the successor's.
	Process int
	conn    *net.UnixConn
}

// Accept waits for a successor. It is nil, with the error net.ErrClosed, when the listener is closed; any other error is
// that of one who is no successor.
func (l *Listener) Accept() (*Request, error) {
	c, err := l.ln.AcceptUnix()
	if err != nil {
		return nil, err
	}
	uid, process, ok := peer.Of(c)
	if !ok || uid != os.Geteuid() && uid != 0 {
		c.Close()
		return nil, fmt.Errorf("a process of user %d asked for the clients' sockets: only the larder's own user may", uid)
	}
	_ = c.SetDeadline(time.Now().Add(patience))
	if _, _, err := receive(c, "request"); err != nil {
		_ = send(c, message{Refused: "it does not understand the request"}, nil)
		c.Close()
		return nil, fmt.Errorf("process %d asked for the clients' sockets: %w", process, err)
	}
	return &Request{process, c}, nil
}

// Refuse tells the successor why it gets nothing.
func (r *Request) Refuse(why string) {
	_ = send(r.conn, message{Refused: why}, nil)
	r.Close()
}

// Yield offers the sockets, waits until the successor is ready, and leaves the clients to it. After an error they are still
// the predecessor's.
func (r *Request) Yield(o Offer) error {
	_ = r.conn.SetDeadline(time.Now().Add(patience))
	var files []*os.File
	defer func() {
		for _, f := range files {
			f.Close()
		}
	}()
	if len(o.Sockets) > MostSockets {
		return fmt.Errorf("%d sockets listen, and at most %d can be handed over", len(o.Sockets), MostSockets)
	}
	for _, s := range o.Sockets {
		f, err := file(s.Listener)
		if err != nil {
			return err
		}
		files = append(files, f)
	}
	if err := send(r.conn, message{Kind: "offer", Offer: &o}, files); err != nil {
		return fmt.Errorf("offering the clients' sockets to process %d: %w", r.Process, err)
	}
	if _, _, err := receive(r.conn, "ready"); err != nil {
		return fmt.Errorf("process %d has not become ready: %w", r.Process, err)
	}
	if err := send(r.conn, message{Kind: "yours"}, nil); err != nil {
		return fmt.Errorf("process %d has ended: %w", r.Process, err)
	}
	return nil
}

// Close ends the conversation.
func (r *Request) Close() { r.conn.Close() }
