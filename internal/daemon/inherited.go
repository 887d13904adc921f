package daemon

import (
	"fmt"
	"net"
	"strings"

	"github.com/coreos/go-systemd/v22/activation"

	"jollylarder/internal/config"
)

// inherited are listening sockets that whoever started the process has opened for it, and goes on to hold: clients that
// connect while no larder runs wait there for the next.
type inherited []net.Listener

// Inherit takes the sockets that systemd has opened for the process, if it has. It is to be called once.
func Inherit() ([]net.Listener, error) {
	list, err := activation.Listeners()
	if err != nil {
		return nil, fmt.Errorf("taking over the sockets that the service manager has opened: %w", err)
	}
	for i, ln := range list {
		if ln == nil {
			return nil, fmt.Errorf("socket %d that the service manager has opened is none that clients connect to: use ListenStream= in the socket unit", i+1)
		}
	}
	return list, nil
}

// take gives the socket at an address, or nil if there is none.
func (s *inherited) take(address string) net.Listener {
	for i, ln := range *s {
		if sameAddress(ln.Addr(), address) {
			*s = append((*s)[:i:i], (*s)[i+1:]...)
			return ln
		}
	}
	return nil
}

// rest closes what nobody has taken, and says what that was.
func (s *inherited) rest() error {
	var addresses []string
	for _, ln := range *s {
		addresses = append(addresses, ln.Addr().String())
		ln.Close()
	}
	*s = nil
	if len(addresses) == 0 {
		return nil
	}
	return fmt.Errorf("the service manager has opened %s, where no origin listens: use the same addresses in ListenStream= of the socket unit and in listen of the configuration", strings.Join(addresses, " and "))
}

// sameAddress says whether a socket is what would be opened at an address.
func sameAddress(have net.Addr, address string) bool {
	if config.IsPath(address) {
		return have.Network() == "unix" && have.String() == address
	}
	tcp, ok := have.(*net.TCPAddr)
	if !ok {
		return false
	}
	host, port, err := net.SplitHostPort(address)
	if err != nil {
		return false
	}
	if n, err := net.LookupPort("tcp", port); err != nil || n != tcp.Port {
		return false
	}
	if host == "" {
		return tcp.IP.IsUnspecified()
	}
	ips, err := net.LookupIP(host)
	if err != nil {
		return false
	}
	for _, ip := range ips {
		if ip.Equal(tcp.IP) || ip.IsUnspecified() && tcp.IP.IsUnspecified() {
			return true
		}
	}
	return false
}
