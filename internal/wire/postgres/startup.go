package postgres

import (
	"bytes"
	"crypto/tls"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"strings"

	"jollylarder/internal/core/engine"
	"jollylarder/internal/wire/link"
)

// Codes that stand where the protocol version does.
const (
	codeCancel = 80877102
	codeTLS    = 80877103
	codeGSS    = 80877104
)

// longestStartup is the server's own limit for a start-up message, in bytes.
const longestStartup = 10_000

// longestName is where the server cuts names, in bytes: longer ones mean the same.
const longestName = 63

// tlsRecord is the first byte of a TLS handshake, which a client may begin without asking. No length of a start-up
// message begins so.
const tlsRecord = 0x16

// ALPN is the protocol's name in TLS's negotiation.
const ALPN = "postgresql"

// startup is a client's first message that is to be passed on.
type startup struct {
	raw         []byte
	cancel      bool
	other       bool // of another protocol, which is for the origin to refuse
	replication bool // it wants to follow the database's changes, and may send commands of another language
	identity    engine.Identity
}

// replicationCommand says whether a simple query is a command of the language of replication, none of which changes a
// table. In a session that is not for replication the server takes it for a syntax error, so nothing is lost if the
// server has read the start-up message in another way.
func replicationCommand(sql []byte) bool {
	first, _, _ := bytes.Cut(bytes.TrimLeft(sql, " \t\r\n"), []byte(" "))
	switch string(bytes.ToUpper(bytes.TrimRight(first, "; \t\r\n"))) {
	case "IDENTIFY_SYSTEM",
		"START_REPLICATION",
		"CREATE_REPLICATION_SLOT",
		"ALTER_REPLICATION_SLOT",
		"DROP_REPLICATION_SLOT",
		"READ_REPLICATION_SLOT",
		"TIMELINE_HISTORY",
		"BASE_BACKUP",
		"UPLOAD_MANIFEST":
		return true
	}
	return false
}

// startupError is what a client is told that cannot begin.
type startupError struct{ code, message, hint string }

func (e *startupError) Error() string { return e.message }

// readStartup reads up to the message that the origin is to see, and gives the connection that it came over, which may
// be encrypted by now.
func readStartup(client net.Conn, set *link.Settings) (*startup, net.Conn, error) {
	encrypted := false
	for {
		raw, err := readStartupMessage(client)
		var hello *tlsHello
		switch {
		case errors.As(err, &hello):
			if encrypted {
				return nil, client, &startupError{"08P01", "jolly larder: the client asks for TLS within TLS", ""}
			}
			if set.ClientTLS == nil {
				return nil, client, &startupError{
					"08P01",
					"jolly larder: the client begins with TLS, and no certificate is configured",
					"Give the larder a certificate in [origin.clients] of its configuration, or connect with sslmode=disable.",
				}
			}
			conn := tls.Server(&prefixed{client, hello.read}, set.ClientTLS)
			if err := conn.Handshake(); err != nil {
				return nil, client, fmt.Errorf("the client's TLS handshake: %w", err)
			}
			if got := conn.ConnectionState().NegotiatedProtocol; got != ALPN {
				// As the server does: TLS without asking is for those who say what they will speak.
				conn.Close()
				return nil, client, fmt.Errorf("the client began TLS without naming the protocol %q in it", ALPN)
			}
			client, encrypted = conn, true
			continue
		case err != nil:
			return nil, client, err
		}
		code := binary.BigEndian.Uint32(raw[4:])
		switch {
		case code == codeTLS && set.ClientTLS != nil && !encrypted: // of whatever length, as the server takes it
			if _, err := client.Write([]byte{'S'}); err != nil {
				return nil, client, err
			}
			conn := tls.Server(client, set.ClientTLS)
			if err := conn.Handshake(); err != nil {
				return nil, client, fmt.Errorf("the client's TLS handshake: %w", err)
			}
			client, encrypted = conn, true
		case code == codeTLS, code == codeGSS:
			// Declined: the client goes on without, or ends.
			if _, err := client.Write([]byte{'N'}); err != nil {
				return nil, client, err
			}
		case code == codeCancel:
			return &startup{raw: raw, cancel: true}, client, nil // in the clear too: most drivers know no other way
		case set.RequireTLS && !encrypted && client.RemoteAddr().Network() != "unix":
			return nil, client, &startupError{"28000", "jolly larder takes only connections with TLS here",
				"Connect with sslmode=require, or set tls = \"offered\" in [origin.clients] of the larder's configuration."}
		case code>>16 == 3:
			return parseStartup(raw, client.RemoteAddr()), client, nil
		default:
			return &startup{raw: raw, other: true}, client, nil
		}
	}
}

