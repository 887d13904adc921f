package mysql

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"slices"
	"strconv"
	"strings"
	"time"

	driver "github.com/go-sql-driver/mysql"

	"jollylarder/internal/core/engine"
	syntax "jollylarder/internal/core/statement/mysql"
	"jollylarder/internal/wire/link"
)

// NewFetcher gives a fetcher on an account of the larder's own.
func NewFetcher(s *Server, a link.Account) *link.Fetcher {
	return &link.Fetcher{Engine: s.Engine, Origin: s.Name, User: a.User, Asker: &ownClient{server: s, account: a}}
}

// ownClient asks again for what clients asked, in the form and with the settings of these: a reply has the form that its
// client has agreed on with the server at the login.
type ownClient struct {
	server  *Server
	account link.Account
	conn    *ownConn
}

// Close implements link.Asker.
func (o *ownClient) Close() {
	if o.conn != nil {
		_ = o.conn.driver.Close()
		o.conn = nil
	}
}

// Ask implements link.Asker.
func (o *ownClient) Ask(ctx context.Context, a *engine.Asked) error {
	w, err := wantedOf(a)
	if err != nil {
		return err
	}
	if o.conn == nil || o.conn.database != a.Database || o.conn.form != w.form {
		o.Close()
		c, err := o.connect(ctx, a.Database, w.form)
		if err != nil {
			return err
		}
		o.conn = c
	}
	c := o.conn
	stop := context.AfterFunc(ctx, func() { _ = c.SetDeadline(time.Now()) })
	defer stop()
	for o.server.reading.Load() && ctx.Err() == nil { // nothing is cached before the schema is known
		time.Sleep(shortly)
	}
	if err := c.settles(o.server, w); err != nil {
		return err
	}
	if err := c.asks(a); err != nil {
		return err
	}
	if w.variable("autocommit") != "1" { // what was asked next would see what this has
		_, err = c.query("commit")
	}
	return err
}

// shortly is between two looks at whether the schema has been read.
const shortly = 10 * time.Millisecond

// wanted is how a result was asked for, as its key has it.
type wanted struct {
	values       []string // of the question, from the account on
	schema, form string
}

func wantedOf(a *engine.Asked) (w wanted, err error) {
	n := len(a.Values) - 2
	if len(a.Roles) != asksPatience-asksAccount || n != asksVariables-asksPatience+len(syntax.Variables) {
		return w, errors.New("it was asked for with other settings than this version of the larder knows")
	}
	return wanted{slices.Concat(a.Roles, a.Values[:n]), a.Values[n], a.Values[n+1]}, nil
}

func (w *wanted) variable(name string) string {
	return variable(w.values[asksVariables-asksAccount:], name)
}

// ownConn is a connection of the larder's own to itself. The driver has logged in on it, and says nothing more than its
// goodbye: everything between the two is what clients send.
type ownConn struct {
	net.Conn
	driver         io.Closer
	database, form string
	reads          syntax.Server
	conversation   conversation
	frames         framer
	buffer         []byte
	ended          command // the last that was answered
	reply          []byte  // what was answered, if it is short
	failure        string  // what the server said instead
	values         []string
	schema         string
}

