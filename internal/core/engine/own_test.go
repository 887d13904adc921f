package engine

import (
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jollylarder/internal/core/analysis"
	"jollylarder/internal/core/catalog"
	schema "jollylarder/internal/core/catalog/postgres"
	"jollylarder/internal/core/dialect/postgres"
	"jollylarder/internal/core/ledger"
	"jollylarder/internal/core/reason"
	"jollylarder/internal/core/rules"
)

// described is a schema that is described whole.
var described = []schema.Row{
	{What: "builtin", OtherName: "i lower\nv lo_unlink\nv nextval"}, {What: "system", OtherName: "pg_catalog.pg_class"}, {What: "numbers", OtherName: "964 lo_unlink\n1574 nextval"},
	{What: "relation", Schema: "public", Name: "berths", Flags: "r"}, {What: "columns", Schema: "public", Name: "berths", OtherName: "n id\nn n"}, {What: "key", Schema: "public", Name: "berths", Flags: "berths_pkey", OtherName: "id"},
	{What: "function", Schema: "public", Name: "moves", Flags: "vf", OtherSchema: "plpgsql", OtherName: "create function moves() returns int language plpgsql as $$ begin update ports set n = n + 1; update berths set n = n + 1; return 1; end $$"},
	{What: "relation", Schema: "public", Name: "ports", Flags: "r"}, {What: "columns", Schema: "public", Name: "ports", OtherName: "n id\nn n"},
	{What: "granted", Schema: "public", Name: "berths", Flags: "1"}, {What: "granted", Schema: "public", Name: "ports", Flags: "1"}, {What: "readers", Name: "1", OtherName: "10\n11"},
}

// quays makes an engine that keeps everything before a database that is described whole.
func quays(t *testing.T) *Engine {
	e, err := New(Options{Dialect: postgres.Dialect, Misuse: func(what string) { t.Error(what) }}, now)
	require.NoError(t, err)
	e.SetRules(rules.NewSet([]rules.Rule{{Text: "*", Action: rules.Cache, ControlSample: -1}}))
	return e
}

// client begins a session of which everything is known, in a role.
// describe gives a description of rows that are in order.
func describe(rows []schema.Row) catalog.Description {
	d, err := schema.Describe(rows)
	if err != nil {
		panic(err)
	}
	return d
}

func client(e *Engine, role string, rows []schema.Row) *Session {
	s := e.NewSession(Identity{Database: "skerrow", User: "ines", Application: "quay-boards"})
	settle(s, role, "UTC", rows)
	return s
}

// settle has a session's server answer what it is asked.
func settle(s *Session, role, zone string, rows []schema.Row) {
	s.Asking(NeedSettings|NeedCatalog, now)
	s.Learned(Settings{Values: []string{zone}, Roles: []string{role}, Role: role, Isolation: analysis.ReadCommitted})
	s.LearnedCatalog(describe(rows), now)
}

