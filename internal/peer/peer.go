// Package peer tells who is at the other end of a Unix socket.
package peer

import (
	"net"
	"syscall"
)

// User gives the operating system's user at the other end of a Unix socket. Source: unix(7), SO_PEERCRED.
func User(c *net.UnixConn) (uid int, ok bool) {
	rc, err := c.SyscallConn()
	if err != nil {
		return 0, false
	}
	_ = rc.Control(func(fd uintptr) {
		if cred, err := syscall.GetsockoptUcred(int(fd), syscall.SOL_SOCKET, syscall.SO_PEERCRED); err == nil {
			uid, ok = int(cred.Uid), true
		}
	})
	return uid, ok
}
