package postgres_test

import (
	"encoding/binary"
	"fmt"
	"io"
	"log/slog"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	facts "jollylarder/internal/core/analysis/postgres"
)

// A server that is newer than the larder has settings that nobody has reviewed. There is none here, so that one of the
// server's settings is given another name on the way, of the same length: the larder does not know that it is the one which
// decides how bytes are written.
const newSetting, itsOldName = "frobs_output", "bytea_output"

// newer is a server as it is behind a relay that gives a setting another name.
func newer(t *testing.T, to string) (address string) {
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { ln.Close() })
	asks := strings.NewReplacer(newSetting, itsOldName, itsOldName, "bytea_missed")
	answers := strings.NewReplacer(itsOldName, newSetting)
	go func() {
		for {
			c, err := ln.Accept()
			if err != nil {
				return
			}
			o, err := net.Dial("tcp", to)
			if err != nil {
				c.Close()
				return
			}
			go func() { renames(o, c, asks, 0); o.Close() }()
			go func() { renames(c, o, answers, 1); c.Close() }()
		}
	}()
	return ln.Addr().String()
}

// renames passes whole messages on with words in them replaced. The first one begins with so many bytes before its length;
// all others have one.
func renames(to io.Writer, from io.Reader, words *strings.Replacer, first int) {
	for before := first; ; before = 1 {
		head := make([]byte, before+4)
		if _, err := io.ReadFull(from, head); err != nil {
			return
		}
		body := make([]byte, binary.BigEndian.Uint32(head[before:])-4)
		if _, err := io.ReadFull(from, body); err != nil {
			return
		}
		if _, err := io.WriteString(to, string(head)+words.Replace(string(body))); err != nil {
			return
		}
	}
}

// What such a setting decides is told apart like what any other does, however a session comes by its value.
func TestASettingThatNobodyHasReviewed(t *testing.T) {
	require.True(t, facts.Unreviewed(newSetting))
	l := newLarder(t, "create table cargo (id int primary key, mark bytea); insert into cargo values (1, 'A')")
	l.exec(l.direct, fmt.Sprintf("create role other login; grant select on cargo to other; alter role other in database %s set bytea_output = 'escape'", l.database))
	t.Cleanup(func() { l.exec(l.direct, "drop owned by other; drop role other") })
	l.serve(newer(t, server.Address()))
	log, err := os.Create(filepath.Join(t.TempDir(), "log"))
	require.NoError(t, err)
	l.server.Log = slog.New(slog.NewTextHandler(log, nil))
	l.through = "postgres://postgres@" + l.address + "/" + l.database + "?sslmode=disable"
	l.cacheAll()
	const ask = "select mark from cargo where id = 1"
	usual := connect(t, l.through, pgx.QueryExecModeSimpleProtocol)
	l.hit(usual, func() { assert.Equal(t, "\\x41|\n", text(t, usual, ask)) })
	for name, c := range map[string]struct {
		options string // of its login
		set     []string
		back    string // takes it back
	}{
		"set":                        {"", []string{"set frobs_output = 'escape'"}, "reset frobs_output"},
		"set by a quoted name":       {"", []string{`SET SESSION "frobs_output" TO escape`}, "reset all"},
		"set by a function":          {"", []string{"select set_config('frobs_output', 'escape', false)"}, "discard all"},
		"set before it is prepared":  {"", []string{"set frobs_output = 'escape'", "prepare later as select 1"}, "set frobs_output to default"},
		"told at its login":          {"&options=-c%20frobs_output%3Descape", nil, "set frobs_output = 'hex'"},
		"named at its login":         {"&frobs_output=escape", nil, "set frobs_output = 'hex'"},
		"that of its role":           {"&user=other", nil, "set frobs_output = 'hex'"},
		"set in a block that stays":  {"", []string{"begin", "set frobs_output = 'escape'", "commit"}, "reset frobs_output"},
		"set before one rolled back": {"", []string{"set frobs_output = 'escape'", "begin", "reset frobs_output", "rollback"}, "reset frobs_output"},
	} {
		t.Run(name, func(t *testing.T) {
			var s *pgx.Conn
			for range 2 { // what the first one asks is there for the second
				s = connect(t, l.through+c.options, pgx.QueryExecModeSimpleProtocol)
				for _, sql := range c.set {
					text(t, s, sql)
				}
				require.Equal(t, "A|\n", text(t, s, ask))
				l.hit(s, func() { assert.Equal(t, "A|\n", text(t, s, ask)) })
			}
			text(t, s, c.back)
			require.Equal(t, "\\x41|\n", text(t, s, ask))
			l.hit(s, func() { assert.Equal(t, "\\x41|\n", text(t, s, ask)) })
			assert.Equal(t, "\\x41|\n", text(t, usual, ask))
			assert.True(t, wasHit(t, usual))
		})
	}
	t.Run("in the log", func(t *testing.T) {
		told, err := os.ReadFile(log.Name())
		require.NoError(t, err)
		assert.Equal(t, 1, strings.Count(string(told), "settings=frobs_output"), "once for all sessions")
	})
	t.Run("within a block", func(t *testing.T) {
		s := connect(t, l.through, pgx.QueryExecModeSimpleProtocol)
		l.hit(s, func() { text(t, s, ask) })
		for _, end := range []string{"commit", "rollback"} {
			text(t, s, "begin")
			text(t, s, "set local frobs_output = 'escape'")
			assert.Equal(t, "A|\n", text(t, s, ask))
			text(t, s, end)
			assert.Equal(t, "\\x41|\n", text(t, s, ask))
		}
	})
}

// A setting with a dot is what applications make up, and one that is reviewed changes nothing: a session that sets these is
// answered from memory as before, and nothing is asked.
func TestSettingsThatChangeNothing(t *testing.T) {
	l := newLarder(t, "create table cargo (id int primary key, mark bytea); insert into cargo values (1, 'A')")
	r := &countingRelay{to: server.Address()}
	l.serve(r.start(t))
	l.through = "postgres://postgres@" + l.address + "/" + l.database + "?sslmode=disable"
	l.cacheAll()
	const ask = "select mark from cargo where id = 1"
	s := connect(t, l.through, pgx.QueryExecModeSimpleProtocol)
	l.hit(s, func() { text(t, s, ask) })
	for _, sql := range []string{"set application.desk = '7'", "set work_mem = '8MB'", "SET Enable_SeqScan = off", "set statement_timeout = '1min'"} {
		text(t, s, sql)
		before := r.asked.Load()
		text(t, s, ask)
		require.True(t, wasHit(t, s), sql)
		assert.Equal(t, before, r.asked.Load(), sql)
	}
}
