package engine

import (
	"fmt"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jollylarder/internal/core/analysis"
	schema "jollylarder/internal/core/catalog/postgres"
	"jollylarder/internal/core/dialect"
	"jollylarder/internal/core/dialect/postgres"
	"jollylarder/internal/core/ledger"
	"jollylarder/internal/core/rules"
	"jollylarder/internal/core/statement"
)

// another is a kind of database that is made up: names are written `so` and in the case that counts, texts "so" with
// backslashes, parameters are question marks, and clocks belong to the whole server. Its statements are read by
// translating them.
func another() *dialect.Dialect {
	d := *postgres.Dialect
	d.Syntax = statement.NewSyntax(statement.Lexical{
		Name: "another",
		Quotes: []statement.Quote{
			{Mark: '\'', Backslash: true}, {Mark: '"', Backslash: true}, {Mark: '`', Name: true},
		},
		HashComments: true, QuestionMark: true, Joins: statement.JoinsAlways, NameChars: "$",
		Keyword: func(word []byte) bool {
			return strings.Contains(" select from where update set and id n ", " "+string(word)+" ")
		},
		Operators: "+-*/<>=!?", Reserved: func([]byte) bool { return false },
	})
	d.Facts = func(syntax *statement.Syntax, sql string) *analysis.Facts {
		scan := statement.Scan{Syntax: syntax}
		scan.Read([]byte(sql))
		exact := string(scan.Exact) // which has no comments
		scan.Read([]byte(exact))
		out, from := "", 0
		for _, l := range scan.Literals {
			out += exact[from:l.Start]
			switch l.Kind {
			case statement.Parameter:
				out += fmt.Sprintf("$%d", l.Number)
			case statement.Text:
				out += "'text'"
			default:
				out += exact[l.Start:l.End]
			}
			from = l.End
		}
		return postgres.Dialect.Facts(syntax, strings.ReplaceAll(out+exact[from:], "`", `"`))
	}
	d.Realm = dialect.Server
	d.Views = [...]dialect.View{analysis.ReadCommitted: dialect.EachStatement, analysis.RepeatableRead: dialect.EachStatement, analysis.Serializable: dialect.FirstStatement}
	return &d
}

// both is an engine before an origin of either kind, with everything kept, and a session of each.
func both(t *testing.T) (e *Engine, here, there *Session) {
	e, err := New(Options{Dialect: postgres.Dialect, Dialects: map[string]*dialect.Dialect{"island": another()}, Misuse: func(what string) { t.Error(what) }}, now)
	require.NoError(t, err)
	e.SetRules(rules.NewSet([]rules.Rule{{Text: "*", Action: rules.Cache, TTL: time.Minute, ControlSample: -1}}))
	here = e.NewSession(Identity{Origin: "mainland", Database: "skerrow", User: "ines"})
	there = e.NewSession(Identity{Origin: "island", Database: "skerrow", User: "ines"})
	learn(here)
	learn(there)
	return e, here, there
}

func askIn(s *Session, sql string) ledger.Outcome { return ask(s, sql, now) }

// One larder stands before databases of several kinds: each statement is read as its own database reads it.
func TestOriginsOfSeveralKinds(t *testing.T) {
	e, here, there := both(t)
	assert.Equal(t, ledger.Miss, askIn(here, `select n from berths where id = 1`))
	assert.Equal(t, ledger.Miss, askIn(there, "SELECT n FROM `berths` # the quay\nWHERE id = 1"))
	assert.Equal(t, ledger.Hit, askIn(here, `SELECT n FROM berths WHERE id = 1`))
	assert.Equal(t, ledger.Hit, askIn(there, "select n from `berths` where id = 1"))

	assert.NotEqual(t, here.Read([]byte(`select n from berths`)).Pattern, there.Read([]byte(`select n from berths`)).Pattern,
		"the same words need not mean the same")
	assert.NotEqual(t, here.Read([]byte(`select n from berths`)).Pattern.ID, there.Read([]byte(`select n from berths`)).Pattern.ID)
	assert.Equal(t, `select n from berths where name = $`, there.Read([]byte(`select n from berths where name = "it\"s"`)).Pattern.Text)
	assert.Equal(t, `select n from Berths`, there.Read([]byte("SELECT n FROM Berths")).Pattern.Text, "the case of names counts there")
	assert.Equal(t, `select n from berths`, here.Read([]byte("SELECT n FROM Berths")).Pattern.Text)

	askIn(there, "update `berths` set n = 2 where id = 1")
	assert.Equal(t, ledger.Miss, askIn(there, "select n from `berths` where id = 1"))
	assert.Equal(t, ledger.Hit, askIn(here, `select n from berths where id = 1`), "what is written there is nothing here")
	assert.Len(t, e.Dialects(), 2)
}

// Where clocks belong to the whole server, a write in one of its databases drops results of another; where they belong
// to a database, it does not.
func TestRealms(t *testing.T) {
	e, here, there := both(t)
	for origin, s := range map[string]*Session{"mainland": here, "island": there} {
		writer := e.NewSession(Identity{Origin: origin, Database: "ledgers", User: "ines"})
		learn(writer)
		require.Equal(t, ledger.Miss, askIn(s, `select n from berths where id = 1`))
		require.Equal(t, ledger.Hit, askIn(s, `select n from berths where id = 1`))
		assert.Equal(t, ledger.Miss, askIn(writer, `select n from berths where id = 1`), "its default schema is another")
		askIn(writer, `update berths set n = 2 where id = 1`)
		want := map[string]ledger.Outcome{"mainland": ledger.Hit, "island": ledger.Miss}[origin]
		assert.Equal(t, want, askIn(s, `select n from berths where id = 1`), origin)
	}
}

