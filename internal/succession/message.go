// Package succession hands the listening sockets of a larder that runs, the predecessor, to the one that takes over from it,
// the successor. They talk over a Unix socket:
//
//	successor:   request   it has read its configuration, and asks
//	predecessor: offer     it has stopped what only one larder may do at a time; the sockets come with it
//	successor:   ready     it could serve clients now
//	predecessor: yours     from here on it serves none that connect
//
// Until the last message either may give up by closing the connection, and the predecessor goes on. A message is its length
// as four bytes, the most significant first, and JSON.
package succession

import (
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"syscall"

	"jollylarder/internal/core/engine"
)

// version is that of the messages: larders of another do not understand each other.
const version = 1

const (
	// longestMessage bounds a message in bytes.
	longestMessage = 64 << 20
	// MostSockets is how many sockets can be handed over: so many descriptors fit into one message of the kernel's.
	// Source: unix(7), SCM_RIGHTS.
	MostSockets = 253
)

// message is one of either side's.
type message struct {
	Version int    `json:"version"`
	Kind    string `json:"kind"` // request, offer, ready or yours
	Refused string `json:"refused,omitempty"`
	Offer   *Offer `json:"offer,omitempty"`
}

// Offer is what a predecessor hands over.
type Offer struct {
	// Sockets are those that clients connect to.
	Sockets []Socket `json:"sockets"`
	// Inputs are what was asked for most, for the successor to fetch again. They hold values.
	Inputs []engine.Wanted `json:"inputs,omitempty"`
}

// Socket is one that listens.
type Socket struct {
	// Configured is its address as the configuration has it.
	Configured string `json:"configured"`
	// Owned says that the larder has opened it by itself, and removes the file of a Unix socket at the end.
	Owned bool `json:"owned,omitempty"`
	// Listener is the socket.
	Listener net.Listener `json:"-"`
}

// CloseSockets gives up the sockets of the offer. The files of Unix sockets stay: the other side may go on with them.
func (o *Offer) CloseSockets() {
	for _, s := range o.Sockets {
		if s.Listener != nil {
			s.Listener.Close()
		}
	}
	o.Sockets = nil
}

// Duplicate gives another listener on the same socket, which leaves the file of a Unix socket where it is when it is closed.
func Duplicate(l net.Listener) (net.Listener, error) {
	f, err := file(l)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return net.FileListener(f)
}

// file gives a copy of a listener's descriptor.
func file(l net.Listener) (*os.File, error) {
	x, ok := l.(interface{ File() (*os.File, error) })
	if !ok {
		return nil, fmt.Errorf("the socket at %s has no file descriptor: restart the larder instead", l.Addr())
	}
	f, err := x.File()
	if err != nil {
		return nil, fmt.Errorf("handing over the socket at %s: %w", l.Addr(), err)
	}
	return f, nil
}

// send writes a message, and descriptors with it.
func send(c *net.UnixConn, m message, files []*os.File) error {
	m.Version = version
	body, err := json.Marshal(m)
	if err != nil {
		return err
	}
	if len(body) > longestMessage {
		return fmt.Errorf("the message has %d bytes: at most %d are possible", len(body), longestMessage)
	}
	body = append(binary.BigEndian.AppendUint32(nil, uint32(len(body))), body...)
	if len(files) > 0 {
		fds := make([]int, len(files))
		for i, f := range files {
			fds[i] = int(f.Fd())
		}
		n, _, err := c.WriteMsgUnix(body[:4], syscall.UnixRights(fds...), nil)
		if err != nil {
			return err
		}
		body = body[n:]
	}
	_, err = c.Write(body)
	return err
}

// receive reads a message, and the descriptors that come with it.
func receive(c *net.UnixConn, kind string) (m message, files []*os.File, err error) {
	defer func() {
		if err != nil {
			for _, f := range files {
				f.Close()
			}
			files = nil
		}
	}()
	var head [4]byte
	oob := make([]byte, syscall.CmsgSpace(4*MostSockets))
	n, oobn, flags, _, err := c.ReadMsgUnix(head[:], oob)
	if err != nil {
		return m, nil, err
	}
	if files, err = rights(oob[:oobn]); err != nil {
		return m, files, err
	}
	if flags&syscall.MSG_CTRUNC != 0 {
		return m, files, errors.New("not all sockets have arrived: raise LimitNOFILE")
	}
	if _, err := io.ReadFull(c, head[n:]); err != nil {
		return m, files, err
	}
	size := binary.BigEndian.Uint32(head[:])
	if size > longestMessage {
		return m, files, fmt.Errorf("it sent what is no message: %d bytes", size)
	}
	body := make([]byte, size)
	if _, err := io.ReadFull(c, body); err != nil {
		return m, files, err
	}
	if err := json.Unmarshal(body, &m); err != nil {
		return m, files, fmt.Errorf("it sent what is no message: %w", err)
	}
	switch {
	case m.Version != version:
		return m, files, fmt.Errorf("it is a larder that hands over in another way, version %d: stop it, and start this one", m.Version)
	case m.Refused != "":
		return m, files, errors.New(m.Refused)
	case m.Kind != kind:
		return m, files, fmt.Errorf("it sent %q where %q is expected", m.Kind, kind)
	}
	return m, files, nil
}

// rights gives the descriptors of a control message.
func rights(oob []byte) (files []*os.File, err error) {
	list, err := syscall.ParseSocketControlMessage(oob)
	if err != nil {
		return nil, err
	}
	for i := range list {
		fds, err := syscall.ParseUnixRights(&list[i])
		if err != nil {
			return files, err
		}
		for _, fd := range fds {
			files = append(files, os.NewFile(uintptr(fd), "handed over"))
		}
	}
	return files, nil
}
