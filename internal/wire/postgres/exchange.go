package postgres

import (
	"time"

	"jollylarder/internal/core/engine"
	"jollylarder/internal/core/freshness"
)

// exchange is what was sent to the origin between two of its ReadyForQuery messages. Exchanges are queued in the order
// they are sent, and the origin's replies belong to the first.
type exchange struct {
	arrived  time.Time
	simple   bool // one Query message: everything until ReadyForQuery is its reply
	closed   bool // its Sync has been sent
	copying  bool // the origin asked for data by COPY, and hears no Sync until the data has ended
	copied   bool // the client has ended the data
	question *question

	pending freshness.Pending // the changes that were sent in it

	execs []*execution
	at    int // the execution whose reply is arriving

	merged bool // it began as a batch without Sync, and ends with a simple query

	parses []parsing // the Parse messages of the client that were sent
	parsed int       // of which so many were answered
	extra  []int     // how many of the client's stood before each Parse that it did not send

	injected bool // such a Parse was sent
	noticed  bool
	failed   bool
}

// execution is one statement being run.
type execution struct {
	d      engine.Decision
	gather bool // its reply is copied, to be kept
	bound  bool // its BindComplete has arrived, or it has none
	reply  []byte
	rows   int
	bytes  int
	done   bool
	sent   time.Time
	took   time.Duration // since the statement arrived
	fetch  time.Duration // since it was sent
}

// parsing is a Parse message under way.
type parsing struct {
	name      string
	stmt      *prepared
	old       *prepared // what the name stood for before, or nil
	meanwhile *prepared // what it stands for until the origin has answered
}

// current gives the execution whose reply is arriving, or nil.
func (x *exchange) current() *execution {
	if x.at < len(x.execs) {
		return x.execs[x.at]
	}
	return nil
}

// question is something the larder itself asks the origin over a client's connection, in a quiet moment.
type question struct {
	need engine.Need
	rows [][]string
	bad  bool
	done chan struct{}
	over bool // done is closed
}

func (q *question) end() {
	if !q.over {
		q.over = true
		close(q.done)
	}
}

// prepared is a prepared statement or portal as the session knows it.
type prepared struct {
	sql   []byte
	st    engine.Statement // Exact is its own copy
	types []byte           // the parameter types of its Parse message
}

// questionName names the statement and the portal by which the larder asks, so that none of the client's is touched.
const questionName = "jolly larder asks"

// questionMessages asks one thing and leaves nothing behind.
func questionMessages(sql string) []byte {
	name := []byte(questionName + "\x00")
	out := frame(nil, 'P', name, []byte(sql+"\x00"), []byte{0, 0})
	out = frame(out, 'B', name, name, []byte{0, 0, 0, 0, 0, 0})
	out = frame(out, 'E', name, []byte{0, 0, 0, 0})
	out = frame(out, 'C', []byte{'P'}, name)
	out = frame(out, 'C', []byte{'S'}, name)
	return frame(out, 'S')
}

var questionSQL = map[engine.Need]string{engine.NeedSettings: settingsQuery, engine.NeedCatalog: catalogQuery}
