package postgres

import (
	"bytes"
	"fmt"
	"io"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5/pgproto3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	dialect "jollylarder/internal/core/dialect/postgres"
	"jollylarder/internal/core/engine"
	"jollylarder/internal/core/reason"
)

// talk is a conversation that is held without any connection: what is sent is written as words, a message each, and so is what the origin says.
type talk struct {
	*conversation
	t       require.TestingT
	now     time.Time
	misused []string
}

func newTalk(t require.TestingT) *talk {
	k := &talk{conversation: &conversation{}, t: t, now: time.Unix(1_800_000_000, 0)}
	e, err := engine.New(engine.Options{Dialect: dialect.Dialect, Misuse: func(what string) { k.misused = append(k.misused, what) }}, k.now)
	require.NoError(t, err)
	k.eng = e.NewSession(engine.Identity{Database: "skerrow", User: "ines"})
	return k
}

func (k *talk) statement(sql string) *prepared {
	return &prepared{sql: []byte(sql), st: k.eng.Read([]byte(sql)).Clone()}
}

func (k *talk) open() *exchange {
	if x := k.openExchange(); x != nil {
		return x
	}
	return k.queue.open(k.now)
}

func (k *talk) runs(stmt *prepared) *execution {
	t := k.eng.Begin(&engine.Request{Statement: stmt.st, Shape: 'x', NoAsking: true, NoWaiting: true}, k.now)
	e := k.execution(t)
	e.Sent(k.now)
	return e
}

// sends has the client send messages. P:name=sql prepares, B:portal/name binds, D describes, E executes, C:name closes a statement and CP:name a
// portal, S and Q:sql are Sync and a simple query, and a Parse behind a minus is one of the larder's own.
func (k *talk) sends(script string) {
	for word := range strings.FieldsSeq(script) {
		kind, rest, _ := strings.Cut(word, ":")
		name, sql, _ := strings.Cut(rest, "=")
		sql = strings.ReplaceAll(sql, "_", " ")
		switch kind {
		case "P":
			k.sendsParse(k.open(), name, k.statement(sql))
		case "-P":
			stmt := k.statement(sql)
			k.expects(k.open(), expected{kind: 'P', silent: true, unnamed: unnamed{nil, stmt}})
		case "B":
			portal, name, _ := strings.Cut(rest, "/")
			stmt := k.here
			if name != "" {
				stmt = k.statements[name]
			}
			if stmt == nil {
				stmt = k.unknown(reason.NotPreparedHere)
			}
			k.sendsBind(k.open(), []byte(portal), stmt)
		case "D":
			k.expects(k.open(), expected{kind: 'D'})
		case "E":
			x, e := k.open(), k.runs(k.boundTo([]byte(rest)))
			if !e.Quiet() {
				x.loud++
			}
			k.expects(x, expected{kind: 'E', exec: e})
		case "C":
			k.sendsClose(k.open(), false, []byte(rest))
		case "CP":
			k.sendsClose(k.open(), true, []byte(rest))
		case "S":
			k.sendsSync(k.open())
		case "Q":
			x := k.openWhole(k.now)
			k.expects(x, expected{kind: wholeExchange, exec: k.runs(k.statement(strings.ReplaceAll(rest, "_", " "))), unnamed: unnamed{gone, gone}})
			k.forgetPortal()
		default:
			require.Fail(k.t, "no message of the client: "+word)
		}
	}
}

// hearsAll has the origin say messages, by their types; Z is followed by where the session stands. It gives what the client gets of it, with a question mark for
// what has no place.
func (k *talk) hearsAll(script string) (told string) {
	for word := range strings.FieldsSeq(script) {
		kind := word[0]
		if k.queue.len() == 0 {
			return told + "?"
		}
		x := k.queue.first()
		if kind == 'Z' {
			k.hasEnded(x)
			for i := range x.expect {
				if y := &x.expect[i]; y.exec != nil && (y.kind == 'E' || y.kind == wholeExchange) {
					if y.exec.done || y.kind == wholeExchange {
						y.exec.End(engine.Result{Failed: x.failed}, k.now)
					} else {
						y.exec.Skip()
					}
				}
			}
			k.stands(x, txState([]byte(word[1:])))
			told += "Z"
			continue
		}
		h := k.hears(x, kind, k.now)
		if h.stray {
			return told + "?"
		}
		if h.ends {
			k.ended(x, k.now)
		}
		if h.forward {
			told += string(kind)
		}
	}
	return told
}

// names gives what is known of the client's statements: their names with their texts, and a question mark for one that may be either.
func (k *talk) names() string {
	var out []string
	for name, stmt := range k.statements {
		text := string(stmt.sql)
		if stmt.sql == nil {
			text = "?"
		}
		out = append(out, name+"="+text)
	}
	slices.Sort(out)
	text := func(p *prepared) string {
		if p == nil {
			return "none"
		}
		return string(p.sql)
	}
	return fmt.Sprintf("%s; unnamed %s, at the origin %s", strings.Join(out, " "), text(k.here), text(k.there))
}

