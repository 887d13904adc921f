package postgres

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"sync"
	"time"
)

// TLSMode says what is asked of the connection to the origin.
type TLSMode string

// The modes, as clients of the database know them.
const (
	TLSDisable    TLSMode = "disable"
	TLSRequire    TLSMode = "require"     // encrypted, to whomever
	TLSVerifyCA   TLSMode = "verify-ca"   // whose certificate a known authority has signed
	TLSVerifyFull TLSMode = "verify-full" // and that names the host
)

// originTLS is an encrypted connection to the origin.
type originTLS struct {
	*tls.Conn
	shown bool // a certificate of the larder's was asked for and shown
}

// dial opens a connection to the origin.
func (s *Server) dial(set *Settings) (net.Conn, error) {
	ctx, cancel := context.WithTimeout(s.running(), set.ConnectTime)
	defer cancel()
	var c net.Conn
	var err error
	if s.Dial != nil {
		c, err = s.Dial(ctx, s.Origin)
	} else {
		var d net.Dialer
		c, err = d.DialContext(ctx, Network(s.Origin), s.Origin)
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

// Network gives the kind of an address: "unix" for a path, else "tcp".
func Network(address string) string {
	if len(address) > 0 && (address[0] == '/' || address[0] == '@' || address[0] == '.') {
		return "unix"
	}
	return "tcp"
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

// OriginTLS makes the configuration for a mode; nil for none. Roots are the authorities trusted, nil for the system's;
// own, if not nil, is the certificate that is shown when the origin asks for one.
func OriginTLS(mode TLSMode, host string, roots *x509.CertPool, own *tls.Certificate) *tls.Config {
	if mode == TLSDisable || mode == "" {
		return nil
	}
	c := &tls.Config{MinVersion: tls.VersionTLS12, ServerName: host, RootCAs: roots}
	if own != nil {
		c.GetClientCertificate = func(*tls.CertificateRequestInfo) (*tls.Certificate, error) { return own, nil }
	}
	switch mode {
	case TLSRequire:
		c.InsecureSkipVerify = true
	case TLSVerifyCA:
		c.InsecureSkipVerify = true // the name alone is not looked at: the chain is, here
		c.VerifyConnection = func(s tls.ConnectionState) error {
			o := x509.VerifyOptions{Roots: roots, Intermediates: x509.NewCertPool()}
			for _, cert := range s.PeerCertificates[1:] {
				o.Intermediates.AddCert(cert)
			}
			_, err := s.PeerCertificates[0].Verify(o)
			return err
		}
	}
	return c
}
