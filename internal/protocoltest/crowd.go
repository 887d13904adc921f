package protocoltest

import (
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"testing"
	"time"

	"jollylarder/internal/core/engine"
	"jollylarder/internal/wire/link"
)

// DoesNotRead has clients ask for more than any buffer holds, and read nothing of it: one for what is in memory, and one
// for what is not. Others are served meanwhile, and what the two have asked arrives whole when they do read.
func DoesNotRead(t testing.TB, s *Subject) error {
	y, database, err := ready(t, s)
	if err != nil {
		return err
	}
	other, err := enter(s, y.address, database)
	if err != nil {
		return err
	}
	defer other.conn.Close()
	want, err := other.Ask(s.SQL.Large)
	if err != nil {
		return err
	}
	if len(want) < 100_000 {
		return fmt.Errorf("the large result has %d bytes only", len(want))
	}
	const times = 200
	for _, keep := range []bool{true, false} {
		y.keep(keep)
		if keep {
			if err := y.know(database); err != nil {
				return err
			}
			for range 2 {
				if _, err := other.Ask(s.SQL.Large); err != nil {
					return err
				}
			}
		}
		mute, err := enter(s, y.address, database)
		if err != nil {
			return err
		}
		defer mute.conn.Close()
		written := make(chan error, 1)
		go func() {
			for range times {
				if _, err := mute.conn.Write(mute.Query(s.SQL.Large)); err != nil {
					written <- err
					return
				}
			}
			written <- nil
		}()
		y.stands()
		for i := range 20 { // while it stands there
			if _, err := other.Ask(s.SQL.Read(1 + i%s.SQL.Rows)); err != nil {
				return fmt.Errorf("beside a client that does not read: %w", err)
			}
			if _, err := other.Ask(s.SQL.Write(1, 1)); err != nil {
				return fmt.Errorf("beside a client that does not read: %w", err)
			}
			fresh, err := enter(s, y.address, database)
			if err != nil {
				return fmt.Errorf("beside a client that does not read: %w", err)
			}
			fresh.conn.Close()
		}
		for i := range times {
			_ = mute.conn.SetDeadline(time.Now().Add(patience()))
			got, err := mute.Hear("")
			if err == nil {
				err = differ(s.alike(want), s.alike(got))
			}
			if err != nil {
				return fmt.Errorf("what was read late, kept %t, result %d: %w", keep, i, err)
			}
		}
		if err := <-written; err != nil {
			return err
		}
	}
	return nil
}

// stands waits until nothing is answered any more.
func (y *yard) stands() {
	calls := func() uint64 { return y.engine.Ledger.Total.Total().Calls() }
	before := calls()
	for still := 0; still < 50; still++ { // on a machine that is very busy it may still go on, which does no harm
		time.Sleep(4 * time.Millisecond)
		if now := calls(); now != before {
			before, still = now, 0
		}
	}
}

// Cancel has a statement cancelled that is running, as the protocol's clients do it: it ends as it does without a larder,
// and the session goes on.
func Cancel(t testing.TB, s *Subject) error {
	y, database, err := ready(t, s)
	if err != nil {
		return err
	}
	once := func(address string) (string, error) {
		c, err := enter(s, address, database)
		if err != nil {
			return "", err
		}
		defer c.conn.Close()
		if _, err := c.conn.Write(c.Query(s.SQL.Sleep)); err != nil {
			return "", err
		}
		for end := time.Now().Add(patience()); !s.SQL.Sleeping(t, database); time.Sleep(time.Millisecond) {
			if time.Now().After(end) {
				return "", errors.New("the statement does not run")
			}
		}
		from := time.Now()
		err = c.Cancel(func() (net.Conn, error) { return net.Dial(link.Network(address), address) })
		if err != nil {
			return "", fmt.Errorf("cancelling: %w", err)
		}
		received, err := c.Hear("")
		if err == nil && time.Since(from) > patience()/2 {
			err = errors.New("the statement ran to its end")
		}
		if err != nil {
			return "", err
		}
		after, err := c.Ask(s.SQL.ReadAll)
		return s.alike(received + after), err
	}
	want, err := once(s.Address)
	if err != nil {
		return fmt.Errorf("directly: %w", err)
	}
	for range 3 {
		got, err := once(y.address)
		if err == nil {
			err = differ(want, got)
		}
		if err != nil {
			return fmt.Errorf("through the larder: %w", err)
		}
	}
	return nil
}

// Hostile has strangers begin in every way that is none: with bytes of no protocol, with a login that is cut, and with
// one that is changed. None of them keeps the others from being served, and none becomes known by a statement.
func Hostile(t testing.TB, s *Subject) error {
	y, database, err := ready(t, s)
	if err != nil {
		return err
	}
	honest, err := enter(s, y.address, database)
	if err != nil {
		return err
	}
	defer honest.conn.Close()
	want, err := honest.Ask(s.SQL.ReadAll)
	if err != nil {
		return err
	}
	patterns := func() (n int) { // of what was read as SQL
		y.engine.Patterns(func(p *engine.Pattern) {
			if p.Syntax != nil {
				n++
			}
		})
		return n
	}
	known := patterns()
	login, err := spoken(s, database)
	if err != nil {
		return err
	}
	r := rand.New(rand.NewPCG(20270301, 1))
	for i := range 300 {
		b := append([]byte{}, login...)
		switch i % 4 {
		case 0: // noise
			b = make([]byte, r.IntN(200))
			for k := range b {
				b[k] = byte(r.UintN(256))
			}
		case 1: // cut
			b = b[:r.IntN(len(b))]
		case 2: // changed
			for range 1 + r.IntN(3) {
				b[r.IntN(len(b))] = byte(r.UintN(256))
			}
		default: // a part of it twice
			at := r.IntN(len(b))
			b = append(b[:at:at], b...)
		}
		c, err := net.Dial(link.Network(y.address), y.address)
		if err != nil {
			return fmt.Errorf("stranger %d: %w", i, err)
		}
		_, _ = c.Write(b)
		if tcp, ok := c.(*net.TCPConn); ok && i%3 > 0 {
			_ = tcp.CloseWrite()
			_ = c.SetReadDeadline(time.Now().Add(20 * time.Millisecond))
			_, _ = io.Copy(io.Discard, c)
		}
		c.Close()
		if i%10 > 0 {
			continue
		}
		_ = honest.conn.SetDeadline(time.Now().Add(patience()))
		got, err := honest.Ask(s.SQL.ReadAll)
		if err == nil {
			err = differ(want, got)
		}
		if err != nil {
			return fmt.Errorf("after stranger %d, %q: %w", i, b, err)
		}
	}
	if n := patterns(); n > known {
		return fmt.Errorf("%d statements of strangers who had not logged in became known", n-known)
	}
	return nil
}

