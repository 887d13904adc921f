package protocoltest

import (
	"bufio"
	"errors"
	"flag"
	"fmt"
	"io"
	"net"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"jollylarder/internal/protocoltest/lines"
)

// guest is a session of the made-up database.
type guest struct {
	conn   net.Conn
	in     *bufio.Reader
	number string
}

func enterLines(c net.Conn, database string) (Session, error) {
	g := &guest{conn: c, in: bufio.NewReader(c)}
	if _, err := fmt.Fprintf(c, "hello ines %s\n", database); err != nil {
		return nil, err
	}
	line, err := g.in.ReadString('\n')
	if err != nil {
		return nil, err
	}
	number, ok := strings.CutPrefix(line, "welcome ")
	if !ok {
		return nil, errors.New(line)
	}
	g.number = strings.TrimSpace(number)
	_, err = g.Hear("")
	return g, err
}

func (g *guest) Hear(until string) (string, error) {
	var out strings.Builder
	for {
		line, err := g.in.ReadString('\n')
		out.WriteString(line)
		if errors.Is(err, io.EOF) {
			return out.String() + "the end\n", nil
		}
		if err != nil || strings.HasPrefix(line, "ready ") && strings.Contains(out.String(), until) {
			return out.String(), err
		}
	}
}

func (g *guest) Query(sql string) []byte { return []byte(sql + "\n") }

func (g *guest) Ask(sql string) (string, error) { return g.Bound(sql) }

func (g *guest) Bound(sql string, values ...string) (string, error) {
	if _, err := g.conn.Write(g.Query(strings.Join(append([]string{sql}, values...), "\t"))); err != nil {
		return "", err
	}
	return g.Hear("")
}

func (g *guest) Cancel(dial func() (net.Conn, error)) error {
	c, err := dial()
	if err != nil {
		return err
	}
	defer c.Close()
	_, err = fmt.Fprintf(c, "cancel %s\n", g.number)
	_, _ = io.Copy(io.Discard, c)
	return err
}

var databases atomic.Int64

// subject is the made-up database, behind a larder with a fault.
func subject(t testing.TB, f lines.Fault) *Subject {
	o, err := lines.NewOrigin()
	require.NoError(t, err)
	t.Cleanup(o.Close)
	read := func(row int) string { return fmt.Sprintf("select name from quay where id = %d", row) }
	write := func(row, value int) string {
		return fmt.Sprintf("update quay set name = 'quay %d' where id = %d", value, row)
	}
	var restore []string
	for i := range lines.Rows {
		restore = append(restore, write(i+1, i+1))
	}
	return &Subject{
		Protocol: lines.Protocol(f),
		Address:  o.Address(),
		Database: func(testing.TB) string { return fmt.Sprintf("d%d", databases.Add(1)) },
		Login:    enterLines,
		SQL: SQL{
			Restore: restore, Rows: lines.Rows,
			Read: read, ReadBound: "select name from quay where id = ?", ReadAll: "select id, name from quay",
			Write: write, WriteBound: func(row, value int) (string, []string) {
				return "update quay set name = ? where id = ?", []string{fmt.Sprintf("quay %d", value), fmt.Sprint(row)}
			},
			Begin: []string{"begin"}, Commit: "commit", Rollback: "rollback",
			Others: []string{"nonsense", "begin again", "select id, name from quay"},
			Alone:  []string{"update quay set name = 'all'"},
			Large:  "select long from quay", Sleep: "sleep",
			Sleeping: func(_ testing.TB, database string) bool { return o.Sleeping(database) },
		},
		Conversations: []Conversation{{Name: "reading", Hits: true, Run: func(t testing.TB, c net.Conn, database string) string {
			s, err := enterLines(c, database)
			require.NoError(t, err)
			var all strings.Builder
			for _, sql := range []string{read(1), read(2), "nonsense", read(1), "begin", read(1), "rollback", ""} {
				received, err := s.Ask(sql)
				require.NoError(t, err)
				all.WriteString(received)
			}
			return all.String()
		}}},
		Any: func(t *rapid.T) []byte {
			return []byte(rapid.SampledFrom([]string{read(1), read(3), "select id, name from quay", write(2, 7), "begin", "commit", "rollback", "", "nonsense", "select name from quay where id = ?\t2"}).Draw(t, "line") + "\n")
		},
		Closing: []byte("rollback\n" + TheEnd + "\n"),
	}
}

// A protocol that does all that is asked of it passes.
func TestTheSmallestProtocolPasses(t *testing.T) { Run(t, subject(t, lines.None)) }

// Each fault is found by the part of the kit that is there for it.
func TestFaultsAreFound(t *testing.T) {
	require.NoError(t, flag.Set("rapid.shrinktime", "100ms"))
	defer waits.Store(waits.Swap(int64(3 * time.Second))) // for what never comes
	for name, c := range map[string]struct {
		fault lines.Fault
		check func(testing.TB, *Subject) error
		told  string
	}{
		"bytes of an answer from memory are lost":     {lines.LosesBytes, Converse, "other bytes than the database's"},
		"nothing is kept":                             {lines.CachesNothing, Converse, "nothing is answered from memory"},
		"a write is overlooked":                       {lines.OverlooksWrites, scripts, "other bytes than the database's"},
		"a write with its values bound is overlooked": {lines.OverlooksBoundWrites, scripts, "other bytes than the database's"},
		"a write in a sequence is overlooked":         {lines.OverlooksWrites, Sequences, "other bytes than the database's"},
		"one client holds the others up":              {lines.WaitsForOneClient, DoesNotRead, "beside a client that does not read"},
		"cancelling does nothing":                     {lines.IgnoresCancelling, Cancel, "through the larder"},
		"what strangers say is read":                  {lines.ReadsStrangers, Hostile, "statements of strangers"},
		"clients that have gone are kept":             {lines.KeepsVanished, Vanish, "are left of those that have gone"},
		"nobody hears of the origin's end":            {lines.HidesTheEnd, OriginGone, "was left waiting"},
	} {
		t.Run(name, func(t *testing.T) {
			err := c.check(t, subject(t, c.fault))
			require.Error(t, err)
			assert.Contains(t, err.Error(), c.told)
		})
	}
}

// What is found once is an error, also if it does not happen again when the same is tried.
func TestWhatIsFoundOnceCounts(t *testing.T) {
	require.NoError(t, flag.Set("rapid.shrinktime", "100ms"))
	tries := 0
	err := Search(t, func(rt *rapid.T) error {
		rapid.Bool().Draw(rt, "any")
		if tries++; tries == 3 {
			return errors.New("an old answer")
		}
		return nil
	})
	assert.EqualError(t, err, "an old answer")
	assert.Greater(t, tries, 3)
	assert.NoError(t, Search(t, func(rt *rapid.T) error { return nil }))
}

func scripts(t testing.TB, s *Subject) error { return Scripts(t, s, 60) }
