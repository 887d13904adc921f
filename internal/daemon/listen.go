package daemon

import (
	"fmt"
	"net"
	"os"
	"time"

	"jollylarder/internal/config"
)

// listen opens a listener for clients. A Unix socket is for everybody who can reach it, as a database's is: the
// directory it lies in says who that is. One left over by a larder that is gone is replaced.
func listen(address string) (net.Listener, error) {
	if !config.IsPath(address) {
		return net.Listen("tcp", address)
	}
	if c, err := net.DialTimeout("unix", address, time.Second); err == nil {
		c.Close()
		return nil, fmt.Errorf("%s: another program listens on it", address)
	}
	if info, err := os.Lstat(address); err == nil {
		if info.Mode()&os.ModeSocket == 0 {
			return nil, fmt.Errorf("%s: a file of that name is there", address)
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
