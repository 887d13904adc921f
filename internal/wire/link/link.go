package link

import (
	"context"
	"log/slog"
	"net"
	"time"

	"jollylarder/internal/core/engine"
)

// Server accepts clients and gives each a connection of its own to the origin.
type Server interface {
	// Configure puts settings in force for those who connect from now on.
	Configure(Settings)
	// Serve accepts clients until the listener is closed.
	Serve(net.Listener) error
	// Clients is how many clients are connected.
	Clients() int
	// Reach gives an error if the origin cannot be reached. It may connect to it.
	Reach(context.Context) error
	// EndIdle ends the connections that have been idle for longer than the settings allow. It is to be called from time
	// to time.
	EndIdle()
	// Drain ends connections as they come to rest: those that are idle at once, busy ones when they have finished. It
	// returns when all have ended, or the context has. Nobody is to be accepted any more.
	Drain(context.Context)
	// Close ends all connections and waits until they have.
	Close()
}

// Options are what a Server is made of.
type Options struct {
	// Engine decides. Required.
	Engine *engine.Engine
	// Name tells the origin apart from others that the engine decides for; empty if there is only one.
	Name string
	// Origin is the database's address, as host:port or the path of a Unix socket. Required.
	Origin string
	// Dial opens a connection to the origin; nil means TCP or a Unix socket, as the address says.
	Dial func(ctx context.Context, address string) (net.Conn, error)
	// Now gives the time; nil means a clock that never goes back.
	Now func() time.Time
	// Log receives what goes wrong; nil means slog.Default.
	Log *slog.Logger
}

// Network gives the kind of an address: "unix" for a path, else "tcp".
func Network(address string) string {
	if len(address) > 0 && (address[0] == '/' || address[0] == '@' || address[0] == '.') {
		return "unix"
	}
	return "tcp"
}
