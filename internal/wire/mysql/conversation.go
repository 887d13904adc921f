package mysql

import (
	"encoding/binary"
	"strings"

	dialect "jollylarder/internal/core/dialect/mysql"

	syntax "jollylarder/internal/core/statement/mysql"
)

// The commands. Source: enum_server_command.
const (
	comQuit           = 0x01
	comInitDB         = 0x02
	comQuery          = 0x03
	comFieldList      = 0x04
	comStatistics     = 0x09
	comProcessInfo    = 0x0a
	comChangeUser     = 0x11
	comBinlogDump     = 0x12
	comPrepare        = 0x16
	comExecute        = 0x17
	comSendLongData   = 0x18
	comClose          = 0x19
	comFetch          = 0x1c
	comReset          = 0x1f
	comBinlogDumpGTID = 0x1e
	comBulkExecute    = 0xfa
)

// What a server says of its state at the end of a reply. Source: SERVER_STATUS_* in MariaDB's mysql_com.h.
const (
	statusInTransaction = 1 << 0
	statusAutocommit    = 1 << 1
	statusMoreResults   = 1 << 3
	statusCursor        = 1 << 6
	statusNoBackslash   = 1 << 9
	statusMetadata      = 1 << 10 // the columns are others than when the statement was prepared
	statusSlow          = 1 << 11
	statusOutParameters = 1 << 12
	statusReadOnly      = 1 << 13 // the transaction is
	statusStateChanged  = 1 << 14
	statusANSIQuotes    = 1 << 15 // of MariaDB alone
)

// due is what of a reply comes next.
type due uint8

const (
	dueBeginning  due = iota // an OK, an error, how many columns there are, …
	dueColumns               // the definitions of the columns
	dueColumnsEnd            // the mark behind them
	dueRows                  // rows up to a mark
	dueStream                // anything up to a mark, which may be far away
	dueParameters            // of a prepared statement: those of its parameters, and then of its columns
	dueParametersEnd
	duePrepared // the columns of a prepared statement
	duePreparedEnd
	dueLogin // of a change of the user: a login
)

// command is one that its client waits for an answer to.
type command struct {
	kind          byte
	due           due
	left, columns int // definitions still to come, and those behind them
	number        uint32
	parameters    int // of what it has prepared, by that number
	failed        bool
	rows, bytes   int
	results       int    // that have rows, or none
	warned        bool   // there were warnings
	status        uint16 // at its end
	own           own    // whose reply is for nobody else
	gathering
	told
}

// own is what the larder asks of its own.
type own uint8

const (
	notOwn       own = iota
	ownQuestion      // for the session's settings
	ownRepayment     // what was answered from memory, before something that asks of it
)

// conversation follows a client and its server so far as to know when nothing is under way. What it does not understand
// makes it lost: it says nothing any more.
type conversation struct {
	withoutEOF bool // replies have no mark behind their columns, and end with an OK
	tracks     bool // an OK says what of the session's state has changed
	tracked    []syntax.Setting
	heard      bool // the status is that of the last reply
	queue      []command
	room       []command // what the queue begins in when it is empty
	infile     bool      // the client sends a file
	next       byte      // the number that the client's next packet has while it sends one, or proves who it is
	status     uint16
	lost       string         // why, or nothing
	ends       func(*command) // is told of each command that has been answered; may be nil
}

// changing says whether a change of the user is under way.
func (c *conversation) changing() bool { return len(c.queue) > 0 && c.queue[0].due == dueLogin }

// What a server tells of a session's state. Source: enum_session_state_type.
const (
	trackVariable = 0
	trackSchema   = 1
)

// tracksState reads what of the session's state has changed, from behind the state of an OK on. What does not end within
// it is left out.
func (c *conversation) tracksState(b []byte) {
	if len(b) < 2 { // how many warnings there are
		return
	}
	_, rest, ok := dialect.Counted(b[2:]) // what is told to people
	if !ok {
		return
	}
	for list, _, ok := dialect.Counted(rest); ok && len(list) > 0; {
		kind := list[0]
		var data []byte
		if data, list, ok = dialect.Counted(list[1:]); !ok {
			return
		}
		first, behind, is := dialect.Counted(data)
		switch {
		case !is:
		case kind == trackSchema:
			c.tracked = append(c.tracked, syntax.Setting{Name: syntax.SchemaInUse, Value: string(first)})
		case kind == trackVariable:
			for is {
				var value []byte
				if value, behind, is = dialect.Counted(behind); is {
					c.tracked = append(c.tracked, syntax.Setting{Name: string(first), Value: strings.ToLower(string(value))})
					first, behind, is = dialect.Counted(behind)
				}
			}
		}
	}
}

