package postgres

import (
	"encoding/binary"
	"fmt"
	"io"
	"net"

	"jollylarder/internal/core/engine"
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

// startup is a client's first message that is to be passed on.
type startup struct {
	raw         []byte
	cancel      bool
	replication bool
	identity    engine.Identity
}

// readStartup reads up to the message that the origin is to see. Encryption is declined: the client goes on without,
// or ends.
func readStartup(client net.Conn) (*startup, error) {
	for {
		raw, err := readStartupMessage(client)
		if err != nil {
			return nil, err
		}
		code := binary.BigEndian.Uint32(raw[4:])
		switch {
		case code == codeTLS && len(raw) == 8, code == codeGSS && len(raw) == 8:
			if _, err := client.Write([]byte{'N'}); err != nil {
				return nil, err
			}
		case code == codeCancel:
			return &startup{raw: raw, cancel: true}, nil
		case code>>16 == 3:
			return parseStartup(raw, client.RemoteAddr()), nil
		default:
			return nil, fmt.Errorf("the client asks for protocol %d.%d; only version 3 is spoken", code>>16, code&0xffff)
		}
	}
}

func readStartupMessage(r io.Reader) ([]byte, error) {
	head := make([]byte, 8)
	if _, err := io.ReadFull(r, head); err != nil {
		if err == io.ErrUnexpectedEOF {
			return nil, fmt.Errorf("the connection ended within the first message")
		}
		return nil, err
	}
	n := binary.BigEndian.Uint32(head)
	if n < 8 || n > longestStartup {
		return nil, fmt.Errorf("the first message is no PostgreSQL start-up message: it says it is %d bytes long", n)
	}
	raw := make([]byte, n)
	copy(raw, head)
	if _, err := io.ReadFull(r, raw[8:]); err != nil {
		return nil, fmt.Errorf("the start-up message ended early: %w", err)
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
			s.identity.Application = string(value)
		case "replication":
			switch string(value) {
			case "false", "off", "no", "0":
			default:
				s.replication = true
			}
		}
	}
	if s.identity.Database == "" {
		s.identity.Database = s.identity.User
	}
	return s
}
