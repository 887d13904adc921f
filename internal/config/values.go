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
		return fmt.Errorf("%q is no address: expected host:port, such as 127.0.0.1:5432, or the path of a Unix socket, such as /run/postgresql/.s.PGSQL.5432", address)
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