// inRows says whether rows come next, most probably.
func (c *conversation) inRows() bool { return len(c.queue) > 0 && c.queue[0].due == dueRows }

// atRest says whether nothing is under way, and no transaction is open.
func (c *conversation) atRest() bool {
	return c.lost == "" && len(c.queue) == 0 && !c.infile && c.status&statusInTransaction == 0
}

func (c *conversation) lose(why string) {
	if c.lost == "" {
		c.lost = why
	}
}

// mostOutstanding is how many commands may be unanswered before a conversation is no longer followed.
const mostOutstanding = 1 << 16

// fromClient takes a packet that the client has sent.
func (c *conversation) fromClient(f *frame) {
	switch {
	case c.lost != "":
		return
	case (c.infile || c.changing()) && f.number != c.next:
		// It must not be taken for what it is not: a command has the number 0, and the server goes by the numbers too.
		c.lose("the client's packets are not in their order")
		return
	case c.infile:
		c.next += packets(f)
		c.infile = f.length > 0 // an empty one ends the file
		return
	case c.changing():
		c.next += packets(f)
		return // it proves who it is
	}
	kind, some := f.first()
	switch {
	case !some || f.number != 0:
		c.lose("the client sent a packet that no command begins with")
		return
	case len(c.queue) >= mostOutstanding:
		c.lose("too many commands are unanswered")
		return
	}
	x := command{kind: kind}
	switch kind {
	case comQuit, comClose, comSendLongData: // there is no answer
		return
	case comFetch:
		x.due = dueRows
	case comFieldList, comBinlogDump, comBinlogDumpGTID:
		x.due = dueStream
	case comChangeUser:
		x.due = dueLogin
		if len(c.queue) > 0 {
			c.lose("the client changes its user behind commands that are not answered yet")
		}
	}
	// All others are answered by one packet, or by a result. To those that are not known servers answer an error.
	c.enqueue(x)
}

// enqueue adds a command to those that are not answered.
func (c *conversation) enqueue(x command) {
	if len(c.queue) == 0 {
		c.queue = append(c.room[:0], x)
		c.room = c.queue
		return
	}
	c.queue = append(c.queue, x)
}

// fromOrigin takes a packet that the server has sent.
func (c *conversation) fromOrigin(f *frame) {
	if c.lost != "" {
		return
	}
	first, some := f.first()
	if len(c.queue) == 0 {
		c.lose("the server sent a packet that nothing was asked for")
		return
	}
	x := &c.queue[0]
	if first == markError && some {
		if len(f.start) >= 3 && f.start[1] == 0xff && f.start[2] == 0xff {
			return // how far it is
		}
		x.failed, c.heard = true, false
		c.done()
		return
	}
	switch x.due {
	case dueBeginning:
		c.begins(x, f, first)
	case dueColumns, dueParameters, duePrepared:
		if x.left--; x.left == 0 {
			c.defined(x)
		}
	case dueColumnsEnd:
		status, ok := c.mark(f, first)
		switch {
		case !ok:
			c.lose("there is no mark behind the columns of a reply")
		case status&statusCursor != 0: // the rows are fetched later
			c.done()
		default:
			x.due = dueRows
		}
	case dueParametersEnd, duePreparedEnd:
		if _, ok := c.mark(f, first); !ok {
			c.lose("there is no mark behind the columns of a prepared statement")
			return
		}
		c.behind(x)
	case dueRows:
		if status, ok := c.mark(f, first); ok {
			x.last = f.length
			c.result(x, status)
		} else {
			x.rows++
		}
	case dueStream:
		if _, ok := c.mark(f, first); ok {
			c.done()
		}
	case dueLogin:
		c.next = f.number + packets(f)
		if first == markOK && some {
			c.took(f)
			c.done()
		}
	}
}

// packets is how many packets a frame is made of.
func packets(f *frame) byte { return byte(f.length/fullPacket + 1) }

// isMark says whether a packet is a mark and no row: rows may begin with the same byte if they are very long.
func (c *conversation) isMark(f *frame, first byte) bool {
	if c.withoutEOF {
		return first == markEOF && f.length < fullPacket
	}
	return first == markEOF && f.length < 9
}

