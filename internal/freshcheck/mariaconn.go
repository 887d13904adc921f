package freshcheck

import (
	"encoding/binary"
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"time"

	driver "github.com/go-mysql-org/go-mysql/client"
	"github.com/go-mysql-org/go-mysql/mysql"

	dialect "jollylarder/internal/core/dialect/mysql"
	"jollylarder/internal/core/ledger"
)

// The commands of the protocol that scripts write as statements of their own.
const (
	resetsConnection = "reset connection"
	changesUser      = "user"     // and the name of one
	entersDatabase   = "database" // and the name of one
)

// mariaConn is a connection to MariaDB, or to a larder before one. It logs in with a driver, and then speaks for itself,
// since no driver sends all of what servers understand.
type mariaConn struct {
	*driver.Conn
	name     string
	database string
	prepared map[string]*mariaStatement
	status   uint16
	ended    bool
}

// mariaStatement is a prepared one.
type mariaStatement struct {
	id    uint32
	typed bool // it was executed with the types of its parameters
}

func dialMariaDB(address, database, name string) (*mariaConn, error) {
	c, err := driver.Connect(address, "root", "", database, func(c *driver.Conn) error {
		c.SetAttributes(map[string]string{nameAttribute: name})
		c.SetCapability(mysql.CLIENT_MULTI_STATEMENTS | mysql.CLIENT_MULTI_RESULTS | mysql.CLIENT_PS_MULTI_RESULTS | mysql.CLIENT_CONNECT_ATTRS)
		return nil
	})
	if err != nil {
		return nil, err
	}
	return &mariaConn{Conn: c, name: name, database: database, prepared: map[string]*mariaStatement{}}, nil
}

func (c *mariaConn) fromMemory() bool {
	return strings.Contains(c.ask("show "+dialect.LastShown, 0), "\n"+ledger.Hit.String()+"|")
}

func (c *mariaConn) accepts(sql string) bool {
	if got := c.send(mysql.COM_STMT_PREPARE, []byte(sql)); got != nil {
		return false
	}
	id, reply := c.readPrepared()
	if id == 0 {
		return false
	}
	_ = c.send(mysql.COM_STMT_CLOSE, binary.LittleEndian.AppendUint32(nil, id))
	return reply == ""
}

func (c *mariaConn) atRest() bool { return c.status&statusInTransaction == 0 }
func (c *mariaConn) closed() bool { return c.ended }
func (c *mariaConn) close()       { c.Conn.Close() }

// written finds the values of a statement that can be parameters.
var written = regexp.MustCompile(`(= |\(|, |<= |> |like )(\d{1,9}|'[a-zA-Z0-9 %-]*')([ ,);]|$)`)

// ask implements conn. The modes are: as text; prepared and executed in one go; prepared; with values as texts; as numbers;
// and as numbers whose types are told once. What cannot be prepared is sent as text.
func (c *mariaConn) ask(sql string, mode int) string {
	_ = c.SetDeadline(time.Now().Add(20 * time.Second))
	word, rest, _ := strings.Cut(sql, " ")
	switch {
	case sql == resetsConnection:
		clear(c.prepared)
		return c.does(mysql.COM_RESET_CONNECTION, nil)
	case word == entersDatabase:
		return c.does(mysql.COM_INIT_DB, []byte(rest))
	case word == changesUser:
		clear(c.prepared)
		body := append([]byte(rest), 0, 0)
		body = append(append(body, c.database...), 0, 45, 0)
		body = append(body, "mysql_native_password\x00"...)
		attribute := fmt.Appendf(nil, "%c%s%c%s", len(nameAttribute), nameAttribute, len(c.name), c.name)
		if err := c.send(mysql.COM_CHANGE_USER, append(append(body, byte(len(attribute))), attribute...)); err != nil {
			return c.lost(err)
		}
		return c.reply(false)
	}
	switch word {
	case "select", "update", "delete", "insert", "replace", "with", "call", "do":
	default:
		mode = 0
	}
	switch {
	case mode == 0 || strings.Contains(sql, ";"):
		return c.does(mysql.COM_QUERY, []byte(sql))
	case mode == 1:
		return c.inOneGo(sql)
	}
	var values []string
	asked := sql
	if mode >= 3 {
		sql = written.ReplaceAllStringFunc(sql, func(s string) string {
			m := written.FindStringSubmatch(s)
			values = append(values, m[2])
			return m[1] + "?" + m[3]
		})
	}
	p := c.prepared[sql]
	if p == nil {
		if err := c.send(mysql.COM_STMT_PREPARE, []byte(sql)); err != nil {
			return c.lost(err)
		}
		id, reply := c.readPrepared()
		if id == 0 {
			return reply
		}
		p = &mariaStatement{id: id}
		c.prepared[sql] = p
	}
	got := c.does(mysql.COM_STMT_EXECUTE, execution(p.id, values, mode >= 4, mode < 5 || !p.typed))
	again := p.typed
	if p.typed = true; strings.HasPrefix(got, refused) {
		_ = c.send(mysql.COM_STMT_CLOSE, binary.LittleEndian.AppendUint32(nil, p.id)) // it may not fit any more
		delete(c.prepared, sql)
		if again && strings.HasPrefix(got, unknownColumn) {
			return c.ask(asked, mode)
		}
	}
	return got
}

// unknownColumn is what MariaDB 10.11 says of some subqueries when a statement that has them is executed once more. They do
// have the column.
const unknownColumn = refused + " 1054"