// Each row: what the client sends and the origin says, in turns; what the client gets of it; and what is known at the end.
func TestConversations(t *testing.T) {
	const nothing = "; unnamed none, at the origin none"
	for name, c := range map[string]struct {
		turns       []string // the client's, the origin's, the client's and so on
		told, names string
	}{
		"a simple query":               {[]string{"Q:select_1", "T D C ZI"}, "TDCZ", nothing},
		"one that fails":               {[]string{"Q:select_1", "T E ZI"}, "TEZ", nothing},
		"a unit":                       {[]string{"P:=one B:/ D E S", "1 2 T D C ZI"}, "12TDCZ", "; unnamed one, at the origin one"},
		"a statement without rows":     {[]string{"P:=one B:/ D E S", "1 2 n C ZI"}, "12nCZ", "; unnamed one, at the origin one"},
		"an empty statement":           {[]string{"P:= B:/ E S", "1 2 I ZI"}, "12IZ", "; unnamed , at the origin "},
		"a portal with rows left":      {[]string{"P:=one B:p/ E:p S", "1 2 D s ZT"}, "12DsZ", "; unnamed one, at the origin one"},
		"a name":                       {[]string{"P:a=one S", "1 ZI"}, "1Z", "a=one; unnamed none, at the origin none"},
		"a name before it is certain":  {[]string{"P:a=one S", "1 ZI", "P:a=two"}, "1Z", "a=?; unnamed none, at the origin none"},
		"a name that was taken":        {[]string{"P:a=one S", "1 ZI", "P:a=two S", "E ZI"}, "1ZEZ", "a=one; unnamed none, at the origin none"},
		"a name closed and taken anew": {[]string{"P:a=one S", "1 ZI", "C:a P:a=two S", "3 1 ZI"}, "1Z31Z", "a=two; unnamed none, at the origin none"},
		"a name that failed":           {[]string{"P:a=one S", "E ZI"}, "EZ", nothing},
		"what comes behind a failure":  {[]string{"P:=one B:/ E P:b=two B:/b E S", "1 E ZI"}, "1EZ", "; unnamed one, at the origin one"},
		"a failure and the next batch": {[]string{"P:=one B:/ E S P:b=two S", "E ZI 1 ZI"}, "EZ1Z", "b=two; unnamed none, at the origin none"},
		"a failure without a Sync":     {[]string{"P:=one E", "E", "P:a=two S", "ZI"}, "EZ", nothing},
		"a query behind a batch":       {[]string{"P:=one B:/ E Q:select_1", "1 2 C T D C ZI"}, "12CTDCZ", nothing},
		"unnamed, failed and before":   {[]string{"P:=one S", "1 ZI", "P:=two S", "E ZI"}, "1ZEZ", nothing},
		"unnamed, skipped":             {[]string{"P:=one S", "1 ZI", "B:x/none P:=two S", "E ZI"}, "1ZEZ", "; unnamed one, at the origin one"},
		"unnamed, closed":              {[]string{"P:=one S", "1 ZI", "C: S", "3 ZI"}, "1Z3Z", nothing},
		"one of the larder's own":      {[]string{"-P:=one B:/ E S", "1 2 C ZI"}, "2CZ", "; unnamed none, at the origin one"},
		"an own one that fails":        {[]string{"P:=one S", "1 ZI", "-P:=two B:/ S", "E ZI"}, "1ZEZ", "; unnamed one, at the origin none"},
		"data to the server":           {[]string{"P:=copy B:/ E S", "1 2 G", "S", "", "S", ""}, "12G", "; unnamed copy, at the origin copy"},
		"data from the server":         {[]string{"P:=copy B:/ E S", "1 2 H d d c C ZI"}, "12HddcCZ", "; unnamed copy, at the origin copy"},
		"a reply of another kind":      {[]string{"P:=one B:/ S", "1 3"}, "1?", "; unnamed one, at the origin one"},
		"a reply to nothing":           {[]string{"S", "ZI 1"}, "Z?", nothing},
		"a reply too many":             {[]string{"P:=one S", "1 2"}, "1?", "; unnamed one, at the origin one"},
		"a description out of place":   {[]string{"P:=one B:/ E S", "1 2 T"}, "12?", "; unnamed one, at the origin one"},
		"two exchanges in one breath":  {[]string{"P:a=one S Q:select_1 P:b=two S", "1 ZI C ZI 1 ZI"}, "1ZCZ1Z", "a=one b=two; unnamed none, at the origin none"},
	} {
		t.Run(name, func(t *testing.T) {
			k := newTalk(t)
			told := ""
			for i, turn := range c.turns {
				if i%2 == 0 {
					k.sends(turn)
				} else {
					told += k.hearsAll(turn)
				}
			}
			assert.Equal(t, c.told, told)
			assert.Equal(t, c.names, k.names())
			assert.Empty(t, k.misused)
		})
	}
}