// Each row: what a session sends, one after the other, and whether the last of it may have changed what another has been answered.
func TestWhatASessionHasOfItsOwn(t *testing.T) {
	for name, c := range map[string]struct {
		sent  []string
		drops bool
	}{
		"a statement of SQL that reads":           {[]string{"prepare p as select n from berths", "execute p"}, false},
		"one that writes elsewhere":               {[]string{"prepare p (int) as update ports set n = $1", "execute p (1)"}, false},
		"one that writes":                         {[]string{"prepare p (int) as update berths set n = $1", "execute p (1)"}, true},
		"one that is not known":                   {[]string{"execute p"}, true},
		"one that was forgotten":                  {[]string{"prepare p as select 1", "deallocate p", "execute p"}, true},
		"one of a name that was used twice":       {[]string{"prepare p as select 1", "prepare p as update ports set n = 1", "execute p"}, true},
		"one that is run with a call":             {[]string{"prepare p (int) as select $1", "execute p (unheard())"}, true},
		"code that does nothing":                  {[]string{"do $$ begin null; end $$"}, false},
		"code that writes elsewhere":              {[]string{"do $$ begin update ports set n = 1; end $$"}, false},
		"code that writes":                        {[]string{"do $$ begin update berths set n = 1; end $$"}, true},
		"code made at run time":                   {[]string{"do $$ begin execute 'select 1'; end $$"}, true},
		"code in another language":                {[]string{"do language plperl 'x'"}, true},
		"a temporary table":                       {[]string{"create temp table mine (id int primary key, n int default 3, s text)", "insert into mine values (1)"}, false},
		"a temporary table that is taken away":    {[]string{"create temp table mine (id int)", "drop table mine"}, false},
		"a table that nobody knows":               {[]string{"insert into mine values (1)"}, true},
		"one with a default that calls something": {[]string{"create temp table mine (id int default unheard())", "insert into mine values (1)"}, true},
		"one with a check":                        {[]string{"create temp table mine (id int check (unheard(id)))", "insert into mine values (1)"}, true},
		"one with a type of the database's":       {[]string{"create temp table mine (id unheard)", "insert into mine values (1)"}, true},
		"one that was forgotten with all":         {[]string{"create temp table mine (id int)", "discard all", "insert into mine values (1)"}, true},
		"one that a definition may have changed":  {[]string{"create temp table mine (id int)", "create trigger t after insert on mine execute function f()", "insert into mine values (1)"}, true},
		"a temporary table and another":           {[]string{"create temp table mine (id int)", "with w as (insert into mine values (1) returning id) update berths set n = id from w"}, true},
		"a table of the catalog that is dropped":  {[]string{"drop table berths"}, true},
		"a comment":                               {[]string{"comment on table berths is 'x'"}, false},
		"privileges elsewhere":                    {[]string{"grant select on ports to ines"}, false},
		"privileges":                              {[]string{"revoke select on berths from ines"}, true},
		"privileges of a whole schema":            {[]string{"grant select on all tables in schema public to ines"}, true},
		"a definition of another kind":            {[]string{"create schema x"}, true},
		"a new table":                             {[]string{"create table x (id int primary key, at timestamptz default now() check (at > '2026-01-01'))"}, false},
		"a new table that calls something":        {[]string{"create table x (id int default unheard())"}, true},
		"an index elsewhere":                      {[]string{"create index on ports (n)"}, false},
		"an index":                                {[]string{"create index on berths (n)"}, false},
		"an index that calls something":           {[]string{"create index on ports (unheard(n))"}, true},
		"a column more elsewhere":                 {[]string{"alter table ports add column more text"}, false},
		"a column more":                           {[]string{"alter table berths add column more text"}, true},
		"a column of another type":                {[]string{"alter table ports alter column n type text using unheard(n)"}, true},
		"row security":                            {[]string{"alter table berths enable row level security"}, true},
		"another name for another table":          {[]string{"alter table ports rename to quays"}, false},
		"another name":                            {[]string{"alter table berths rename to quays"}, true},
		"a view":                                  {[]string{"create view busy as select n from berths where n > 3"}, false},
		"a table that is dropped elsewhere":       {[]string{"drop table ports"}, false},
		"a trigger elsewhere":                     {[]string{"create trigger t after insert on ports execute function f()"}, false},
		"a block with what no rollback undoes":    {[]string{"begin", "select unheard()"}, true},
		"a block with what a rollback undoes":     {[]string{"begin", "update berths set n = 1"}, false},
	} {
		t.Run(name, func(t *testing.T) {
			e := quays(t)
			reader, writer := client(e, "10", described), client(e, "10", described)
			ask(reader, read, now)
			require.Equal(t, ledger.Hit, ask(reader, read, now))
			for i, sql := range c.sent {
				d := decide(writer, sql)
				d.Sent(now)
				d.End(Result{}, now)
				state := Idle
				if c.sent[0] == "begin" {
					state = InBlock
				}
				writer.Ready(state)
				if i < len(c.sent)-1 { // what came before has had its effect
					settle(reader, "10", "UTC", described)
					settle(writer, "10", "UTC", described)
					ask(reader, read, now)
					require.Equal(t, ledger.Hit, ask(reader, read, now), sql)
				}
			}
			if !c.drops {
				assert.Equal(t, ledger.Hit, ask(reader, read, now))
			} else {
				assert.NotEqual(t, ledger.Hit, ask(reader, read, now))
			}
		})
	}
}

// A call by number stands for one of the server's own functions, or for anything.
func TestCallsByNumber(t *testing.T) {
	s := client(quays(t), "10", described)
	assert.False(t, s.e.Does(s.Numbered(964).Pattern).Everything)
	d := s.Begin(&Request{Statement: s.Numbered(964), NoAsking: true}, now)
	assert.Equal(t, ledger.Bypass, d.Outcome)
	d = s.Begin(&Request{Statement: s.Numbered(12345), NoAsking: true}, now)
	assert.Equal(t, ledger.Write, d.Outcome)
}

