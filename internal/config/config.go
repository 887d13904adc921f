// Package config reads larder.toml: what a larder listens on, what it stands before, and its limits.
package config

import (
	"crypto/tls"
	"time"

	"jollylarder/internal/protocol"
)

// Config is what a configuration says, with the defaults filled in.
type Config struct {
	// Rules is the rules file's path; empty means that rules are not kept.
	Rules string
	// FollowRules has a rules file taken over as soon as somebody edits it.
	FollowRules bool
	// State is the directory for what is remembered beyond the end; empty means that nothing is.
	State string
	// Control is the path of the control socket; empty means none.
	Control string
	// ControlTCP opens the control API on TCP as well, if it has an address.
	ControlTCP ControlTCP
	// Memory is the limit for kept results, and MaxResultSize for one of them, in bytes.
	Memory, MaxResultSize int64
	// Warnings are what is allowed and hardly meant.
	Warnings []string
	// Overhead is the limit in bytes for everything that is kept beside results.
	Overhead int64
	// DrainTimeout is how long busy clients may go on when the larder is told to end.
	DrainTimeout time.Duration
	// HandoverTimeout is how long busy clients may go on when another larder has taken over.
	HandoverTimeout time.Duration
	// KeepWarm has a larder that takes over fetch what was asked for most.
	KeepWarm bool
	// ShowValues lets those who may use the control socket see the literals and parameters of live statements.
	ShowValues bool
	// StoreValues lets inputs be remembered in State, to be fetched at the start.
	StoreValues bool
	// Profile is the address for Go's profiler; empty means none.
	Profile string
	// Metrics is the address where metrics are exposed; empty means nowhere.
	Metrics string
	Log     Log
	// Origins are the databases it stands before: at least one.
	Origins []Origin
}

// ControlTCP is the control API over TLS. Paths are those of files.
type ControlTCP struct {
	Listen, Certificate, Key, TokenFile string
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
	// Protocol is the name of the one that it speaks.
	Protocol string
	// Address is host:port, or the path of a Unix socket.
	Address string
	// Listen are the addresses for clients: host:port, or paths of Unix sockets.
	Listen []string

	// Connections is how many clients may be connected at once; 0 means any number.
	Connections                                              int
	StartupTimeout, ConnectTimeout, IdleTimeout, LostTimeout time.Duration
	// ProxyHeader has the origin told where each client comes from.
	ProxyHeader bool
	// BeginDelay is how long a BEGIN is kept from the origin at most while nothing needs it there; 0 means never.
	BeginDelay time.Duration
	// MaxMessageSize is the longest message taken from a client, in bytes.
	MaxMessageSize int64
	// UnchallengedLogins is same-host, anybody or nobody.
	UnchallengedLogins string

	TLS     OriginTLS
	Clients ClientTLS
	// CatalogUser is the account by which catalogs are read, and CatalogPassword the path of the file with its
	// password, which may be empty; without a user they are read over clients' own connections.
	CatalogUser, CatalogPassword string
	// FetchUser and FetchPassword are the same for fetching ahead; without a user nothing is.
	FetchUser, FetchPassword string
	// Feed is how changes around the larder are followed.
	Feed Feed
}

// Feed is how changes around the larder are followed; without a user they are not.
type Feed struct {
	User, Password string
	// Databases are those followed, and Mode is stream or poll.
	Databases []string
	Mode      string
	// Slot and Publication are as jollylarder feed setup makes them; an empty Slot means its usual name.
	Slot, Publication string
	// MaxSlotSize is how many bytes of its log the server may hold back.
	MaxSlotSize int64
	PollEvery   time.Duration
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
		Memory: 256 << 20, Overhead: 256 << 20, MaxResultSize: 1 << 20, DrainTimeout: 30 * time.Second, HandoverTimeout: 10 * time.Minute,
		Log:     Log{Level: "info", Format: "text"},
		Origins: []Origin{defaultOrigin()},
	}
}

func defaultOrigin() Origin {
	return Origin{
		Protocol: protocol.All[0].Name, StartupTimeout: 30 * time.Second, ConnectTimeout: 30 * time.Second, LostTimeout: time.Minute,
		BeginDelay: 50 * time.Millisecond, MaxMessageSize: 1 << 30, UnchallengedLogins: "same-host",
		Feed: Feed{Mode: "stream", Publication: "jolly_larder", MaxSlotSize: 1 << 30, PollEvery: time.Second},
		TLS:  OriginTLS{Mode: "disable"}, Clients: ClientTLS{TLS: "off", Minimum: tls.VersionTLS12},
	}
}

// Before gives the default configuration of a larder before one origin.
func Before(origin, listen string) Config {
	c := Default()
	c.Origins[0].Address = origin
	c.Origins[0].Listen = []string{listen}
	return c
}
