package postgres

import (
	"jollylarder/internal/core/engine"
	"jollylarder/internal/core/store"
)

// A kept reply is the messages of a result up to and with its completion. What most often goes around them is kept with
// them, so that a hit is mostly written from where it is kept: ParseComplete and BindComplete before, and
// ReadyForQuery outside of any transaction behind.
var (
	parseComplete = frame(nil, '1')
	bindComplete  = frame(nil, '2')
	closeComplete = frame(nil, '3')
	lead          = append(append([]byte{}, parseComplete...), bindComplete...)
	trail         = frame(nil, 'Z', []byte{'I'})
)

var readyFor = map[engine.TxState][]byte{
	engine.Idle: trail, engine.InBlock: frame(nil, 'Z', []byte{'T'}), engine.Failed: frame(nil, 'Z', []byte{'E'}),
}

// form says which messages go around a kept reply.
type form struct {
	parse, bind, close, ready bool
}

// serve gives the bytes of an answer from memory: the entry's own where the form and the session's state allow it,
// or else appended to buf, which is given back.
func serve(buf []byte, e *store.Entry, f form, state engine.TxState) (answer, grown []byte) {
	from, to := len(lead), len(e.Reply)-len(trail)
	if f.bind {
		from -= len(bindComplete)
	}
	if f.parse {
		from = 0
	}
	if !f.close && f.ready && state == engine.Idle {
		return e.Reply[from:], buf
	}
	if !f.close && !f.ready {
		return e.Reply[from:to], buf
	}
	at := len(buf)
	buf = append(buf, e.Reply[from:to]...)
	if f.close {
		buf = append(buf, closeComplete...)
	}
	if f.ready {
		buf = append(buf, readyFor[state]...)
	}
	return buf[at:], buf
}