// Whatever is sent and answered, as a server answers it, the conversation ends with nothing outstanding, knows the unnamed statement as the server does, and
// no name stands for what the server does not have by it.
func TestConversationsFollowAServer(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		k := newTalk(t)
		server := struct {
			names   map[string]string
			unnamed string
			failed  bool
		}{names: map[string]string{}, unnamed: "none"}
		var script []string
		say := func(word string, ok func() bool, reply string) string {
			script = append(script, word)
			if server.failed {
				return ""
			}
			if !rapid.Bool().Draw(t, "works") && rapid.Bool().Draw(t, "really") || !ok() {
				server.failed = true
				if strings.HasPrefix(word, "P:=") {
					server.unnamed = "none" // which it lets go of first
				}
				return "E "
			}
			return reply
		}
		yes := func() bool { return true }
		var owed []string // the answers to batches that were sent
		hear := func() {
			require.Equal(t, strings.ReplaceAll(strings.TrimSuffix(owed[0], "I"), " ", ""), k.hearsAll(owed[0]))
			owed = owed[1:]
		}
		for range rapid.IntRange(1, 5).Draw(t, "batches") {
			script = script[:0]
			answers := ""
			for range rapid.IntRange(0, 6).Draw(t, "messages") {
				name := rapid.SampledFrom([]string{"", "a", "b"}).Draw(t, "name")
				sql := rapid.SampledFrom([]string{"one", "two", "three"}).Draw(t, "sql")
				switch rapid.IntRange(0, 3).Draw(t, "kind") {
				case 0:
					answers += say("P:"+name+"="+sql, func() bool {
						if name == "" {
							server.unnamed = sql
							return true
						}
						if _, taken := server.names[name]; taken {
							return false
						}
						server.names[name] = sql
						return true
					}, "1 ")
				case 1:
					answers += say("C:"+name, func() bool {
						if name == "" {
							server.unnamed = "none"
						}
						delete(server.names, name)
						return true
					}, "3 ")
				case 2:
					answers += say("B:/"+name, yes, "2 ")
					answers += say("E", yes, "D C ")
				default:
					answers += say("D", yes, "n ")
				}
			}
			script = append(script, "S")
			k.sends(strings.Join(script, " "))
			owed = append(owed, answers+"ZI")
			server.failed = false
			for len(owed) > 0 && rapid.Bool().Draw(t, "answers") {
				hear()
			}
		}
		for len(owed) > 0 {
			hear()
		}
		assert.Zero(t, k.outstanding)
		assert.Zero(t, k.queue.len())
		unnamed := "none"
		if k.here != nil {
			unnamed = string(k.here.sql)
		}
		assert.Equal(t, server.unnamed, unnamed)
		assert.Equal(t, k.here, k.there)
		assert.Equal(t, k.here, k.hereNow)
		for name, stmt := range k.statements {
			if stmt.sql != nil {
				assert.Equal(t, server.names[name], string(stmt.sql), name)
			}
		}
		assert.False(t, k.eng.Writing(), "every ticket has come to its end")
		assert.Empty(t, k.misused)
	})
}

// A question that the server cuts short anywhere leaves nothing that the next would fail by.
func TestQuestionsThatAreCutShort(t *testing.T) {
	ask := func(names map[string]bool, failAt int) (failed bool) {
		r := pgproto3.NewBackend(bytes.NewReader(questionMessages("select 1")), io.Discard)
		for i := 0; ; i++ {
			m, err := r.Receive()
			require.NoError(t, err)
			if _, ok := m.(*pgproto3.Sync); ok {
				return failed
			}
			if failed {
				continue // the server skips it
			}
			failed = i == failAt
			switch m := m.(type) {
			case *pgproto3.Parse:
				failed = failed || names[m.Name]
				names[m.Name] = !failed
			case *pgproto3.Bind:
				failed = failed || !names[m.PreparedStatement]
			case *pgproto3.Close:
				if m.ObjectType == 'S' && !failed {
					delete(names, m.Name)
				}
			}
		}
	}
	for at := range 6 {
		names := map[string]bool{}
		require.True(t, ask(names, at))
		assert.False(t, ask(names, -1), "after a failure at message %d", at)
		assert.Empty(t, names)
	}
	for code, want := range map[string]bool{"42703": true, "42883": true, "0A000": true, "57014": false, "42P05": false, "42P03": false, "25P02": false} {
		assert.Equal(t, want, lacking(code), code)
	}
}
