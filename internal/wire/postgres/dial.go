package postgres

import (
	"crypto/tls"
	"encoding/binary"
	"fmt"
	"io"
	"net"

	"jollylarder/internal/wire/link"
)

// dial opens a connection to the origin.
func (s *Server) dial(set *link.Settings) (net.Conn, error) {
	if set.OriginTLS == nil {
		return s.DialOrigin(set, nil)
	}
	return s.DialOrigin(set, func(c net.Conn) (net.Conn, error) { return startTLS(c, set.OriginTLS) })
}

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
		return nil, link.ErrNoTLS
	}
	return link.Secure(c, cfg)
}
