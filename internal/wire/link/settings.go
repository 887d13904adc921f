// Package link holds what is common to all protocols of how a larder stands between clients and one origin.
package link

import (
	"crypto/tls"
	"time"
)

// Settings are what may change while clients are connected. Each connection keeps those that were in force when it
// began, but for the times that an idle one is ended by.
type Settings struct {
	// ClientTLS is for connections from clients; nil means that none is offered. RequireTLS refuses those without it,
	// but over a Unix socket.
	ClientTLS  *tls.Config
	RequireTLS bool
	// OriginTLS is for connections to the origin, as by func TLS; nil means none.
	OriginTLS *tls.Config
	// ProxyHeader has the origin told where each client comes from, by a header of the PROXY protocol.
	ProxyHeader bool
	// Catalog is the account by which catalogs are read; nil means over a client's own connection.
	Catalog *Account
	// Fetch is the account by which results are fetched ahead; nil means that none are.
	Fetch *Account
	// Unchallenged says who is let in when the origin asks for no proof; empty means SameHost.
	Unchallenged Unchallenged
	// MaxConnections is how many clients may be connected at once; 0 means any number.
	MaxConnections int
	// StartupTimeout bounds the time from accepting a client to its first message, TLS included; 0 means 30 s.
	StartupTimeout time.Duration
	// ConnectTimeout bounds connecting to the origin; 0 means 30 s.
	ConnectTimeout time.Duration
	// IdleTimeout is after how long a client that is in no transaction and asks for nothing is sent away; 0 means never.
	IdleTimeout time.Duration
	// LostTimeout bounds how long a write is waited for after its client has gone; 0 means 60 s.
	LostTimeout time.Duration
	// BeginDelay is how long a BEGIN that the larder has answered is kept from the origin at most while nothing of its
	// transaction needs the origin; 0 means 50 ms, and less than that never.
	BeginDelay time.Duration
	// MaxMessageSize is the longest message taken from a client, in bytes; 0 means 1 GiB.
	MaxMessageSize int
}

// WithDefaults gives the settings with what is not set.
func (s Settings) WithDefaults() *Settings {
	orDefault := func(d *time.Duration, otherwise time.Duration) {
		if *d == 0 {
			*d = otherwise
		}
	}
	orDefault(&s.StartupTimeout, 30*time.Second)
	orDefault(&s.ConnectTimeout, 30*time.Second)
	orDefault(&s.LostTimeout, time.Minute)
	orDefault(&s.BeginDelay, 50*time.Millisecond)
	if s.MaxMessageSize == 0 {
		s.MaxMessageSize = 1<<30 + 1
	}
	if s.Unchallenged == "" {
		s.Unchallenged = SameHost
	}
	return &s
}

// Account is a login of the larder's own.
type Account struct {
	User, Password string
}

// Unchallenged says which clients are let in when the origin asks for no proof of who they are.
type Unchallenged string

const (
	// SameHost lets in those who would have been as close to the origin without the larder: over TCP from the
	// larder's own host; over a Unix socket as the larder's own user, where the origin is reached over one too. If the
	// larder shows the origin a certificate, the client must have shown one to the larder that names its user.
	SameHost Unchallenged = "same-host"
	// Anybody lets in everybody.
	Anybody Unchallenged = "anybody"
	// Nobody lets in nobody.
	Nobody Unchallenged = "nobody"
)

// PlanQuestion asks how a database runs the statements of a pattern, whose text Text is; Schemas are where its names are
// looked up.
type PlanQuestion struct {
	Database string
	Schemas  []string
	Text     string
}
