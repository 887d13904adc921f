package mysql

import (
	"encoding/binary"
	"net"

	"jollylarder/internal/wire/socket"
)

// proxyHeader is what tells the origin from where a client has come, in the second version of the PROXY protocol. A
// client without an address, as over a Unix socket, is the larder's own.
func proxyHeader(client net.Conn) []byte {
	const (
		signature = "\r\n\r\n\x00\r\nQUIT\n"
		local     = 0x20
		proxied   = 0x21
		tcp4      = 0x11
		tcp6      = 0x21
	)
	head := func(command, family byte, body []byte) []byte {
		b := append([]byte(signature), command, family)
		return append(binary.BigEndian.AppendUint16(b, uint16(len(body))), body...)
	}
	c, ok := socket.Under(client).(*net.TCPConn)
	if !ok {
		return head(local, 0, nil)
	}
	from, to := c.RemoteAddr().(*net.TCPAddr).AddrPort(), c.LocalAddr().(*net.TCPAddr).AddrPort()
	family, a, b := byte(tcp4), from.Addr().Unmap(), to.Addr().Unmap()
	if !a.Is4() || !b.Is4() {
		family = tcp6
	}
	var body []byte
	for _, x := range []interface {
		Is4() bool
		As16() [16]byte
		AsSlice() []byte
	}{a, b} {
		if family == tcp6 {
			long := x.As16()
			body = append(body, long[:]...)
		} else {
			body = append(body, x.AsSlice()...)
		}
	}
	body = binary.BigEndian.AppendUint16(body, from.Port())
	return head(proxied, family, binary.BigEndian.AppendUint16(body, to.Port()))
}
