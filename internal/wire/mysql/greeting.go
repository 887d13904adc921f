package mysql

import (
	"encoding/binary"
	"fmt"

	dialect "jollylarder/internal/core/dialect/mysql"
)

// greeting is the first packet of a server.
type greeting struct {
	version string
	thread  uint32
	caps    uint32
	ext     uint32 // MariaDB's own capabilities
	charset byte
	status  uint16
	nonce   []byte // what a password is proved with; 20 bytes and perhaps a zero
	plugin  string
}

// parseGreeting reads one. Source: Protocol::HandshakeV10.
func parseGreeting(b []byte) (*greeting, error) {
	if len(b) == 0 || b[0] != 10 {
		return nil, fmt.Errorf("%w: the server's first packet is not of version 10 of the protocol", errProtocol)
	}
	version, b, ok := word(b[1:])
	const fixed = 4 + 8 + 1 + 2 + 1 + 2 + 2 + 1 + 10
	if !ok || len(b) < fixed {
		return nil, fmt.Errorf("%w: the server's first packet ends early", errProtocol)
	}
	g := &greeting{version: string(version), thread: binary.LittleEndian.Uint32(b)}
	g.nonce = append(g.nonce, b[4:12]...)
	g.caps = uint32(binary.LittleEndian.Uint16(b[13:])) | uint32(binary.LittleEndian.Uint16(b[18:]))<<16
	g.charset, g.status = b[15], binary.LittleEndian.Uint16(b[16:])
	length := int(b[20])
	if g.caps&capMySQL == 0 {
		g.ext = binary.LittleEndian.Uint32(b[27:])
	}
	b = b[fixed:]
	if g.caps&capSecure != 0 {
		n := min(max(13, length-8), len(b))
		g.nonce = append(g.nonce, b[:n]...)
		b = b[n:]
	}
	if g.caps&capPluginAuth != 0 {
		plugin, _, ok := word(b)
		if !ok {
			plugin = b // some servers leave the zero out
		}
		g.plugin = string(plugin)
	}
	return g, nil
}

// bytes writes it.
func (g *greeting) bytes() []byte {
	b := append(append([]byte{10}, g.version...), 0)
	b = binary.LittleEndian.AppendUint32(b, g.thread)
	b = append(append(b, g.nonce[:8]...), 0)
	b = binary.LittleEndian.AppendUint16(b, uint16(g.caps))
	b = binary.LittleEndian.AppendUint16(append(b, g.charset), g.status)
	b = binary.LittleEndian.AppendUint16(b, uint16(g.caps>>16))
	length := 0
	if g.caps&capPluginAuth != 0 {
		length = len(g.nonce)
	}
	b = append(append(b, byte(length)), make([]byte, 6)...)
	b = binary.LittleEndian.AppendUint32(b, g.ext)
	if g.caps&capSecure != 0 {
		b = append(b, g.nonce[8:]...)
	}
	if g.caps&capPluginAuth != 0 {
		b = append(append(b, g.plugin...), 0)
	}
	return b
}

// offered gives the greeting as clients see it.
func (g greeting) offered(tls bool) *greeting {
	g.caps &^= hidden | capTLS
	g.ext &^= hiddenExt
	if tls {
		g.caps |= capTLS
	}
	return &g
}

// introduction is the first packet of a client that says who it is.
type introduction struct {
	raw        []byte
	caps       uint32
	charset    byte
	user       string
	proof      []byte
	database   string
	plugin     string
	attributes map[string]string // what the client says of itself
}

// introFixed is how many bytes stand before the user; a request for TLS has no others.
const introFixed = 32

// parseIntroduction reads one. Source: Protocol::HandshakeResponse41.
func parseIntroduction(b []byte) (*introduction, error) {
	if len(b) < introFixed {
		return nil, fmt.Errorf("%w: the client's first packet ends early", errProtocol)
	}
	i := &introduction{raw: b, caps: binary.LittleEndian.Uint32(b), charset: b[8]}
	if i.caps&capProtocol41 == 0 {
		return nil, fmt.Errorf("%w: the client speaks the protocol of before MySQL 4.1", errProtocol)
	}
	user, rest, ok := word(b[introFixed:])
	if !ok {
		return nil, fmt.Errorf("%w: the client's first packet names no user", errProtocol)
	}
	i.user = string(user)
	switch {
	case i.caps&capLengthEncoded != 0:
		n, behind, ok := dialect.Number(rest)
		if !ok || n > uint64(len(behind)) {
			return nil, fmt.Errorf("%w: the client's proof ends early", errProtocol)
		}
		i.proof, rest = behind[:n], behind[n:]
	case i.caps&capSecure != 0:
		if len(rest) == 0 || int(rest[0]) > len(rest)-1 {
			return nil, fmt.Errorf("%w: the client's proof ends early", errProtocol)
		}
		i.proof, rest = rest[1:1+int(rest[0])], rest[1+int(rest[0]):]
	default:
		if i.proof, rest, ok = word(rest); !ok {
			return nil, fmt.Errorf("%w: the client's proof ends early", errProtocol)
		}
	}
	if i.caps&capDatabase != 0 {
		if name, behind, ok := word(rest); ok {
			i.database, rest = string(name), behind
		}
	}
	if i.caps&capPluginAuth != 0 {
		if name, behind, ok := word(rest); ok {
			i.plugin, rest = string(name), behind
		}
	}
	if i.caps&capAttributes != 0 {
		i.attributes = attributes(rest)
	}
	return i, nil
}

// attributes reads what a client says of itself, as far as it is well-formed.
func attributes(b []byte) map[string]string {
	out := map[string]string{}
	if n, rest, ok := dialect.Number(b); ok && n <= uint64(len(rest)) {
		b = rest[:n]
	}
	for {
		key, rest, ok := dialect.Counted(b)
		if !ok {
			return out
		}
		value, rest, ok := dialect.Counted(rest)
		if !ok {
			return out
		}
		out[string(key)] = string(value)
		b = rest
	}
}

// toOrigin gives the packet with the capabilities that it was offered by the larder and no others, and with TLS as it is
// between the two.
func (i *introduction) toOrigin(tls bool) []byte {
	b := append([]byte{}, i.raw...)
	caps := i.caps &^ (hidden | capTLS)
	if tls {
		caps |= capTLS
	}
	binary.LittleEndian.PutUint32(b, caps)
	if caps&capMySQL == 0 {
		binary.LittleEndian.PutUint32(b[28:], binary.LittleEndian.Uint32(b[28:])&^hiddenExt)
	}
	return b
}
