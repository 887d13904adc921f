package grammar_test

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"jollylarder/internal/core/analysis/postgres/grammar"
)

// wrap is a rule of the grammar that holds itself: what stands before and behind the inner one.
type wrap struct{ before, behind string }

// The rules of the grammar that hold themselves, by what they make. The shortest form of each is there, since the stack is
// measured against the length of the text.
var wraps = map[string][]wrap{
	"expression": {
		{"", "+1"}, {"", "||a"}, {"", "=1"}, {"", "<1"}, {"", "^1"}, {"", " or a"}, {"", " and a"}, {"", "::a"}, {"", "::a[]"}, {"", "[1]"}, {"", "[1:2]"},
		{"", " isnull"}, {"", " notnull"}, {"", " is null"}, {"", " is true"}, {"", " is not unknown"}, {"", " is document"}, {"", " is normalized"}, {"", " is json"},
		{"", " collate c"}, {"", " at time zone a"}, {"", " at local"}, {"", " like a"}, {"", " ilike a escape b"}, {"", " similar to a"},
		{"", " between 1 and 2"}, {"", " in(1)"}, {"", " in(select 1)"}, {"", " is distinct from 1"}, {"", "=any(a)"}, {"", " operator(a.+)1"}, {"", " overlaps(1,2)"},
		{"(", ")"}, {"(", ").a"}, {"-", ""}, {"+ ", ""}, {"@", ""}, {"not ", ""}, {"1+", ""}, {"1||", ""}, {"a=", ""}, {"f(", ")"}, {"f(a=>", ")"}, {"f(variadic ", ")"},
		{"f(1)filter(where ", ")"}, {"f(1)over(order by ", ")"}, {"f(1 order by ", ")"}, {"f(1)within group(order by ", ")"}, {"row(", ")"}, {"(1,", ")"}, {"array[", "]"},
		{"array[[", "]]"}, {"cast(", " as a)"}, {"case when ", " then 1 end"}, {"case ", " when 1 then 1 end"}, {"case when 1 then 1 else ", " end"},
		{"coalesce(", ")"}, {"greatest(", ")"}, {"nullif(1,", ")"}, {"xmlelement(name a,", ")"}, {"extract(a from ", ")"}, {"substring(", " from 1)"},
		{"position(1 in ", ")"}, {"trim(", ")"}, {"overlay(a placing ", " from 1)"}, {"json_object(1:", ")"}, {"json_array(", ")"}, {"json_scalar(", ")"},
		{"(select ", ")"}, {"exists(select ", ")"}, {"array(select ", ")"}, {"a[", "]"}, {"1 in(", ")"}, {"unique(select ", ")"}, {"grouping(", ")"},
	},
	"from": {
		{"", " natural join b"}, {"", " cross join b"}, {"", " join b using(c)"}, {"", " join b on 1=1"}, {"(", " cross join b)"}, {"a join ", " on 1=1"}, {"", " tablesample a(1)"},
		{"lateral(select 1 from ", ")"}, {"(select 1 from ", ")a"}, {"a,", ""},
	},
	"query": {
		{"", " union select"}, {"", " union all select 1"}, {"", " intersect select"}, {"", " except select"}, {"", " union table a"}, {"", " union values(1)"},
		{"(", ")"}, {"(", ")limit 1"}, {"with a as(", ")select"}, {"select 1 union ", ""}, {"select union(", ")"}, {"select from(", ")a"}, {"select(", ")"}, {"select where exists(", ")"},
		{"with recursive a as(select union ", ")select"},
	},
}

// frames are how a statement holds one of these.
var frames = map[string][]wrap{
	"expression": {{"select ", ""}, {"select where ", ""}, {"update a set b=", ""}, {"insert into a values(", ")"}, {"delete from a where ", ""}, {"create table a(b int default ", ")"},
		{"create table a(b int check(", "))"}, {"create index on a((", "))"}, {"create view a as select ", ""}, {"call f(", ")"}, {"execute a(", ")"}, {"explain select ", ""},
		{"create policy a on b using(", ")"}, {"create function f()returns int return ", ""}, {"create function f(a int default ", ")returns int as''"},
		{"create trigger a before update on b for each row when(", ")execute function f()"}, {"merge into a using b on ", " when matched then delete"}, {"select order by ", ""}, {"select limit ", ""},
		{"create function f()returns int begin atomic select ", "; end"}},
	"from":  {{"select from ", ""}, {"update a set b=1 from ", ""}, {"delete from a using ", ""}},
	"query": {{"", ""}, {"create table a as ", ""}, {"insert into a ", ""}, {"declare a cursor for ", ""}, {"copy(", ")to stdout"}, {"prepare a as ", ""}},
}

var seeds = map[string]string{"expression": "a", "from": "a", "query": "select"}

// text writes a statement of at most n bytes: what the rules given make, again and again.
func text(frame wrap, seed string, rules []wrap, n int) string {
	var before, behind []string
	room := n - len(frame.before) - len(frame.behind) - len(seed)
	for i := 0; ; i++ {
		w := rules[i%len(rules)]
		if room -= len(w.before) + len(w.behind); room < 0 {
			break
		}
		before, behind = append(before, w.before), append(behind, w.behind)
	}
	var b strings.Builder
	b.WriteString(frame.before)
	for i := len(before) - 1; i >= 0; i-- {
		b.WriteString(before[i])
	}
	b.WriteString(seed)
	for _, s := range behind {
		b.WriteString(s)
	}
	b.WriteString(frame.behind)
	return b.String()
}

