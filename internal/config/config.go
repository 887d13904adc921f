// Package config reads larder.toml: what a larder listens on, what it stands before, and its limits.
package config

import (
	"crypto/tls"
	"time"
)

// Config is what a configuration says, with the defaults filled in.
type Config struct {
	// Rules is the rules file's path; empty means that rules are not kept.
	Rules string
	// Control is the path of the control socket; empty means none.
	Control string
	// Memory is the limit for kept results, and LargestResult for one of them, in bytes.
	Memory, LargestResult int64
	// DrainTime is how long busy clients may go on when the larder is told to end.
	DrainTime time.Duration
	// Profile is the address for Go's profiler; empty means none.
	Profile string
	Log     Log
	// Origins are the databases it stands before: at least one.
	Origins []Origin
}

// Log says what is logged and how.
type Log struct {
	// Level is debug, info, warn or error.
	Level string
	// Format is text or json.
	Format string
}

// Origin is one database server, and how clients reach it.
type Origin struct {
	// Name tells it apart in results, numbers and logs; it may be empty if there is only one.
	Name string
	// Address is host:port, or the path of a Unix socket.
	Address string
	// Listen are the addresses for clients: host:port, or paths of Unix sockets.
	Listen []string

	// Connections is how many clients may be connected at once; 0 means any number.
	Connections                                int
	StartTime, ConnectTime, IdleTime, LostTime time.Duration
	// LargestMessage is the longest message taken from a client, in bytes.
	LargestMessage int64
	// UnchallengedLogins is same-host, anybody or nobody.
	UnchallengedLogins string

	TLS     OriginTLS
	Clients ClientTLS
}

// OriginTLS is how the larder connects to the database. Paths are those of PEM files.
type OriginTLS struct {
	// Mode is disable, require, verify-ca or verify-full.
	Mode string
	// CA holds the authorities trusted; empty means the system's.
	CA string
	// Certificate and Key are shown to a database that asks for a certificate.
	Certificate, Key string
	// Host is the name that the database's certificate must bear; empty means that in Address.
	Host string
}

// ClientTLS is how clients connect to the larder. Paths are those of PEM files.
type ClientTLS struct {
	// TLS is off, offered or required.
	TLS              string
	Certificate, Key string
	// Minimum is the oldest version of TLS that is spoken.
	Minimum uint16
	// CA holds the authorities whose certificates clients must show; empty means that none is asked for.
	CA string
}

// Default is a configuration before one origin, to which addresses are to be added.
func Default() Config {
	return Config{
		Memory: 256 << 20, LargestResult: 1 << 20, DrainTime: 30 * time.Second,
		Log:     Log{Level: "info", Format: "text"},
		Origins: []Origin{defaultOrigin()},
	}
}

func defaultOrigin() Origin {
	return Origin{
		StartTime: 30 * time.Second, ConnectTime: 30 * time.Second, LostTime: time.Minute,
		LargestMessage: 1 << 30, UnchallengedLogins: "same-host",
		TLS: OriginTLS{Mode: "disable"}, Clients: ClientTLS{TLS: "off", Minimum: tls.VersionTLS12},
	}
}

// Before gives the default configuration of a larder before one origin.
func Before(origin, listen string) Config {
	c := Default()
	c.Origins[0].Address = origin
	c.Origins[0].Listen = []string{listen}
	return c
}
