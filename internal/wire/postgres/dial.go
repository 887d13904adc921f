package postgres

import (
	"context"
	"crypto/tls"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"sync"
	"time"

	"jollylarder/internal/wire/link"
)

// originTLS is an encrypted connection to the origin.
type originTLS struct {
	*tls.Conn
	shown bool // a certificate of the larder's was asked for and shown
}

// dial opens a connection to the origin.
func (s *Server) dial(set *link.Settings) (net.Conn, error) {
	ctx, cancel := context.WithTimeout(s.running(), set.ConnectTimeout)
	defer cancel()
	var c net.Conn
	var err error
	if s.Dial != nil {
		c, err = s.Dial(ctx, s.Origin)
	} else {
		var d net.Dialer
		c, err = d.DialContext(ctx, link.Network(s.Origin), s.Origin)
	}
	if err != nil || set.OriginTLS == nil {
		return c, err
	}
	deadline, _ := ctx.Deadline()
	_ = c.SetDeadline(deadline)
	stopped := context.AfterFunc(ctx, func() { _ = c.SetDeadline(time.Now()) })
	defer stopped()
	t, err := startTLS(c, set.OriginTLS)
	if err != nil {
		c.Close()
		return nil, err
	}
	if stopped() {
		_ = c.SetDeadline(time.Time{})
	}
	return t, nil
}

// ownConnections are the two addresses of each connection from this process to an origin: a client whose connection has
// the same is the larder itself, whose origin leads back to it.
var ownConnections sync.Map

// noteOwn notes a connection to an origin, until forget is called.
func noteOwn(c net.Conn) (forget func()) {
	t, ok := netConn(c).(*net.TCPConn)
	if !ok {
		return func() {}
	}
	ends := [2]string{t.LocalAddr().String(), t.RemoteAddr().String()}
	ownConnections.Store(ends, true)
	return func() { ownConnections.Delete(ends) }
}

// isOwn says whether a client is this process.
func isOwn(c net.Conn) bool {
	t, ok := netConn(c).(*net.TCPConn)
	if !ok {
		return false
	}
	_, own := ownConnections.Load([2]string{t.RemoteAddr().String(), t.LocalAddr().String()})
	return own
}

var errNoTLS = errors.New("it does not offer TLS, which mode in [origin.tls] asks for")

// startTLS asks the origin for TLS.
func startTLS(c net.Conn, cfg *tls.Config) (net.Conn, error) {
	request := binary.BigEndian.AppendUint32([]byte{0, 0, 0, 8}, codeTLS)
	if _, err := c.Write(request); err != nil {
		return nil, err
	}
	// Just one byte is read: anything behind it must come through TLS, or could have been put there by somebody else.
	var answer [1]byte
	if _, err := io.ReadFull(c, answer[:]); err != nil {
		return nil, fmt.Errorf("asking for TLS: %w", err)
	}
	if answer[0] != 'S' {
		return nil, errNoTLS
	}
	o := &originTLS{}
	cfg = cfg.Clone()
	if own := cfg.GetClientCertificate; own != nil {
		cfg.GetClientCertificate = func(i *tls.CertificateRequestInfo) (*tls.Certificate, error) {
			cert, err := own(i)
			o.shown = err == nil && cert != nil && len(cert.Certificate) > 0
			return cert, err
		}
	}
	o.Conn = tls.Client(c, cfg)
	if err := o.Handshake(); err != nil {
		return nil, fmt.Errorf("TLS with the database: %w", err)
	}
	return o, nil
}
