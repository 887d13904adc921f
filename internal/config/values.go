package config

import (
	"fmt"
	"net"
	"strconv"
	"strings"
	"time"
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

// units of sizes, the longer names first.
var units = []struct {
	name  string
	bytes int64
}{{"KiB", 1 << 10}, {"MiB", 1 << 20}, {"GiB", 1 << 30}, {"B", 1}}

// ParseSize reads a number of bytes with its unit.
func ParseSize(s string) (int64, error) {
	for _, u := range units {
		if number, ok := strings.CutSuffix(s, u.name); ok {
			n, err := strconv.ParseInt(strings.TrimSpace(number), 10, 64)
			if err == nil && n >= 0 && n <= 1<<50/u.bytes {
				return n * u.bytes, nil
			}
			break
		}
	}
	return 0, fmt.Errorf(`%q: expected a number with a unit, such as "64KiB", "256MiB" or "2GiB"`, s)
}

func (r *reader) size(key string, from *string, to *int64, least int64) {
	if from == nil {
		return
	}
	n, err := ParseSize(*from)
	switch {
	case err != nil:
		r.wrong(key, "%s = %v", last(key), err)
	case n < least:
		r.wrong(key, "%s = %q: expected at least %d bytes", last(key), *from, least)
	}
	*to = n
}