// connect logs in to the larder itself, with the capabilities of a form.
func (o *ownClient) connect(ctx context.Context, database, form string) (*ownConn, error) {
	var caps, extensions uint32
	if n, err := fmt.Sscanf(form, "%x %x", &caps, &extensions); n != 2 || err != nil {
		return nil, fmt.Errorf("asked for in the form %q, which is not understood", form)
	}
	c := &ownConn{database: database, form: form, buffer: make([]byte, bufferSize)}
	cfg := driver.NewConfig()
	cfg.User, cfg.Passwd, cfg.DBName = o.account.User, o.account.Password, database
	cfg.Net, cfg.Addr = "unix", "own" // so that the driver knows that nobody reads it
	cfg.AllowCleartextPasswords = o.server.Settings().OriginTLS != nil
	cfg.ConnectionAttributes = "program_name:jolly larder"
	cfg.Logger = &driver.NopLogger{}
	cfg.DialFunc = func(context.Context, string, string) (net.Conn, error) {
		own, err := o.server.ConnectOwn(func(end net.Conn) { o.server.handle(end, true) })
		if err == nil {
			c.Conn = own
			own = &introducing{Conn: own, caps: caps, extensions: extensions}
		}
		return own, err
	}
	connector, err := driver.NewConnector(cfg)
	if err != nil {
		return nil, err
	}
	d, err := connector.Connect(ctx)
	if err != nil {
		return nil, err
	}
	c.driver = d
	c.conversation = conversation{withoutEOF: caps&capDeprecateEOF != 0, tracks: caps&capTrack != 0, ends: func(x *command) { c.ended = *x }}
	c.frames.keep = func(first byte, _ int) int {
		if first == markError {
			return longestFailure
		}
		return 0
	}
	said, err := c.row("select version()")
	if err != nil {
		_ = d.Close()
		return nil, err
	}
	c.reads = version(said[0])
	return c, nil
}

// layout are the capabilities that decide how a login is written. All others are about what comes behind it.
const layout = capTLS | capAttributes | capPluginAuth | capLengthEncoded | capDatabase | capSecure

// introducing is a connection whose client introduces itself with other capabilities than its driver has.
type introducing struct {
	net.Conn
	caps, extensions uint32
	done             bool
}

// Write implements io.Writer. The driver writes a packet at a time.
func (i *introducing) Write(b []byte) (int, error) {
	if i.done || len(b) < headerSize+introFixed {
		return i.Conn.Write(b)
	}
	i.done = true
	out := bytes.Clone(b)
	body := out[headerSize:]
	binary.LittleEndian.PutUint32(body, binary.LittleEndian.Uint32(body)&layout|i.caps&^layout)
	if i.caps&capMySQL == 0 {
		binary.LittleEndian.PutUint32(body[introFixed-4:], i.extensions)
	}
	return i.Conn.Write(out)
}

// Bounds of what is remembered of replies, in bytes.
const (
	longestFailure = 1 << 10
	longestReply   = 1 << 16
)

// run sends a command and reads its reply to the end.
func (c *ownConn) run(body []byte) error {
	c.reply, c.failure = c.reply[:0], ""
	c.conversation.fromClient(&frame{start: body, length: len(body)})
	if _, err := c.Write(packet(0, body)); err != nil {
		return err
	}
	for c.conversation.lost == "" && len(c.conversation.queue) > 0 {
		n, err := c.Read(c.buffer)
		if err != nil {
			return err
		}
		b := c.buffer[:n]
		if len(c.reply)+n <= longestReply {
			c.reply = append(c.reply, b...)
		}
		for len(b) > 0 {
			n, f := c.frames.next(b)
			if b = b[n:]; f == nil {
				continue
			}
			if first, some := f.first(); some && first == markError {
				c.failure = failureOf(f.start)
			}
			c.conversation.fromOrigin(f)
		}
	}
	switch {
	case c.conversation.lost != "":
		return errors.New(c.conversation.lost)
	case c.ended.failed:
		return errors.New(c.failure)
	}
	return nil
}

// failureOf reads what an error says. Source: ERR_Packet.
func failureOf(b []byte) string {
	if len(b) < 3 {
		return "the server refused it"
	}
	code, b := binary.LittleEndian.Uint16(b[1:]), b[3:]
	if len(b) > 6 && b[0] == '#' {
		b = b[6:] // its state
	}
	return fmt.Sprintf("%s (error %d)", b, code)
}

// query has a statement run as text.
func (c *ownConn) query(sql string) (reply []byte, err error) {
	err = c.run(append([]byte{comQuery}, sql...))
	return c.reply, err
}

// row has a query run that gives one row.
func (c *ownConn) row(sql string) ([]string, error) {
	reply, err := c.query(sql)
	if err != nil {
		return nil, err
	}
	values, _, err := readRow(bytes.NewReader(reply), c.conversation.withoutEOF)
	if err == nil && len(values) == 0 {
		err = errProtocol
	}
	return values, err
}

