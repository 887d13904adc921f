package postgres

import (
	"crypto/tls"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"

	"jollylarder/internal/wire/link"
)

// originTLS is an encrypted connection to the origin.
type originTLS struct {
	*tls.Conn
	shown bool // a certificate of the larder's was asked for and shown
}

// dial opens a connection to the origin.
func (s *Server) dial(set *link.Settings) (net.Conn, error) {
	if set.OriginTLS == nil {
		return s.DialOrigin(set, nil)
	}
	return s.DialOrigin(set, func(c net.Conn) (net.Conn, error) { return startTLS(c, set.OriginTLS) })
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