// mark reads the state that a mark tells.
func (c *conversation) mark(f *frame, first byte) (status uint16, ok bool) {
	if !c.isMark(f, first) {
		return 0, false
	}
	if f.length < 9 && len(f.start) == 5 { // a mark as of old
		c.state(binary.LittleEndian.Uint16(f.start[3:]), binary.LittleEndian.Uint16(f.start[1:]))
		return c.status, true
	}
	return c.took(f)
}

// took reads the state that an OK tells.
func (c *conversation) took(f *frame) (status uint16, ok bool) {
	if len(f.start) == 0 {
		return 0, false
	}
	_, rest, ok := dialect.Number(f.start[1:]) // rows that are changed
	if ok {
		_, rest, ok = dialect.Number(rest) // the last number that was given
	}
	if !ok || len(rest) < 2 {
		c.lose("the server's OK ends early")
		return 0, false
	}
	warnings := uint16(1) // if it is not said
	if len(rest) >= 4 {
		warnings = binary.LittleEndian.Uint16(rest[2:])
	}
	c.state(binary.LittleEndian.Uint16(rest), warnings)
	if c.tracks && c.status&statusStateChanged != 0 {
		c.tracksState(rest[2:])
	}
	return c.status, true
}

// state takes what a server says of its state, and of how many warnings there are.
func (c *conversation) state(status, warnings uint16) {
	c.status, c.heard = status, true
	if len(c.queue) > 0 {
		x := &c.queue[0]
		x.status, x.warned = x.status|status, x.warned || warnings > 0
	}
}

// begins takes the first packet of a reply.
func (c *conversation) begins(x *command, f *frame, first byte) {
	switch {
	case x.kind == comStatistics:
		c.done()
		return
	case x.kind == comPrepare && first == markOK:
		if len(f.start) < 9 {
			c.lose("the server's answer to a prepared statement ends early")
			return
		}
		x.number = binary.LittleEndian.Uint32(f.start[1:])
		x.warned = len(f.start) < 12 || binary.LittleEndian.Uint16(f.start[10:]) > 0
		x.columns, x.left = int(binary.LittleEndian.Uint16(f.start[5:])), int(binary.LittleEndian.Uint16(f.start[7:]))
		x.due, x.parameters = dueParameters, x.left
		if x.left == 0 {
			c.behind(x)
		}
		return
	case first == markOK && len(f.start) > 0:
		if status, ok := c.took(f); ok {
			c.result(x, status)
		}
		return
	case c.isMark(f, first):
		if status, ok := c.mark(f, first); ok {
			c.result(x, status)
		}
		return
	}
	switch x.kind {
	case comQuery, comExecute, comBulkExecute, comProcessInfo:
	default:
		c.lose("the server's answer is none to what was asked")
		return
	}
	if first == markInfile && x.kind == comQuery {
		if len(c.queue) > 1 {
			c.lose("the server asks for a file while further commands are under way")
		}
		c.infile, c.next = true, f.number+packets(f)
		return
	}
	n, _, ok := dialect.Number(f.start)
	if !ok || n == 0 || n > 1<<16 {
		c.lose("the server's answer does not say how many columns it has")
		return
	}
	x.due, x.left, x.withRows = dueColumns, int(n), true
}

// defined goes on behind the last definition.
func (c *conversation) defined(x *command) {
	switch {
	case !c.withoutEOF:
		x.due++ // the mark behind them
	case x.due == dueColumns:
		x.due = dueRows
	default:
		c.behind(x)
	}
}

// behind goes on behind the parameters of a prepared statement, or its columns.
func (c *conversation) behind(x *command) {
	if x.columns > 0 {
		x.left, x.columns, x.due = x.columns, 0, duePrepared
		return
	}
	c.done()
}

// result goes on behind one result: there may be another.
func (c *conversation) result(x *command, status uint16) {
	x.results++
	if status&statusMoreResults != 0 {
		x.due = dueBeginning
		return
	}
	c.done()
}

// done goes on to the next command.
func (c *conversation) done() {
	c.infile = false
	if c.ends != nil {
		c.ends(&c.queue[0])
	}
	c.queue[0] = command{}
	c.queue = c.queue[1:] // none is moved: there may be tens of thousands
}