// The dialect says which isolations let a read in a block be answered, and when.
func TestViewsOfBlocks(t *testing.T) {
	_, here, there := both(t)
	for _, c := range []struct {
		s           *Session
		level       string
		first, next ledger.Outcome
	}{
		{here, "read committed", ledger.Hit, ledger.Hit},
		{here, "repeatable read", ledger.Bypass, ledger.Hit},
		{here, "serializable", ledger.Bypass, ledger.Bypass},
		{there, "read committed", ledger.Hit, ledger.Hit},
		{there, "repeatable read", ledger.Hit, ledger.Hit},
		{there, "serializable", ledger.Bypass, ledger.Hit},
	} {
		ask(c.s, read, now)
		require.Equal(t, ledger.Hit, ask(c.s, read, now))
		inBlock := func(sql string, state TxState) ledger.Outcome {
			d := decide(c.s, sql)
			out := d.Outcome
			if d.Step() == StepForward {
				d.Sent(now)
			}
			d.End(Result{}, now)
			if out != ledger.Hit {
				c.s.Ready(state)
			}
			return out
		}
		inBlock("begin isolation level "+c.level, InBlock)
		assert.Equal(t, c.first, inBlock(read, InBlock), "%s, %s", c.s.Origin, c.level)
		assert.Equal(t, c.next, inBlock(read, InBlock), "%s, %s", c.s.Origin, c.level)
		inBlock("commit", Idle)
	}
}

// A session may change how it writes: the same bytes are then another statement.
func TestSyntaxesOfOneSession(t *testing.T) {
	e, here, _ := both(t)
	const sql = `select n from berths where "id" = 1`
	plain := here.Read([]byte(sql)).Pattern
	for range 3 { // so that its bytes are remembered
		here.Read([]byte(sql))
	}
	mode := another().Syntax
	here.SetSyntax(mode)
	quoted := here.Read([]byte(sql)).Pattern
	assert.NotSame(t, plain, quoted)
	assert.Equal(t, "select n from berths where $ = $", quoted.Text)
	assert.Same(t, mode, quoted.Syntax)
	here.SetSyntax(postgres.Dialect.Syntax)
	assert.Same(t, plain, here.Read([]byte(sql)).Pattern)
	assert.Same(t, quoted, e.Pattern(quoted.ID))
}

// Statements of one shape may mention their parameters in other places: what holds of the first of them need not hold
// of the others. Here its other mention decides which type the parameter has, and so which values are equal to it.
func TestParametersMentionedElsewhere(t *testing.T) {
	const apart, twice = "select n from berths where id = $1 and length($2) > 0", "select n from berths where id = $1 and length($1) > 0"
	for _, order := range [][]string{{apart, twice}, {twice, apart}} {
		e, s := begin(t, Options{})
		e.SetRules(rules.NewSet([]rules.Rule{{Text: "*", Action: rules.Cache, TTL: time.Minute, ControlSample: -1}}))
		for _, sql := range order {
			bound := []byte{0, 0, 0, map[string]byte{apart: 2, twice: 1}[sql]}
			for range bound[3] {
				bound = append(bound, 0, 0, 0, 1, '5')
			}
			read := func() ledger.Outcome {
				d := s.Begin(&Request{Statement: s.Read([]byte(sql)), Shape: 'p', Types: []byte{0, 0}, Bound: append(bound, 0, 0)}, now)
				out := d.Outcome
				if d.Step() == StepForward {
					d.Sent(now)
				}
				d.End(Result{Took: time.Millisecond, Fetch: time.Millisecond, Rows: 1, Bytes: 9, Reply: []byte("the reply")}, now)
				s.Ready(Idle)
				return out
			}
			require.Equal(t, ledger.Miss, read())
			require.Equal(t, ledger.Hit, read())
			ask(s, "update berths set n = 2 where id = 6", now)
			if sql == twice {
				assert.Equal(t, ledger.Miss, read(), "%s after %s", sql, order[0])
			} else if sql == order[0] {
				assert.Equal(t, ledger.Hit, read(), "another row was written")
			}
		}
	}
}

// The schema that a session is told of belongs to its realm: a table described there is known in every database.
func TestOneCatalogOfAServer(t *testing.T) {
	e, _, there := both(t)
	other := e.NewSession(Identity{Origin: "island", Database: "ledgers", User: "ines"})
	assert.Zero(t, other.Wants(now)&NeedCatalog, "it is known already")
	assert.Equal(t, []string{"public.berths", "public.ports"}, other.db.current().Tables())
	assert.Same(t, there.db, other.db)
	stranger := e.NewSession(Identity{Origin: "mainland", Database: "ledgers", User: "ines"})
	assert.NotZero(t, stranger.Wants(now)&NeedCatalog)
	_, err := schema.Describe([]schema.Row{{What: "relation", Schema: "public", Name: strconv.Itoa(1)}})
	assert.Error(t, err, "a description with a row that says nothing known is refused")
}
