package daemon

import (
	"fmt"
	"net"
	"os"
	"time"

	"jollylarder/internal/config"
	"jollylarder/internal/lock"
)

// listen opens a listener for clients. A Unix socket is for everybody who can reach it, as a database's is: the
// directory it lies in says who that is. One left over by a larder that is gone is replaced.
func listen(address string) (net.Listener, error) {
	if !config.IsPath(address) {
		return net.Listen("tcp", address)
	}
	// Of two larders that start at the same moment only one may replace what is left over. A database's own lock has
	// another name.
	release, err := lock.File(address + ".larder-lock")
	if err != nil {
		return nil, err
	}
	l, err := listenUnix(address)
	if err != nil {
		release()
		return nil, err
	}
	return lock.Until(l, release), nil
}

func listenUnix(address string) (net.Listener, error) {
	if c, err := net.DialTimeout("unix", address, time.Second); err == nil {
		c.Close()
		return nil, fmt.Errorf("%s: another program listens on it; stop it", address)
	}
	if info, err := os.Lstat(address); err == nil {
		if info.Mode()&os.ModeSocket == 0 {
			return nil, fmt.Errorf("%s: a file of that name is there; remove it", address)
		}
		if err := os.Remove(address); err != nil {
			return nil, err
		}
	}
	l, err := net.Listen("unix", address)
	if err != nil {
		return nil, err
	}
	if err := os.Chmod(address, 0o777); err != nil {
		l.Close()
		return nil, err
	}
	return l, nil
}
