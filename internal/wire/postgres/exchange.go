package postgres

import (
	"hash/maphash"
	"time"

	"jollylarder/internal/core/engine"
)

// exchange is what was sent to the origin between two of its ReadyForQuery messages. Exchanges are queued in the order
// they are sent, and the origin's replies belong to the first.
type exchange struct {
	arrived  time.Time
	closed   bool      // what ends it has been sent: a Sync, or a message that ends by itself
	synced   bool      // and that was a Sync
	copying  bool      // the origin asked for data by COPY, and hears no Sync until the data has ended
	copied   bool      // the client has ended the data
	question *question // it is the larder's own

	expect []expected
	at     int // the first in expect whose reply has not ended
	loud   int // executions under way whose replies tell what the database holds

	noticed bool
	failed  bool
	began   bool // it ends by itself, and begins with a BEGIN that was held
	ahead   bool // when it was sent, the client had sent more
}

// expected is one reply that is to come. Its kind is the type of the message it answers, or one of those below.
type expected struct {
	kind   byte
	silent bool       // the client did not send that message, and is not to get the reply
	exec   *execution // what is run, of an Execute, a message that ends by itself, an answer from memory, or a Describe that belongs to one
	stmt   *prepared  // of a Parse
	parse  *parsing   // of a Parse of the client's, for a name
	unnamed
	local []byte // of an answer from memory: its bytes
}

// unnamed is what becomes of the unnamed statement, as the client knows it and as the origin does: nil for no change,
// and gone where there is none afterwards.
type unnamed struct{ here, there *prepared }

var gone = &prepared{}

// on makes the change.
func (u unnamed) on(here, there **prepared) {
	for _, c := range []struct {
		from *prepared
		to   **prepared
	}{{u.here, here}, {u.there, there}} {
		switch c.from {
		case nil:
		case gone:
			*c.to = nil
		default:
			*c.to = c.from
		}
	}
}

const (
	wholeExchange = 'Q' // a Query, a function call or the login: all up to ReadyForQuery is its reply
	fromMemory    = '*' // an answer from memory, which waits for the replies before it
)

// current gives the reply that is arriving, or nil.
func (x *exchange) current() *expected {
	if x.at < len(x.expect) {
		return &x.expect[x.at]
	}
	return nil
}

// silent says whether nothing of what was sent in it is answered to the client.
func (x *exchange) silent() bool {
	for i := range x.expect {
		if !x.expect[i].silent {
			return false
		}
	}
	return true
}

// answered says whether all that was sent in it has been answered.
func (x *exchange) answered() bool { return x.at == len(x.expect) }

// private says whether some of what is to come is not for the client, or has to be put in between.
func (x *exchange) private() bool {
	if x.question != nil {
		return true
	}
	for _, e := range x.expect[x.at:] {
		if e.silent || e.kind == fromMemory {
			return true
		}
	}
	return false
}

// execution is one statement being run.
type execution struct {
	engine.Ticket
	gather bool          // its reply is copied, to be kept
	room   int64         // that is taken for that
	reply  []byte        // with room before it for what may go before
	sum    *maphash.Hash // of the rows and their description, where that is wanted
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

// prepared is a prepared statement or portal as the session knows it.
type prepared struct {
	name  string           // of a named statement, where it is known
	sql   []byte           // of an unnamed statement: its text
	st    engine.Statement // Exact is its own copy
	types []byte           // the parameter types of its Parse message

	without bool // there was no room for its text, so that it cannot be answered from memory

	parsed *engine.Parsed // when it was prepared; nil for what is run in one go with its Parse
}

// exchanges is the queue of a session.
type exchanges struct {
	list []*exchange
	from int
	free []*exchange // for use again
}

// mostFree is how many exchanges are kept for use again.
const mostFree = 4

func (q *exchanges) len() int         { return len(q.list) - q.from }
func (q *exchanges) all() []*exchange { return q.list[q.from:] }
func (q *exchanges) push(x *exchange) { q.list = append(q.list, x) }

// pushBefore puts an exchange before the last one.
func (q *exchanges) pushBefore(x *exchange) {
	q.list = append(q.list, q.last())
	q.list[len(q.list)-2] = x
}
func (q *exchanges) first() *exchange { return q.list[q.from] }
func (q *exchanges) last() *exchange  { return q.list[len(q.list)-1] }
func (q *exchanges) recycle(x *exchange) {
	if len(q.free) < mostFree && cap(x.expect) <= 64 {
		clear(x.expect)
		*x = exchange{expect: x.expect[:0]}
		q.free = append(q.free, x)
	}
}

// separate says whether each exchange will end by itself, whatever goes wrong in those before it.
func (q *exchanges) separate() bool {
	for _, x := range q.all() {
		if !x.synced && (len(x.expect) == 0 || x.expect[0].kind != wholeExchange) {
			return false
		}
	}
	return true
}

func (q *exchanges) pop() {
	q.list[q.from] = nil
	q.from++
	if q.from == len(q.list) {
		q.list, q.from = q.list[:0], 0
	} else if q.from >= 64 && q.from > len(q.list)/2 {
		n := copy(q.list, q.list[q.from:])
		clear(q.list[n:])
		q.list, q.from = q.list[:n], 0
	}
}

// open puts a fresh exchange into the queue.
func (q *exchanges) open(arrived time.Time) *exchange {
	var x *exchange
	if n := len(q.free); n > 0 {
		x, q.free = q.free[n-1], q.free[:n-1]
	} else {
		x = &exchange{}
	}
	x.arrived = arrived
	q.push(x)
	return x
}

// sumSeed is the seed of what is compared: results of one run of the program with each other.
var sumSeed = maphash.MakeSeed()
