// Package peer opens Unix sockets for their owner alone, and tells who is at the other end of one.
package peer

import (
	"net"
	"syscall"
)

// LongestPath is how many bytes a Unix socket's path may have, with room for what the system needs.
const LongestPath = 100

// Listen opens a socket for the process's own user, and root, alone.
func Listen(path string) (*net.UnixListener, error) {
	before := syscall.Umask(0o177) // it must never be open to others, not even for a moment
	defer syscall.Umask(before)
	return net.ListenUnix("unix", &net.UnixAddr{Name: path, Net: "unix"})
}

// User gives the operating system's user at the other end of a Unix socket. Source: unix(7), SO_PEERCRED.
func User(c *net.UnixConn) (uid int, ok bool) {
	uid, _, ok = Of(c)
	return uid, ok
}

// Of gives the operating system's user and the process at the other end of a Unix socket. Source: unix(7), SO_PEERCRED.
func Of(c *net.UnixConn) (uid, process int, ok bool) {
	rc, err := c.SyscallConn()
	if err != nil {
		return 0, 0, false
	}
	_ = rc.Control(func(fd uintptr) {
		if cred, err := syscall.GetsockoptUcred(int(fd), syscall.SOL_SOCKET, syscall.SO_PEERCRED); err == nil {
			uid, process, ok = int(cred.Uid), int(cred.Pid), true
		}
	})
	return uid, process, ok
}