// spoken gives the bytes by which a client logs in.
func spoken(s *Subject, database string) ([]byte, error) {
	c, err := net.Dial(link.Network(s.Address), s.Address)
	if err != nil {
		return nil, err
	}
	defer c.Close()
	_ = c.SetDeadline(time.Now().Add(patience()))
	tap := &tapped{Conn: c}
	if _, err := s.Login(tap, database); err != nil {
		return nil, err
	}
	return tap.written, nil
}

// tapped notes what is written.
type tapped struct {
	net.Conn
	written []byte
}

func (c *tapped) Write(b []byte) (int, error) {
	c.written = append(c.written, b...)
	return c.Conn.Write(b)
}

// Vanish has clients go without a word: in a transaction, with a write under way, with a reply on its way. What they
// wrote is undone, or is seen by others if the server has done it; and nothing of them is left.
func Vanish(t testing.TB, s *Subject) error {
	y, database, err := ready(t, s)
	if err != nil {
		return err
	}
	direct, err := enter(s, s.Address, database)
	if err != nil {
		return err
	}
	defer direct.conn.Close()
	reader, err := enter(s, y.address, database)
	if err != nil {
		return err
	}
	defer reader.conn.Close()
	q := &s.SQL
	r := rand.New(rand.NewPCG(20270301, 2))
	for i := range 60 {
		c, err := enter(s, y.address, database)
		if err != nil {
			return err
		}
		switch i % 3 {
		case 0:
			for _, sql := range []string{q.Begin[0], q.Write(1, 1000+i)} {
				if _, err := c.Ask(sql); err != nil {
					return err
				}
			}
		case 1:
			b := c.Query(q.Write(1, 1000+i))
			_, _ = c.conn.Write(b[:len(b)-r.IntN(2)*r.IntN(len(b))])
		default:
			_, _ = c.conn.Write(append(c.Query(q.Large), c.Query(q.Write(1, 1000+i))...))
		}
		c.conn.Close()
		if err := looks(direct, reader, q.ReadAll); err != nil {
			return fmt.Errorf("after client %d had gone: %w", i, err)
		}
	}
	for end := time.Now().Add(patience()); y.server.Clients() > 1; time.Sleep(time.Millisecond) {
		if time.Now().After(end) {
			return fmt.Errorf("%d clients are left of those that have gone", y.server.Clients()-1)
		}
	}
	return nil
}

// looks has the rows read through the larder and directly until they have not changed in between, and holds one against
// the other.
func looks(direct, through *client, sql string) error {
	for end := time.Now().Add(patience()); time.Now().Before(end); {
		was, err := direct.Ask(sql)
		if err != nil {
			return err
		}
		got, err := through.Ask(sql)
		if err != nil {
			return err
		}
		is, err := direct.Ask(sql)
		if err != nil {
			return err
		}
		if was == is {
			return differ(is, got)
		}
	}
	return errors.New("the rows keep changing")
}

// OriginGone has the server go away under its clients: each of them hears of an end, and nobody waits for ever.
func OriginGone(t testing.TB, s *Subject) error {
	gate, err := newGate(s.Address)
	if err != nil {
		return err
	}
	defer gate.close()
	before := *s
	before.Address = gate.address()
	y := newYard(t, &before)
	database, err := y.database()
	if err != nil {
		return err
	}
	var list []*client
	for range 6 {
		c, err := enter(s, y.address, database)
		if err != nil {
			return err
		}
		defer c.conn.Close()
		list = append(list, c)
	}
	for i, c := range list { // at rest, in a transaction, or with a statement that runs
		switch i % 3 {
		case 1:
			_, err = c.Ask(s.SQL.Begin[0])
		case 2:
			_, err = c.conn.Write(c.Query(s.SQL.Sleep))
		}
		if err != nil {
			return err
		}
	}
	gate.cut()
	for i, c := range list {
		_ = c.conn.SetDeadline(time.Now().Add(patience()))
		_, _ = c.conn.Write(c.Query(s.SQL.Write(1, 5)))
		var late net.Error
		if _, err := io.Copy(io.Discard, c.conn); errors.As(err, &late) && late.Timeout() {
			return fmt.Errorf("client %d was left waiting when its server had gone", i)
		}
	}
	if c, err := net.Dial(link.Network(y.address), y.address); err == nil { // and who comes now is told
		defer c.Close()
		_ = c.SetDeadline(time.Now().Add(patience()))
		if _, err := s.Login(c, database); err == nil {
			return errors.New("a client was let in though there is no server")
		} else if late := net.Error(nil); errors.As(err, &late) && late.Timeout() {
			return errors.New("a client was left waiting though there is no server")
		}
	}
	return nil
}