// length is that of the texts tried. What a text takes grows with its length, so that half of what there is for each byte
// is allowed.
const (
	length  = grammar.Longest / 64
	allowed = grammar.Stack / 64 / 2
)

func touched(kind int, text string) int { return grammar.Touched(kind, text, 2*allowed) }

// No rule of the grammar can use up the stack, however often it holds itself.
func TestNoRuleUsesUpTheStack(t *testing.T) {
	worst, of := 0, ""
	for kind, rules := range wraps {
		for i, w := range rules {
			sql := text(frames[kind][i%len(frames[kind])], seeds[kind], []wrap{w}, length)
			n := touched(0, sql)
			require.Less(t, n, allowed, "%.80s", sql)
			if n > worst {
				worst, of = n, sql
			}
		}
		for _, f := range frames[kind] {
			sql := text(f, seeds[kind], rules[:1], length)
			require.Less(t, touched(0, sql), allowed, "%.80s", sql)
		}
	}
	t.Logf("at most %d bytes of stack for each byte of text, of %d: %.60s", worst/length, grammar.Stack/grammar.Longest, of)
	assert.Greater(t, worst, length, "it is measured")
	assert.Less(t, grammar.Touched(0, of, 2*allowed), allowed)
	whole := text(frames["expression"][0], "a", wraps["expression"][:1], 8*length)
	assert.InDelta(t, 8, float64(grammar.Touched(0, whole, 16*allowed))/float64(touched(0, whole[:length])), 1, "it grows with the length")
}

// Nor can any mixture of rules, nor a text that is no SQL.
func TestNoMixtureOfRulesUsesUpTheStack(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		kind := rapid.SampledFrom([]string{"expression", "from", "query"}).Draw(t, "kind")
		rules := rapid.SliceOfN(rapid.SampledFrom(wraps[kind]), 1, 6).Draw(t, "rules")
		if rapid.Bool().Draw(t, "chain") { // what only follows makes the deepest trees: the parser needs no room for it
			for i := range rules {
				rules[i].before = ""
				if strings.ContainsAny(rules[i].behind, ")]") || strings.Contains(rules[i].behind, "end") {
					rules[i].behind = wraps[kind][0].behind
				}
			}
		}
		for _, w := range rules {
			if w.before+w.behind == "" {
				t.Skip("nothing grows")
			}
		}
		sql := text(rapid.SampledFrom(frames[kind]).Draw(t, "frame"), seeds[kind], rules, length)
		require.Less(t, touched(0, sql), allowed)
	})
	r := rand.New(rand.NewPCG(1, 2))
	for range 20 {
		b := make([]byte, length)
		for i := range b {
			b[i] = " ()[]+-*/a1'.,;:|"[r.IntN(17)]
		}
		require.Less(t, touched(0, string(b)), allowed)
	}
}

// The same holds of functions.
func TestNoFunctionUsesUpTheStack(t *testing.T) {
	for _, w := range []wrap{{"begin ", " end;"}, {"if a then ", " end if;"}, {"loop ", " end loop;"}, {"for i in 1..2 loop ", " end loop;"}, {"case a when 1 then ", " end case;"},
		{"begin exception when others then ", " end;"}, {"null;", ""}, {"if a then elsif b then ", " end if;"}, {"while a loop ", " end loop;"}} {
		body := "begin " + text(wrap{}, "null;", []wrap{w}, length-100) + " end"
		require.Less(t, touched(1, "create function f()returns int language plpgsql as $$"+body+"$$"), allowed, w.before)
	}
	for _, w := range wraps["expression"] {
		e := text(wrap{}, "a", []wrap{w}, length-100)
		require.Less(t, touched(1, "create function f()returns int language plpgsql as $$begin return "+e+"; end$$"), allowed, w)
	}
}

// What is beyond a bound is refused with its own reason, and what comes next is read.
func TestWhatIsBeyondABoundIsTold(t *testing.T) {
	_, err := grammar.Parse(strings.Repeat(" ", grammar.Longest+1))
	assert.ErrorIs(t, err, grammar.ErrLong)
	_, err = grammar.Parse("select 1" + strings.Repeat("+1", 100_000))
	assert.ErrorIs(t, err, grammar.ErrDeep)
	_, err = grammar.Parse("select 1" + strings.Repeat("+1", 2400))
	assert.NoError(t, err, "as deep as anybody writes")
	_, err = grammar.Parse("select 1" + strings.Repeat(" or a=1", 30_000))
	assert.NoError(t, err, "the grammar makes that flat")
	_, err = grammar.Parse("select " + strings.Repeat("(", 50_000))
	assert.Error(t, err)
	_, err = grammar.Parse("selec 1")
	assert.ErrorContains(t, err, "syntax error")
	for i := range 50 {
		tree, err := grammar.Parse(fmt.Sprintf("select %d", i))
		require.NoError(t, err)
		assert.Len(t, tree.Stmts, 1)
	}
}

// Many may read at once.
func TestManyReadAtOnce(t *testing.T) {
	done := make(chan error)
	for i := range 16 {
		go func() {
			for j := range 50 {
				sql := fmt.Sprintf("select %d, %s", j, strings.Repeat("a,", i*40)+"1")
				tree, err := grammar.Parse(sql)
				if err == nil && len(tree.Stmts[0].Stmt.GetSelectStmt().TargetList) != i*40+2 {
					err = fmt.Errorf("the tree of another text for %.20s", sql)
				}
				if err != nil {
					done <- err
					return
				}
			}
			done <- nil
		}()
	}
	for range 16 {
		assert.NoError(t, <-done)
	}
}
