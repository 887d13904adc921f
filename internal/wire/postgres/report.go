package postgres

import (
	"encoding/binary"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5/pgproto3"

	"jollylarder/internal/core/engine"
	"jollylarder/internal/core/reason"
	"jollylarder/internal/core/store"
)

// What the larder answers of its own: SHOW of a name that no server has. All of it is text, as SHOW's answers are.

var reportColumns = []string{"outcome", "reason", "pattern", "took_ms", "age_ms", "saved_ms"}

// report is the answer to who asks what became of the last statement, as if it were kept. Binary says which columns are
// to be described as binary, which texts look the same in.
func (s *session) report(shape byte, bound []byte) *store.Entry {
	last := s.eng.Last()
	ms := func(d time.Duration) string { return fmt.Sprintf("%.3f", float64(d)/float64(time.Millisecond)) }
	values := []string{"", "", "", "", "", ""}
	if last.Pattern != "" {
		values = []string{
			last.Outcome.String(),
			last.Reason.String(),
			string(last.Pattern),
			ms(last.Took),
			ms(last.Age),
			ms(last.Saved),
		}
	}
	reply := append([]byte{}, lead...)
	if shape != 'x' {
		reply = append(reply, describeReport(resultFormats(bound))...)
	}
	row := &pgproto3.DataRow{}
	for _, v := range values {
		row.Values = append(row.Values, []byte(v))
	}
	reply = encoded(reply, row, &pgproto3.CommandComplete{CommandTag: []byte("SHOW")})
	return &store.Entry{Reply: append(reply, trail...), Rows: 1}
}

// textOID is the server's object id of type text.
const textOID = 25

// describeReport is the answer's RowDescription.
func describeReport(formats []int16) []byte {
	d := &pgproto3.RowDescription{}
	for i, c := range reportColumns {
		format := int16(0)
		switch {
		case len(formats) == 1:
			format = formats[0]
		case i < len(formats):
			format = formats[i]
		}
		d.Fields = append(
			d.Fields,
			pgproto3.FieldDescription{
				Name:         []byte(c),
				DataTypeOID:  textOID,
				DataTypeSize: -1,
				TypeModifier: -1,
				Format:       format,
			},
		)
	}
	return encoded(nil, d)
}

// resultFormats gives the formats that are wanted of columns, of what a Bind message binds.
func resultFormats(b []byte) (out []int16) {
	number := func() int {
		if len(b) < 2 {
			b = nil
			return 0
		}
		n := int(binary.BigEndian.Uint16(b))
		b = b[2:]
		return n
	}
	b = b[min(2*number(), len(b)):]
	for range number() {
		if len(b) < 4 {
			return nil
		}
		n := max(int(int32(binary.BigEndian.Uint32(b))), 0)
		b = b[min(4+n, len(b)):]
	}
	for range min(number(), len(b)/2) {
		out = append(out, int16(number()))
	}
	return out
}

// own deals with a Parse or a Describe of a statement that the larder answers of its own; false if it is none.
func (b *batch) own(p *part) bool {
	s := b.s
	if p.wrong || s.eng.State() == engine.Failed || s.busy(true) != reason.None {
		return false
	}
	var stmt *prepared
	var answer []byte
	var is unnamed
	switch {
	case p.kind == 'P':
		if stmt = p.stmt; !stmt.st.Pattern.AsksForLast() {
			return false
		}
		answer = parseComplete
		if p.name.empty() {
			is.here = stmt
		} else {
			if s.statements[string(b.at(p.name))] != nil {
				return false // the name is taken, and the origin is to say so
			}
			if s.statements == nil || len(s.statements) > mostNames {
				s.statements = map[string]*prepared{}
			}
			s.statements[string(b.at(p.name))] = stmt
		}
	case p.kind == 'D' && !p.ofPortal:
		if stmt = s.meant(b.at(p.name)); !stmt.st.Pattern.AsksForLast() {
			return false
		}
		answer = append(encoded(nil, &pgproto3.ParameterDescription{}), describeReport(nil)...)
	default:
		return false
	}
	b.leaveOut(p.start, p.end)
	if x := s.openExchange(); x != nil && !x.answered() {
		s.expects(x, expected{kind: fromMemory, unnamed: is, local: answer})
		return true
	}
	is.on(&s.here, &s.there)
	is.on(&s.hereNow, &s.thereNow)
	b.say(answer)
	return true
}
