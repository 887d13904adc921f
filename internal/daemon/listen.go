package daemon

import (
	"fmt"
	"net"
	"os"
	"path/filepath"
	"time"

	"golang.org/x/sys/unix"

	"jollylarder/internal/config"
	"jollylarder/internal/lock"
)

// listen opens a listener for clients. A Unix socket is for everybody who can reach it, as a database's is: the
// directory it lies in says who that is. One left over by a larder that is gone is replaced.
func listen(address string) (net.Listener, error) {
	if !config.IsPath(address) {
		return net.Listen("tcp", address)
	}
	// Of two larders that start at the same moment only one may replace what is left over.
	release, err := lock.File(besideSocket(address))
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

// besideSocket is the path of a Unix socket's lock. A database's own has another name.
func besideSocket(address string) string { return address + ".larder-lock" }

// leftOver says whether a socket that nobody listens on lies at a path. The error says what else is there.
func leftOver(path string) (bool, error) {
	if c, err := net.DialTimeout("unix", path, time.Second); err == nil {
		c.Close()
		return false, fmt.Errorf("%s: another program listens on it; stop it", path)
	}
	info, err := os.Lstat(path)
	switch {
	case err != nil:
		return false, nil
	case info.Mode()&os.ModeSocket == 0:
		return false, fmt.Errorf("%s: a file of that name is there; remove it", path)
	}
	return true, nil
}

// vacant gives an error if nothing can listen at an address, and leaves nothing there.
func vacant(address string) error {
	if !config.IsPath(address) {
		ln, err := net.Listen("tcp", address)
		if err == nil {
			ln.Close()
		}
		return err
	}
	if _, err := leftOver(address); err != nil {
		return err
	}
	if err := unix.Access(filepath.Dir(address), unix.W_OK|unix.X_OK); err != nil {
		return fmt.Errorf("making a socket in %s: %w", filepath.Dir(address), err)
	}
	return nil
}

func listenUnix(address string) (net.Listener, error) {
	left, err := leftOver(address)
	if err == nil && left {
		err = os.Remove(address)
	}
	if err != nil {
		return nil, err
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