// askParsed asks by a statement that was prepared at some moment.
func askParsed(s *Session, sql string, p *Parsed) Decision {
	d := s.Begin(&Request{Statement: s.Read([]byte(sql)), Shape: 'x', Parsed: p}, now)
	said := d.Decision
	if d.Step() == StepForward {
		d.Sent(now)
	}
	d.End(Result{Took: time.Millisecond, Fetch: time.Millisecond, Rows: 1, Bytes: 9, Reply: []byte("the reply")}, now)
	if said.Outcome != ledger.Hit {
		s.Ready(Idle)
	}
	return said
}

// What was prepared under other settings or definitions has results of its own, or none where these are not known.
func TestWhenAStatementWasPrepared(t *testing.T) {
	const dated = "select n from berths where note > '2026-01-01'"
	set := func(s *Session, zone string) {
		d := decide(s, "set timezone = 'x'")
		d.Sent(now)
		d.End(Result{}, now)
		s.Ready(Idle)
		settle(s, "10", zone, described)
	}
	t.Run("settings", func(t *testing.T) {
		e := quays(t)
		s, other := client(e, "10", described), client(e, "10", described)
		early := s.Parsed()
		askParsed(s, dated, &early)
		assert.Equal(t, ledger.Hit, askParsed(s, dated, &early).Outcome)
		set(s, "Asia/Tokyo")
		set(other, "Asia/Tokyo")
		late := other.Parsed()
		assert.Equal(t, ledger.Miss, askParsed(s, dated, &early).Outcome, "its constants were read by the settings of before")
		assert.Equal(t, ledger.Hit, askParsed(s, dated, &early).Outcome)
		assert.Equal(t, ledger.Miss, askParsed(other, dated, &late).Outcome, "and those of another by the settings of now")
		assert.Equal(t, ledger.Miss, askParsed(s, read, &early).Outcome, "what has no such constants")
		assert.Equal(t, ledger.Hit, askParsed(other, read, &late).Outcome, "is the same")
	})
	t.Run("settings that are undone", func(t *testing.T) {
		for _, end := range []string{"commit", "rollback", "rollback to p"} {
			s := client(quays(t), "10", described)
			send := func(sql string, state TxState) {
				d := decide(s, sql)
				d.Sent(now)
				d.End(Result{}, now)
				s.Ready(state)
			}
			send("begin", InBlock)
			send("savepoint p", InBlock)
			send("set local timezone = 'Asia/Tokyo'", InBlock)
			within := s.Parsed()
			send(end, map[bool]TxState{true: InBlock, false: Idle}[end == "rollback to p"])
			if end == "rollback to p" {
				send("commit", Idle)
			}
			settle(s, "10", "UTC", described)
			assert.Equal(t, reason.ParsedUnderOthers, askParsed(s, dated, &within).Reason.Code, end)
		}
	})
	t.Run("settings that are not known", func(t *testing.T) {
		e := quays(t)
		s := e.NewSession(Identity{Database: "skerrow", User: "ines"})
		early := s.Parsed()
		set(s, "UTC")
		assert.Equal(t, reason.ParsedUnderOthers, askParsed(s, dated, &early).Reason.Code)
		assert.Equal(t, ledger.Miss, askParsed(s, read, &early).Outcome)
	})
	t.Run("definitions", func(t *testing.T) {
		e := quays(t)
		s, other := client(e, "10", described), client(e, "10", described)
		early := s.Parsed()
		d := decide(other, "alter table berths alter n type text")
		d.Sent(now)
		meanwhile := s.Parsed()
		d.End(Result{}, now)
		other.Ready(Idle)
		changed := slices.Clone(described)
		for i := range changed {
			if changed[i].What == "columns" && changed[i].Name == "berths" {
				changed[i].OtherName = "n id\nt n"
			}
		}
		settle(s, "10", "UTC", changed)
		settle(other, "10", "UTC", changed)
		late := other.Parsed()
		assert.Equal(t, ledger.Miss, askParsed(other, read, &late).Outcome)
		assert.Equal(t, ledger.Hit, askParsed(other, read, &late).Outcome)
		assert.Equal(t, ledger.Miss, askParsed(s, read, &early).Outcome, "it has the types of before")
		assert.Equal(t, reason.ParsedUnknown, askParsed(s, read, &meanwhile).Reason.Code, "it may have either")
		whole, ok := e.identities.spell(string(decideKey(s, read, &early)))
		require.True(t, ok)
		_, _, again := e.asked(whole)
		assert.False(t, again, "nobody else can fetch it again")

		before := s.Parsed()
		assert.Equal(t, ledger.Hit, askParsed(s, read, &before).Outcome)
		settle(s, "10", "UTC", described) // it was changed around the larder meanwhile
		settle(s, "10", "UTC", described) // and the schemas of its search path may be others
		after := s.Parsed()
		assert.Equal(t, ledger.Miss, askParsed(s, read, &after).Outcome)
		assert.Equal(t, reason.ParsedUnknown, askParsed(s, read, &before).Reason.Code, "nobody knows which came first")
	})
}

