package config

import (
	"fmt"
	"net"
	"strconv"
	"strings"
	"time"

	"jollylarder/internal/core/bytesize"
)

// IsPath says whether an address is the path of a Unix socket.
func IsPath(address string) bool {
	return strings.HasPrefix(address, "/") || strings.HasPrefix(address, "./") || strings.HasPrefix(address, "../")
}

// CheckAddress says what is wrong with an address.
func CheckAddress(address string) error {
	if IsPath(address) {
		if len(address) > 100 {
			return fmt.Errorf("%q is too long for a Unix socket's path: at most 100 bytes", address)
		}
		return nil
	}
	_, port, err := net.SplitHostPort(address)
	if err == nil {
		_, err = strconv.ParseUint(port, 10, 16)
	}
	if err != nil {
		return fmt.Errorf(
			"%q is no address: expected host:port, such as 127.0.0.1:5432, or the path of a Unix socket, such as /run/postgresql/.s.PGSQL.5432",
			address,
		)
	}
	return nil
}

func (r *reader) address(key string, from *string, to *string) {
	if from == nil {
		return
	}
	if err := CheckAddress(*from); err != nil {
		r.wrong(key, "%s: %v", last(key), err)
	}
	*to = *from
}

func (r *reader) duration(key string, from *string, to *time.Duration) {
	if from == nil {
		return
	}
	d, err := time.ParseDuration(*from)
	if err != nil || d < 0 || d > 24*time.Hour {
		r.wrong(key, `%s = %q: expected a time from "0s" to "24h", such as "500ms", "30s" or "5m"`, last(key), *from)
	}
	*to = d
}

func (r *reader) size(key string, from *string, to *int64, least int64) {
	if from == nil {
		return
	}
	n, err := bytesize.Parse(*from)
	switch {
	case err != nil:
		r.wrong(key, "%s = %v", last(key), err)
	case n < least:
		r.wrong(key, "%s = %q: expected at least %d bytes", last(key), *from, least)
	}
	*to = n
}

// ownAddress gives the address among those listened on to which another leads, or "".
func ownAddress(address string, listen []string) string {
	for _, own := range listen {
		if address == own {
			return own
		}
		if IsPath(address) || IsPath(own) {
			continue
		}
		host, port, err := net.SplitHostPort(address)
		ownHost, ownPort, err2 := net.SplitHostPort(own)
		if err != nil || err2 != nil || port != ownPort || port == "0" {
			continue
		}
		if leadsTo(host, ownHost) {
			return own
		}
	}
	return ""
}

// leadsTo says whether a host is an address of this machine that is listened on. Names other than localhost are not
// looked up: that is for the connection to find out.
func leadsTo(host, listens string) bool {
	loops := func(h string) bool { ip := net.ParseIP(h); return h == "localhost" || ip != nil && ip.IsLoopback() }
	everywhere := func(h string) bool { ip := net.ParseIP(h); return h == "" || ip != nil && ip.IsUnspecified() }
	switch {
	case strings.EqualFold(host, listens),
		loops(host) && loops(listens),
		everywhere(host) && (loops(listens) || everywhere(listens)):
		return true
	case !everywhere(listens):
		return false
	case loops(host):
		return true
	}
	ip := net.ParseIP(host)
	addresses, err := net.InterfaceAddrs()
	if ip == nil || err != nil {
		return false
	}
	for _, a := range addresses {
		if n, ok := a.(*net.IPNet); ok && n.IP.Equal(ip) {
			return true
		}
	}
	return false
}

// LeadsBack says what is wrong with origins of which one is the larder itself, also those that no file names.
func LeadsBack(c Config) error {
	for _, o := range c.Origins {
		for _, other := range c.Origins {
			if own := ownAddress(o.Address, other.Listen); own != "" {
				return fmt.Errorf(
					"the origin %s is where this larder itself listens (%s), so that every connection would come back to it: expected the database's address",
					o.Address,
					own,
				)
			}
		}
	}
	return nil
}