// asks asks again for a result, as text or as a prepared statement.
func (c *ownConn) asks(a *engine.Asked) error {
	switch a.Shape {
	case 'q':
		_, err := c.query(string(a.Exact))
		return err
	case 'x':
	default:
		return fmt.Errorf("asked for in a form %q that is not known", a.Shape)
	}
	if err := c.run(append([]byte{comPrepare}, a.Exact...)); err != nil {
		return err
	}
	number, parameters := c.ended.number, c.ended.parameters
	failed := c.run(execution(number, parameters, a.Types, a.Bound))
	if lost := c.run(binary.LittleEndian.AppendUint32([]byte{comClose}, number)); failed == nil {
		failed = lost
	}
	return failed
}

// execution gives the command that runs a prepared statement with parameters as they are in keys: which of them are NULL,
// and behind that the values of the others.
func execution(number uint32, parameters int, types, bound []byte) []byte {
	b := binary.LittleEndian.AppendUint32([]byte{comExecute}, number)
	b = append(b, 0, 1, 0, 0, 0) // without a cursor, once
	nulls := (parameters + 7) / 8
	if parameters == 0 || len(bound) < nulls {
		return append(b, bound...)
	}
	b = append(append(b, bound[:nulls]...), 1)
	return append(append(b, types...), bound[nulls:]...)
}

// mostRounds is how often settings are set at most: one may change another.
const mostRounds = 3

// settles has the session be set as that was which is wanted.
func (c *ownConn) settles(s *Server, w wanted) error {
	for range mostRounds {
		if c.values == nil {
			values, err := c.row(s.question(c.reads))
			switch {
			case err != nil:
				return fmt.Errorf("asking for the settings of a session: %w", err)
			case !complete(values):
				return errors.New("the server does not tell its settings")
			}
			c.values, c.schema = values, values[asksSchema]
		}
		sets, err := c.differences(w)
		if err != nil || len(sets) == 0 {
			return err
		}
		c.values = nil // until they have been asked for
		for _, sql := range sets {
			if _, err := c.query(sql); err != nil {
				return fmt.Errorf("setting a session as its client's was, by %s: %w", sql, err)
			}
		}
	}
	return errors.New("a session could not be set as its client's was: one of its settings changes another")
}

// differences gives the statements that set a session as is wanted.
func (c *ownConn) differences(w wanted) (sets []string, err error) {
	if w.schema != "" && c.schema != w.schema {
		sets = append(sets, "use "+quoted(w.schema))
	}
	patience, _, isolation := named(c.reads)
	names := append([]string{"", "", patience, "", isolation}, syntax.Variables...) // in the order of the question
	for i, value := range w.values {
		have := c.values[asksAccount+i]
		if have == value {
			continue
		}
		switch asksAccount + i {
		case asksAccount:
			return nil, fmt.Errorf("it was asked for by the account %s, and the larder's own is %s", value, have)
		case asksServer:
			return nil, errors.New("it was asked of another server")
		case asksRoles:
			switch {
			case value == null:
				value = "none"
			case c.reads.MariaDB:
				value = quoted(value)
			}
			sets = append(sets, "set role "+value)
		default:
			literal, ok := literal(value)
			if !ok {
				return nil, fmt.Errorf("%s was %q, which the larder does not set", names[i], value)
			}
			sets = append(sets, fmt.Sprintf("set session %s = %s", names[i], literal))
		}
	}
	return sets, nil
}

// literal writes a variable's value so that it is read alike in each mode.
func literal(value string) (string, bool) {
	if value == null {
		return "null", true
	}
	if _, err := strconv.ParseFloat(value, 64); err == nil && strings.Trim(value, "-.0123456789") == "" {
		return value, true
	}
	return "'" + strings.ReplaceAll(value, "'", "''") + "'", !strings.Contains(value, `\`)
}