// decideKey gives the key by which a statement is looked up.
func decideKey(s *Session, sql string, p *Parsed) []byte {
	s.Begin(&Request{Statement: s.Read([]byte(sql)), Shape: 'x', Parsed: p}, now).Drop()
	return s.key
}

// Roles share results by their numbers, and only while it is known who may read what.
func TestSharingByTheNumberOfARole(t *testing.T) {
	e := quays(t)
	e.SetRules(rules.NewSet([]rules.Rule{{Text: "*", Action: rules.Cache, ControlSample: -1, AcrossUsers: true}}))
	one, two, three := client(e, "10", described), client(e, "11", described), client(e, "12", described)
	ask(one, read, now)
	assert.Equal(t, ledger.Hit, ask(two, read, now))
	assert.NotEqual(t, ledger.Hit, ask(three, read, now), "it may not read the table")
	d := decide(one, "grant select on ports to x")
	d.Sent(now)
	d.End(Result{}, now)
	one.Ready(Idle)
	assert.NotEqual(t, ledger.Hit, ask(two, read, now), "who may read what is not known now")
	settle(one, "10", "UTC", described)
	assert.Equal(t, ledger.Hit, ask(two, read, now))
}

// What is asked while the catalog is not known may write anything, and is judged for its session when it is known.
func TestBlindReads(t *testing.T) {
	e := quays(t)
	s := e.NewSession(Identity{Database: "skerrow", User: "ines"})
	early := s.Parsed()
	d := decide(s, "select n from berths")
	assert.True(t, d.resolved.Everything)
	d.Sent(now)
	assert.True(t, s.Writing(), "nothing is kept while it runs")
	d.End(Result{}, now)
	s.Ready(Idle)
	settle(s, "10", "UTC", described)
	decide(s, read)
	late := s.Parsed()
	assert.True(t, early.Same(&late), "it has changed no setting")
	assert.False(t, s.mayLeave(), "and made nothing that goes with it")

	s = e.NewSession(Identity{Database: "skerrow", User: "ines"})
	early = s.Parsed()
	other := client(e, "10", described)
	d = decide(other, "create table x ()")
	d.Sent(now)
	d.End(Result{}, now)
	other.Ready(Idle)
	d = decide(s, "select unheard from berths, lateral f(n)") // a function that nobody knows
	d.Sent(now)
	d.End(Result{}, now)
	s.Ready(Idle)
	settle(s, "10", "UTC", described)
	decide(s, read)
	late = s.Parsed()
	assert.False(t, early.Same(&late))
	assert.True(t, s.mayLeave())
}

// What is only asked while the catalog is not known is told to nobody as a write.
func TestBlindReadsAreNoWrites(t *testing.T) {
	e := quays(t)
	s := e.NewSession(Identity{Database: "skerrow", User: "ines"})
	writes := func(sql string) (n uint64) {
		d := decide(s, sql)
		d.Sent(now)
		d.End(Result{}, now)
		s.Ready(map[bool]TxState{true: InBlock, false: Idle}[s.InBlock() && sql != "commit"])
		for _, x := range e.Tables() {
			n += x.Writes
		}
		return n
	}
	for _, sql := range []string{"select n from berths", "begin", "select n from ports", "commit"} {
		assert.Zero(t, writes(sql), sql)
	}
	assert.NotZero(t, writes("insert into berths values (1)"))
	for sql, outcome := range map[string]ledger.Outcome{"select n from berths": ledger.Bypass, "insert into berths values (1)": ledger.Write, "update ports set n = 1": ledger.Write} {
		d := decide(s, sql)
		assert.Equal(t, outcome, d.Outcome, sql)
		d.Drop()
	}
}
