// Package protocoltest is what every protocol has to pass. It holds a larder before a real server against that server
// itself: what clients receive must be the same bytes, whatever they send, and nobody may be given an old answer.
//
// It is written against the table of protocols, and knows no bytes of any: a Subject says how to log in and to ask.
// Each of its checks gives an error that says what differs, so that a test can show that it would be found.
package protocoltest

import (
	"net"
	"testing"
	"time"

	"pgregory.net/rapid"

	"jollylarder/internal/protocol"
	"jollylarder/internal/wire/link"
)

// Subject is a protocol that is to be tested, and a real server that speaks it.
type Subject struct {
	Protocol *protocol.Protocol
	// Address is the server's.
	Address string
	// Settings are those of the larder, beside whom it lets in.
	Settings link.Settings
	// CatalogAge is how old a catalog may be; 0 is the usual. It matters where databases that are made directly are of one
	// catalog.
	CatalogAge time.Duration
	// Database makes a database that only this call gets, without any table, and gives its name. It is nobody's
	// afterwards.
	Database func(t testing.TB) string
	// Login logs a client in over a connection that was just made, and gives its session when the server is at rest.
	Login func(c net.Conn, database string) (Session, error)
	SQL   SQL
	// Conversations are what clients say that no other part of the kit would think of.
	Conversations []Conversation
	// Any draws what a client may send next, whether it makes sense or not; nil leaves such sequences out. Opening is sent
	// before them; Closing ends whatever they have begun, and its reply holds TheEnd.
	Any              func(t *rapid.T) []byte
	Opening, Closing []byte
	// Alike makes one of what a server may answer in more ways than one; nil if there is no such thing.
	Alike func(received string) string
	// Elsewhere makes one of what differs between two databases that were made alike, such as the numbers of tables; nil
	// if nothing does.
	Elsewhere func(received string) string
}

// TheEnd is what the reply to a subject's Closing holds, and no other.
const TheEnd = "the very end"

// Session is one client's. What it gives is all that was received, as text: a message a line, without what differs from
// one connection to another, such as process numbers.
type Session interface {
	// Ask asks a statement as text, and receives until the server is at rest.
	Ask(sql string) (received string, err error)
	// Bound asks a statement with values in the form that the protocol has for them.
	Bound(sql string, values ...string) (received string, err error)
	// Hear receives until the server has been at rest once more, or what was received holds a text.
	Hear(until string) (received string, err error)
	// Query gives the bytes by which Ask asks.
	Query(sql string) []byte
	// Cancel has the statement that is running ended, as the protocol's clients do. Dial connects to the same address.
	Cancel(dial func() (net.Conn, error)) error
}

// SQL are the statements that the kit asks, in the subject's own language. They speak of one table of some numbered rows
// with a value each.
type SQL struct {
	// Restore makes the table anew, whatever has become of it.
	Restore []string
	// Rows is how many rows there are, numbered from 1, which are their values at first, too.
	Rows int
	// Read reads one row, and ReadBound is the same with a parameter in the place of its number.
	Read      func(row int) string
	ReadBound string
	// ReadAll reads all of them, in the order of their numbers.
	ReadAll string
	// Write gives a row a value, and WriteBound is the same with parameters in the places of both, in their order.
	Write      func(row, value int) string
	WriteBound func(row, value int) (sql string, values []string)
	// Begin begins a transaction in each of the ways there are; the first is the usual one. Commit and Rollback end it.
	Begin            []string
	Commit, Rollback string
	// Others are anything else that may be sent at any time and waits for nobody: settings, savepoints, what fails.
	Others []string
	// Alone are sent only while no transaction is open: definitions, and writes of many rows.
	Alone []string
	// Large is a read whose result has some hundred KiB.
	Large string
	// Sleep takes a minute unless it is cancelled, and Sleeping says whether it has begun to wait in a database: a server
	// may answer otherwise when it is cancelled before.
	Sleep    string
	Sleeping func(t testing.TB, database string) bool
}

// Conversation is what one client says, and hears.
type Conversation struct {
	Name string
	// Hits is set if some of it is to be answered from memory when it has been said before.
	Hits bool
	// Run has it over a connection that was just made, and gives what was received.
	Run func(t testing.TB, c net.Conn, database string) (received string)
}
