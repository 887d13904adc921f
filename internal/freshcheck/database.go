package freshcheck

import (
	"math/rand/v2"
	"net"

	"jollylarder/internal/core/engine"
	"jollylarder/internal/feed"
	"jollylarder/internal/protocol"
	"jollylarder/internal/wire/link"
)

// Database is a kind of database that the checker drives: its connections, its language, and how its bytes are framed.
// All else, who does what in which order and what is judged how, is the same for all of them.
type Database interface {
	// protocol is the one by which it is reached.
	protocol() *protocol.Protocol
	// create makes a database with a schema, and gives what takes it away. In the schema {db} stands for its name, as
	// local has it.
	create(address, name string, schema []string) (drop func(), err error)
	// connect connects to a database by a name that login tells the gate.
	connect(address, database, name string) (conn, error)
	// local fills in what is another for each database.
	local(sql, address, database string) string
	// world makes a random schema with statements, and generated one of random statements, which have something to do with
	// the features that are named.
	world(r *rand.Rand) *world
	generated(r *rand.Rand, features ...string) *world
	// plain says whether a statement leaves its session as it was when it connected.
	plain(sql string) bool
	// harmless is a statement that changes nothing and asks for nothing.
	harmless() string
	// forever are statements that end what would keep a database from being taken away.
	forever() []string
	// login relays what a connection begins with, up to the name of its client, and gives that.
	login(larder, server net.Conn) (name string, err error)
	// replies makes what counts in a server's bytes how often it says that it is at rest.
	replies() func(b []byte) (ready int)
	// account is what a larder reads the catalog with, or nil if clients' own connections do.
	account() *link.Account
	// follow makes what follows a database's changes, by a connection of its own, and tells an engine of them.
	follow(address, database string, to *engine.Engine) (f feed.Follower, err error)
	// unfollow takes away what follow has made. It is false while that is in use.
	unfollow(address, database string) bool
}

// conn is a connection of the checker's. It gives answers as text: rows, or what went wrong.
type conn interface {
	// ask asks in one of the modes.
	ask(sql string, mode int) string
	// fromMemory says whether the larder says of the last statement that it was answered from memory.
	fromMemory() bool
	// accepts says whether the database understands a statement. It is not run.
	accepts(sql string) bool
	// atRest says whether it is in no transaction.
	atRest() bool
	closed() bool
	close()
}

// The answers that are no rows begin with these words.
const (
	refused  = "error"
	locked   = "error: it is locked" // by another client, so that nothing can be said
	noAnswer = "no answer"
)

// modes are the ways of sending a statement. A protocol that has not all of them takes another for it.
var modes = []string{"as text", "in messages", "prepared", "with its values bound", "with its values bound in binary", "with its values bound as declared"}
