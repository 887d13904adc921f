package mysql

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
)

// A packet has a header of four bytes: the length of what follows, and its number within an exchange. One of the
// longest length is followed by another that belongs to it.
const (
	headerSize = 4
	fullPacket = 1<<24 - 1
)

// The first bytes of what a server sends.
const (
	markOK     = 0x00
	markMore   = 0x01 // of a login: more of the challenge
	markInfile = 0xfb // the client is to send a file
	markEOF    = 0xfe // and, of a login, another way to prove who it is
	markError  = 0xff
)

// The capabilities that the larder looks at. Source: the client/server protocol of MariaDB and MySQL.
const (
	capMySQL         = 1 << 0 // not set by MariaDB, which has further ones in another place
	capDatabase      = 1 << 3
	capCompress      = 1 << 5
	capProtocol41    = 1 << 9
	capTLS           = 1 << 11
	capSecure        = 1 << 15
	capPluginAuth    = 1 << 19
	capAttributes    = 1 << 20
	capLengthEncoded = 1 << 21
	capTrack         = 1 << 23
	capDeprecateEOF  = 1 << 24
	capOptionalMeta  = 1 << 25
	capZstd          = 1 << 26
	capQueryAttrs    = 1 << 27

	// MariaDB's own.
	extMulti         = 1 << 1
	extTypes         = 1 << 3 // columns are described with what their types are called
	extCacheMetadata = 1 << 4
)

// hidden are the capabilities that clients are not offered: compression, under which no packet can be followed, and
// those by which a reply, or a question, has another form than the usual one.
const (
	hidden    = capCompress | capZstd | capQueryAttrs | capOptionalMeta
	hiddenExt = extMulti | extCacheMetadata
)

// errProtocol is what is no packet of the protocol, or not the one that is due.
var errProtocol = errors.New("what came is not of the protocol")

// longestLogin is the longest packet of a login, in bytes.
const longestLogin = 1 << 16

// readPacket reads one packet of a login.
func readPacket(r io.Reader) (number byte, body []byte, err error) {
	var head [headerSize]byte
	if _, err := io.ReadFull(r, head[:]); err != nil {
		return 0, nil, err
	}
	n := int(head[0]) | int(head[1])<<8 | int(head[2])<<16
	if n > longestLogin {
		return 0, nil, fmt.Errorf("%w: a packet of %d bytes within a login", errProtocol, n)
	}
	body = make([]byte, n)
	if _, err := io.ReadFull(r, body); err != nil {
		if errors.Is(err, io.EOF) {
			err = io.ErrUnexpectedEOF
		}
		return 0, nil, err
	}
	return head[3], body, nil
}

// packet gives the bytes of a packet, which is no longer than a login's.
func packet(number byte, body []byte) []byte {
	n := len(body)
	return append([]byte{byte(n), byte(n >> 8), byte(n >> 16), number}, body...)
}

// errorPacket says to a client what is wrong. State has five characters.
func errorPacket(number byte, code uint16, state, message string) []byte {
	body := binary.LittleEndian.AppendUint16([]byte{markError}, code)
	return packet(number, append(append(append(body, '#'), state...), message...))
}

// word reads what ends with a zero byte.
func word(b []byte) (text, rest []byte, ok bool) {
	for i, c := range b {
		if c == 0 {
			return b[:i], b[i+1:], true
		}
	}
	return nil, nil, false
}