// tlsHello says that a client has begun a TLS handshake, of which some bytes were read.
type tlsHello struct{ read []byte }

func (*tlsHello) Error() string { return "a TLS handshake" }

// prefixed is a connection of which some bytes were read already.
type prefixed struct {
	net.Conn
	read []byte
}

func (p *prefixed) Read(b []byte) (int, error) {
	if len(p.read) > 0 {
		n := copy(b, p.read)
		p.read = p.read[n:]
		return n, nil
	}
	return p.Conn.Read(b)
}

// NetConn gives the connection itself.
func (p *prefixed) NetConn() net.Conn { return p.Conn }

func readStartupMessage(r io.Reader) ([]byte, error) {
	head := make([]byte, 8)
	if _, err := io.ReadFull(r, head); err != nil {
		if err == io.ErrUnexpectedEOF {
			return nil, fmt.Errorf("the connection ended within the first message")
		}
		return nil, err
	}
	if head[0] == tlsRecord {
		return nil, &tlsHello{head}
	}
	n := binary.BigEndian.Uint32(head)
	if n < 8 || n > longestStartup {
		return nil, &startupError{
			"08P01",
			fmt.Sprintf(
				"jolly larder: the first message is no PostgreSQL start-up message: it says it is %d bytes long",
				n,
			),
			"",
		}
	}
	raw := make([]byte, n)
	copy(raw, head)
	if _, err := io.ReadFull(r, raw[8:]); err != nil {
		return nil, fmt.Errorf("the first message ended early: %w", err)
	}
	return raw, nil
}

// parseStartup picks out who the client is. What it does not understand it leaves to the origin.
func parseStartup(raw []byte, from net.Addr) *startup {
	s := &startup{raw: raw}
	if from != nil {
		s.identity.Address = from.String()
		if host, _, err := net.SplitHostPort(s.identity.Address); err == nil {
			s.identity.Address = host
		}
		if from.Network() == "unix" {
			s.identity.Address = "(local)"
		}
	}
	rest := raw[8:]
	for {
		key, after, ok := cstring(rest)
		if !ok || len(key) == 0 {
			break
		}
		value, after, ok := cstring(after)
		if !ok {
			break
		}
		rest = after
		switch string(key) {
		case "user":
			s.identity.User = string(value[:min(len(value), longestName)])
		case "database":
			s.identity.Database = string(value[:min(len(value), longestName)])
		case "application_name":
			s.identity.Application = string(value[:min(len(value), longestName)])
		case "replication":
			if on, ok := serversBool(value); ok {
				s.replication = on
			} else {
				s.replication = true // "database", or what the server refuses
			}
		}
	}
	if s.identity.Database == "" {
		s.identity.Database = s.identity.User
	}
	return s
}

// serversBool reads a truth value as the server does: a word, or the beginning of one that no other shares, in any
// case. Source: parse_bool_with_len in the server's bool.c.
func serversBool(b []byte) (value, ok bool) {
	word := strings.ToLower(string(b))
	switch {
	case word == "":
		return false, false
	case strings.HasPrefix("true", word), strings.HasPrefix("yes", word), word == "on", word == "1":
		return true, true
	case strings.HasPrefix("false", word), strings.HasPrefix("no", word), word == "of", word == "off", word == "0":
		return false, true
	}
	return false, false
}