// execution is the body of an execution, with literals as values. Source: "COM_STMT_EXECUTE" in MariaDB's manual.
func execution(id uint32, values []string, numbers, typed bool) []byte {
	out := binary.LittleEndian.AppendUint32(nil, id)
	out = append(out, 0, 1, 0, 0, 0) // no cursor, once
	if len(values) == 0 {
		return out
	}
	out = append(out, make([]byte, (len(values)+7)/8)...)
	var types, bytes []byte
	for _, v := range values {
		text := strings.Trim(v, "'")
		n, err := strconv.ParseInt(v, 10, 64)
		if numbers && err == nil {
			types = append(types, mysql.MYSQL_TYPE_LONGLONG, 0)
			bytes = binary.LittleEndian.AppendUint64(bytes, uint64(n))
			continue
		}
		types = append(types, mysql.MYSQL_TYPE_VAR_STRING, 0)
		bytes = append(append(bytes, byte(len(text))), text...)
	}
	if !typed {
		return append(append(out, 0), bytes...)
	}
	return append(append(append(out, 1), types...), bytes...)
}

// inOneGo has a statement prepared and executed without waiting for its number: the last that was prepared.
func (c *mariaConn) inOneGo(sql string) string {
	if err := c.send(mysql.COM_STMT_PREPARE, []byte(sql)); err != nil {
		return c.lost(err)
	}
	if err := c.send(mysql.COM_STMT_EXECUTE, execution(0xffffffff, nil, false, false)); err != nil {
		return c.lost(err)
	}
	c.Sequence = 1
	id, reply := c.readPrepared()
	if c.ended {
		return reply
	}
	c.Sequence = 1
	got := c.reply(true)
	if id == 0 {
		return reply
	}
	_ = c.send(mysql.COM_STMT_CLOSE, binary.LittleEndian.AppendUint32(nil, id))
	return got
}

// does sends a command and reads what comes of it.
func (c *mariaConn) does(command byte, body []byte) string {
	if err := c.send(command, body); err != nil {
		return c.lost(err)
	}
	return c.reply(command == mysql.COM_STMT_EXECUTE)
}

func (c *mariaConn) send(command byte, body []byte) error {
	c.ResetSequence()
	err := c.WritePacket(append([]byte{0, 0, 0, 0, command}, body...))
	c.ended = c.ended || err != nil
	return err
}

func (c *mariaConn) lost(err error) string {
	c.ended = true
	return noAnswer + ": " + err.Error()
}

// readPrepared reads the reply to a preparation. Without a number the text says why.
func (c *mariaConn) readPrepared() (id uint32, reply string) {
	first, err := c.ReadPacket()
	switch {
	case err != nil:
		return 0, c.lost(err)
	case first[0] == mysql.ERR_HEADER:
		return 0, wrong(first)
	case len(first) < 12:
		return 0, c.lost(fmt.Errorf("no reply to a preparation: %x", first))
	}
	for _, n := range []uint16{binary.LittleEndian.Uint16(first[7:]), binary.LittleEndian.Uint16(first[5:])} {
		if n == 0 {
			continue
		}
		for range n + 1 {
			if _, err := c.ReadPacket(); err != nil {
				return 0, c.lost(err)
			}
		}
	}
	return binary.LittleEndian.Uint32(first[1:]), ""
}

// wrong gives an error as text.
func wrong(packet []byte) string {
	code := binary.LittleEndian.Uint16(packet[1:])
	if code == mysql.ER_LOCK_WAIT_TIMEOUT {
		return locked
	}
	return fmt.Sprintf("%s %d %s", refused, code, packet[3:])
}

// reply reads all results of a statement as text: the columns' names and types, and the rows.
func (c *mariaConn) reply(inBinary bool) string {
	var out strings.Builder
	for more := true; more; {
		first, err := c.ReadPacket()
		switch {
		case err != nil:
			return c.lost(err)
		case first[0] == mysql.ERR_HEADER:
			return wrong(first)
		case first[0] == mysql.EOF_HEADER: // a challenge, to who has no password
			if err := c.WritePacket(make([]byte, 4)); err != nil {
				return c.lost(err)
			}
			continue
		case first[0] == mysql.OK_HEADER:
			c.status = okStatus(first)
		default:
			n, _ := lengthEncoded(first)
			if text, err := c.rows(int(n), inBinary, &out); err != nil {
				return c.lost(err)
			} else if text != "" {
				return text
			}
		}
		more = c.status&statusMoreResults != 0
		if more {
			out.WriteString(";")
		}
	}
	return out.String()
}

// rows reads what stands behind the number of columns, up to its end. It gives what went wrong in the server as a text.
func (c *mariaConn) rows(columns int, inBinary bool, out *strings.Builder) (string, error) {
	fields := make([]*mysql.Field, 0, columns)
	for range columns {
		p, err := c.ReadPacket()
		if err != nil {
			return "", err
		}
		f, err := mysql.FieldData(p).Parse()
		if err != nil {
			return "", err
		}
		fields = append(fields, f)
		fmt.Fprintf(out, "%s %d|", f.Name, f.Type)
	}
	if _, err := c.ReadPacket(); err != nil {
		return "", err
	}
	out.WriteByte('\n')
	for {
		p, err := c.ReadPacket()
		switch {
		case err != nil:
			return "", err
		case p[0] == mysql.ERR_HEADER:
			return wrong(p), nil
		case p[0] == mysql.EOF_HEADER && len(p) == 5:
			c.status = binary.LittleEndian.Uint16(p[3:])
			return "", nil
		}
		values, err := mysql.RowData(p).Parse(fields, inBinary, nil)
		if err != nil {
			return "", err
		}
		for _, v := range values {
			if x := v.Value(); x == nil {
				out.WriteString("null|")
			} else if b, ok := x.([]byte); ok {
				fmt.Fprintf(out, "%s|", b)
			} else {
				fmt.Fprintf(out, "%v|", x)
			}
		}
		out.WriteByte('\n')
	}
}
