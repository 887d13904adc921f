package rules

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"jollylarder/internal/core/statement"
)

const written = `# the harbour's rules

# boards ask all day
[[rule]]
pattern = "bado-kife-ruma"
action = "cache"   # fine with Ines of the harbour office
ttl = "30s" # "quoted" # twice

[[declare]]
function = "loyalty_points"
reads = ["bookings"]

# nothing of passengers
[[rule]]
name = "passengers"
action = "bypass"
tables = [
  "passengers", # by name
  "crew.people",
]
[rule.when]
application = "booking-web"
label.route = "/mine"
# end of file
`

func parse(t require.TestingT, text string) *Set {
	s, err := Parse([]byte(text))
	require.NoError(t, err, text)
	return s
}

func TestParse(t *testing.T) {
	s := parse(t, written)
	assert.Equal(t, 30*time.Second, s.Named("bado-kife-ruma").TTL)
	assert.Equal(t, []string{"passengers", "crew.people"}, s.Named("passengers").Tables)
	assert.Equal(t, map[string]string{"route": "/mine"}, s.Named("passengers").When.Labels)
	assert.Equal(t, []string{"bookings"}, s.Functions()["loyalty_points"].Reads)
	assert.True(t, s.Caches())
	assert.False(t, parse(t, strings.Replace(written, "ttl =", "paused = true\nttl =", 1)).Caches())
}

func TestEveryErrorHasItsPlace(t *testing.T) {
	const rule = "[[rule]]\npattern = \"bado-kife-ruma\"\naction = \"cache\"\n"
	const advised = "[[rule]]\nname = \"dashboards\"\naction = \"advised\"\nonly_tables = [\"fares\"]\n"
	for text, want := range map[string]string{
		"[[rule]]\npattern = \"x\"\naction = \"cache\"\nttl = \"1s\"\n":  "line 2, column 1: pattern \"x\" is not a pattern's id",
		"[[rule]]\npattern = \"bado-kife-ruma\"\n  action = \"maybe\"\n": "line 3, column 3: action \"maybe\"",
		"\n" + rule + "ttl = \"soon\"\n":                                 "line 5, column 1: ttl \"soon\"",
		rule:                                                             "line 3, column 1: a rule with action \"cache\" needs a ttl",
		"[[rule]]\naction = \"bypass\"\n":                                "line 1, column 1: the rule matches nothing",
		"[[rule]]\npatern = \"bado-kife-ruma\"\n":                        "line 2, column 1: unknown key rule.patern",
		"[[rule]]\npattern = \"bado-kife-ruma\naction = 1":               "line 2, column",
		"[[rule]]\npattern=\"bado-kife-ruma\"\naction=\"bypass\"\n[[rule]]\npattern=\"bado-kife-ruma\"\naction=\"bypass\"\n": "line 5, column 1: pattern bado-kife-ruma already has a rule in line 2",
		rule + "ttl = \"none\"\nmode = \"ttl only\"\n":                                              "line 5, column 1: mode \"ttl only\" needs a TTL",
		rule + "ttl = \"none\"\ntime_functions = true\n":                                            "line 5, column 1: time_functions needs a TTL",
		rule + "ttl = \"1s\"\nin_transaction = \"never\"\n":                                         "line 5, column 1: in_transaction \"never\": expected \"as isolated\" or \"as read committed\"",
		rule + "ttl = \"1s\"\nmode = \"hot\"\n":                                                     "line 5, column 1: mode \"hot\": expected \"until written\" or \"ttl only\"",
		rule + "ttl = \"1s\"\nsize_limit = \"big\"\n":                                               "line 5, column 1: size_limit \"big\": expected a number with a unit",
		rule + "ttl = \"1s\"\ncontrol_sample = 2.0\n":                                               "line 5, column 1: control_sample 2: expected a share",
		rule + "ttl = \"1s\"\ntables = []\n":                                                        "line 5, column 1: tables is empty",
		rule + "ttl = \"1s\"\nname = \"a b\"\n":                                                     "line 5, column 1: name \"a b\"",
		"[[declare]]\nreads = [\"t\"]\n":                                                            "line 1, column 1: nothing is named",
		"[[declare]]\nfunction = \"f\"\n":                                                           "line 1, column 1: nothing is declared",
		"[[declare]]\nfunction = \"f\"\nreads = [\"a.b.c\"]\n":                                      "line 3, column 1: \"a.b.c\" is not a table's name",
		"[[rule]]\npattern=\"bado-kife-ruma\"\naction=\"bypass\"\n[rule.when]\nclient = \"here\"\n": "line 4, column 1: client \"here\"",
		advised:                                                                                          "line 3, column 1: a rule with action \"advised\" needs a max_ttl",
		advised + "max_ttl = \"none\"\n":                                                                 "line 5, column 1: max_ttl \"none\": expected the oldest that an answer may be",
		advised + "max_ttl = \"900ms\"\n":                                                                "line 5, column 1: max_ttl \"900ms\"",
		advised + "max_ttl = \"1m\"\nttl = \"5s\"":                                                       "line 6, column 1: ttl is not for a rule with action \"advised\": expected max_ttl",
		advised + "max_ttl = \"1m\"\nmode = \"ttl only\"\n":                                              "line 6, column 1: mode is not for a rule with action \"advised\"",
		advised + "max_ttl = \"1m\"\nmemory_share = \"2%\"\n":                                            "line 6, column 1: memory_share is not for a rule with action \"advised\": expected max_memory",
		advised + "max_ttl = \"1m\"\nmax_memory = \"2\"\n":                                               "line 6, column 1: max_memory \"2\": expected a share",
		advised + "max_ttl = \"1m\"\non_stale = \"continue\"\n":                                          "line 6, column 1: on_stale \"continue\" is not for",
		advised + "max_ttl = \"1m\"\ncontrol_sample = 0\n":                                               "line 6, column 1: control_sample 0 is not for",
		advised + "max_ttl = \"1m\"\nmin_saved = \"much\"\n":                                             "line 6, column 1: min_saved \"much\": expected the waiting",
		advised + "max_ttl = \"1m\"\nnever_patterns = [\"x\"]\n":                                         "line 6, column 1: \"x\" is not a pattern's id",
		advised + "max_ttl = \"1m\"\nnever_tables = [\"a.b.c\"]\n":                                       "line 6, column 1: \"a.b.c\" is not a table's name",
		"[[rule]]\ntext = \"*\"\naction = \"advised\"\nmax_ttl = \"1m\"\n":                               "line 3, column 1: a rule with action \"advised\" needs a name",
		rule + "ttl = \"1s\"\nmax_ttl = \"1m\"\n":                                                        "line 5, column 1: max_ttl is a bound for what the larder chooses",
		rule + "ttl = \"1s\"\nnever_tables = [\"crew\"]\n":                                               "line 5, column 1: never_tables is a bound for what the larder chooses",
		"[[rule]]\ntext=\"*\"\naction=\"bypass\"\nmin_saved=\"1s\"\n":                                    "line 4, column 1: min_saved is a bound",
		advised + "max_ttl = \"1m\"\nmax_memory = \"60%\"\n" + rule + "ttl=\"1s\"\nmemory_share=\"40%\"": "line 11, column 1: the rules up to here reserve 100% of the memory",
		rule + "ttl = 5\n":                          "line 4, column 7: ttl: expected a text in quotes, not a TOML integer",
		rule + "ttl = \"5s\"\npaused = \"yes\"\n":   "line 5, column 10: paused: expected true or false, not a TOML string",
		rule + "ttl = \"5s\"\ntables = \"fares\"\n": "line 5, column 10: tables: expected a list of texts in quotes, not a TOML string",
	} {
		_, err := Parse([]byte(text))
		if assert.Error(t, err, text) {
			assert.Contains(t, err.Error(), want)
		}
	}
}

func TestEditsChangeWhatWasMeantAndNothingElse(t *testing.T) {
	boards := *parse(t, written).Named("bado-kife-ruma")
	boards.TTL = 5 * time.Minute
	out, err := Put([]byte(written), "bado-kife-ruma", boards)
	require.NoError(t, err)
	assert.Equal(t, strings.Replace(written, `ttl = "30s"`, `ttl = "5m"`, 1), string(out), "comments beside a key stay as well")

	people := *parse(t, written).Named("passengers")
	people.When = Conditions{User: "ines"}
	people.Paused = true
	out, err = Put([]byte(written), "passengers", people)
	require.NoError(t, err)
	want := strings.Replace(written, "[rule.when]\napplication = \"booking-web\"\nlabel.route = \"/mine\"\n", "", 1)
	want = strings.Replace(want, "]\n# end of file", "]\nwhen = { user = \"ines\" }\n# end of file", 1)
	want = strings.Replace(want, "action = \"bypass\"\n", "action = \"bypass\"\npaused = true\n", 1)
	assert.Equal(t, want, string(out))

	out, err = Move([]byte(written), "passengers", -1)
	require.NoError(t, err)
	assert.Less(t, strings.Index(string(out), "# nothing of passengers"), strings.Index(string(out), "# boards ask all day"), "a rule's comments go with it")
	out, err = Remove([]byte(written), "bado-kife-ruma")
	require.NoError(t, err)
	assert.Equal(t, "# the harbour's rules\n\n"+written[strings.Index(written, "[[declare]]"):], string(out))
	_, err = Remove(out, "bado-kife-ruma")
	assert.ErrorContains(t, err, "there is no rule")

	all := "[[rule]]\ntext = \"*\"\naction = \"bypass\"\n"
	out, err = Put([]byte(all), "", Rule{Pattern: "bado-kife-ruma", Action: Bypass, Statement: "select 1"})
	require.NoError(t, err)
	assert.Equal(t, "bado-kife-ruma", parse(t, string(out)).List()[0].Name, "a new rule stands before one that would decide in its place")
}

// Files from other systems stay what they are.
func TestLineEndsAndMarks(t *testing.T) {
	dos := strings.ReplaceAll(written, "\n", "\r\n")
	r := *parse(t, "\ufeff"+dos).Named("bado-kife-ruma")
	r.Paused = true
	out, err := Put([]byte("\ufeff"+dos), "bado-kife-ruma", r)
	require.NoError(t, err)
	assert.Equal(t, strings.Replace(dos, "# twice\r\n", "# twice\r\npaused = true\r\n", 1), string(out))
}

// drawRule makes any rule that can be written.
func drawRule(t *rapid.T) Rule {
	list := func(of ...string) []string {
		return rapid.SliceOfNDistinct(rapid.SampledFrom(of), 0, len(of), rapid.ID[string]).Draw(t, "list")
	}
	r := Rule{
		Pattern: statement.ID(rapid.SampledFrom([]string{"", "bado-kife-ruma", "sopi-luna-gito", "riva-toma-dilo"}).Draw(t, "pattern")),
		Text:    rapid.SampledFrom([]string{"select *", "*\"x'y*"}).Draw(t, "text"), Tables: list("ports", "public.fares"), OnlyTables: list("a.b"),
		Action: Cache, TTL: time.Duration(rapid.IntRange(1, 1e5).Draw(t, "ttl")) * time.Second, TTLOnly: rapid.Bool().Draw(t, "only"),
		SizeLimit: rapid.SampledFrom([]int{0, 1 << 10, 1500}).Draw(t, "largest"), MemoryShare: rapid.SampledFrom([]float64{0, 0.001, 0.125}).Draw(t, "memory"), SkipEmpty: rapid.Bool().Draw(t, "empty"),
		TimeFunctions: rapid.Bool().Draw(t, "time"), ReadCommitted: rapid.Bool().Draw(t, "committed"), AlsoReads: list("tides", "x.y"), Refetch: rapid.Bool().Draw(t, "again"),
		WarmUp: rapid.IntRange(0, 5).Draw(t, "start"), AcrossUsers: rapid.Bool().Draw(t, "share"),
		ControlSample: rapid.SampledFrom([]float64{0, 0.005, 1}).Draw(t, "sample"), Paused: rapid.Bool().Draw(t, "paused"),
		Note: rapid.String().Draw(t, "note"), Statement: "select 'x' \"y\" # z",
	}
	if rapid.IntRange(0, 3).Draw(t, "advised") == 0 {
		r.Action, r.TTLOnly, r.TimeFunctions = Advised, false, false
		r.MinSaved = time.Duration(rapid.IntRange(0, 5000).Draw(t, "least")) * time.Millisecond
		r.NeverTables = list("passengers", "public.crew")
		for _, id := range list("bado-kife-ruma", "sopi-luna-gito") {
			r.NeverPatterns = append(r.NeverPatterns, statement.ID(id))
		}
	}
	if rapid.Bool().Draw(t, "narrow") {
		r.When = Conditions{Application: "quay-boards", Client: netip.MustParsePrefix("10.0.0.0/8"), Labels: map[string]string{"a b": "c'd", "e": "\"f\""}}
	}
	return r
}

// A file written by the tool reads back the same, in any order of edits, with the comments of others in it.
func TestWrittenRulesReadBack(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		text := []byte(rapid.SampledFrom([]string{"", written, "# only a comment", "\n\n"}).Draw(t, "start"))
		comments := strings.Count(string(text), "#")
		for i := range rapid.IntRange(1, 8).Draw(t, "edits") {
			before := parse(t, string(text)).List()
			want := slices.Clone(before)
			var err error
			name := fmt.Sprintf("r%d", i)
			if len(before) > 0 && rapid.Bool().Draw(t, "old") {
				name = before[rapid.IntRange(0, len(before)-1).Draw(t, "which")].Name
			}
			at := slices.IndexFunc(before, func(r Rule) bool { return r.Name == name })
			switch what := rapid.SampledFrom([]string{"put", "put", "move"}).Draw(t, "what"); {
			case what == "move" && at >= 0:
				to := rapid.IntRange(0, len(before)-1).Draw(t, "to")
				text, err = Move(text, name, to-at)
				moved := want[at]
				want = slices.Insert(slices.Delete(want, at, at+1), to, moved)
			case at >= 0:
				r := drawRule(t)
				r.Name = name
				text, err = Put(text, name, r)
				want[at] = r
			default:
				r := drawRule(t)
				r.Pattern, r.Name = "", name
				text, err = Put(text, "", r)
				want = append(want, r)
			}
			require.NoError(t, err)
			got := parse(t, string(text)).List()
			require.Len(t, got, len(want))
			for j := range want {
				a, b := got[j].bare(), want[j].bare()
				a.Name, b.Name, a.named, b.named = "", "", false, false
				require.Equal(t, b, a)
			}
		}
		// Comments go only with what they stand in: those within a list, or a table, that was replaced.
		require.GreaterOrEqual(t, strings.Count(string(text), "#"), comments-2)
	})
}

func TestTheFirstRuleThatMatchesDecides(t *testing.T) {
	s := parse(t, `
[[rule]]
name = "boards"
pattern = "bado-kife-ruma"
action = "cache"
ttl = "10s"
when = { application = "quay-boards", client = "10.1.0.0/16", label.route = "/boards" }

[[rule]]
name = "people"
tables = ["passengers"]
action = "bypass"

[[rule]]
name = "fares"
text = "select * from fares*"
only_tables = ["public.fares", "ports"]
action = "cache"
ttl = "1m"

[[rule]]
name = "pattern"
pattern = "bado-kife-ruma"
action = "cache"
ttl = "1m"

[[rule]]
name = "last"
text = "*"
action = "bypass"
`)
	const other = "sopi-luna-gito"
	boards := Caller{Application: "quay-boards", Address: "10.1.2.3:4000", Comment: []byte("route='%2Fboards',x='y'")}
	decides := func(id, text string, reads []string, who *Caller) string {
		list := ThatRead(s.Candidates(statement.ID(id), text), reads)
		r := Deciding(list, who)
		mine := For(list, who)
		require.NotEmpty(t, mine)
		assert.Contains(t, mine, r, "what is worked out for a caller holds what decides")
		return r.Name
	}
	assert.Equal(t, "boards", decides("bado-kife-ruma", "select 1", []string{"public.ports"}, &boards))
	for _, who := range []Caller{
		{Application: "booking-web", Address: boards.Address, Comment: boards.Comment},
		{Application: boards.Application, Address: "10.2.2.3:4000", Comment: boards.Comment},
		{Application: boards.Application, Address: boards.Address, Comment: []byte("route='/other'")},
		{Application: boards.Application, Address: "socket", Comment: boards.Comment},
	} {
		assert.Equal(t, "pattern", decides("bado-kife-ruma", "select 1", []string{"public.ports"}, &who), who)
	}
	assert.Equal(t, "people", decides("bado-kife-ruma", "select 1", []string{"public.ports", "public.passengers"}, &Caller{}))
	assert.Equal(t, "fares", decides(other, "select * from fares where id = $", []string{"public.fares"}, &Caller{}))
	assert.Equal(t, "last", decides(other, "select * from fares where id = $", []string{"public.fares", "public.tides"}, &Caller{}))
	assert.Equal(t, "last", decides(other, "select 1", nil, &Caller{}))
	assert.Len(t, s.Candidates("bado-kife-ruma", "x"), 3, "behind the first that holds for all there is nothing to look at")
}

func TestDifference(t *testing.T) {
	before := parse(t, written)
	text, err := Move([]byte(written), "passengers", -1)
	require.NoError(t, err)
	text, err = Put(text, "bado-kife-ruma", Rule{Pattern: "bado-kife-ruma", Action: Cache, TTL: time.Minute, Note: "x"})
	require.NoError(t, err)
	text, err = Put(text, "", Rule{Pattern: "riva-toma-dilo", Action: Bypass})
	require.NoError(t, err)
	var kinds []string
	for _, c := range Difference(before, parse(t, string(text))) {
		kinds = append(kinds, c.Kind+" "+c.Rule+" "+fmt.Sprint(c.Keys))
	}
	assert.Equal(t, []string{"moved passengers []", `changed bado-kife-ruma [{ttl "30s" "1m"} {note  "x"}]`, "added riva-toma-dilo []"}, kinds)
	assert.Empty(t, Difference(before, before))
}

// A file of 10,000 rules.
func BenchmarkParse10000(b *testing.B) {
	var text strings.Builder
	for i := range 10_000 {
		fmt.Fprintf(&text, "# rule %d\n[[rule]]\nname = \"r%d\"\ntext = \"select c%d from *\"\naction = \"cache\"\nttl = \"30s\"\nnote = \"because\"\n\n", i, i, i)
	}
	for b.Loop() {
		if _, err := Parse([]byte(text.String())); err != nil {
			b.Fatal(err)
		}
	}
}

// Any file that is right can be edited, or the edit is refused; nothing else comes of it.
func FuzzEdits(f *testing.F) {
	f.Add([]byte(written), 1)
	f.Add([]byte("[[rule]]\npattern='bado-kife-ruma'\naction=\"cache\"\nttl='''1s'''\nnote=\"\"\"a\n\"quoted\\\" # no comment\"\"\"\"\n"), -1)
	f.Add([]byte("[[rule]]\n\"when\".client = '::1'\nwhen.user=\"x\" # y\naction='bypass'\n[[ rule ]]\ntext='*'\naction='bypass'"), 0)
	f.Add([]byte("rule = [{text = '*', action = 'bypass'}]"), 0)
	f.Fuzz(func(t *testing.T, text []byte, by int) {
		set, err := Parse(text)
		if err != nil || len(set.List()) == 0 {
			return
		}
		r := set.List()[0]
		r.Note, r.Paused = "changed", !r.Paused
		for _, edit := range []func() ([]byte, error){
			func() ([]byte, error) { return Put(text, r.Name, r) },
			func() ([]byte, error) { return Put(text, "", Rule{Name: "fresh", Text: "x", Action: Bypass}) },
			func() ([]byte, error) { return Move(text, r.Name, by) },
			func() ([]byte, error) { return Remove(text, r.Name) },
		} {
			if out, err := edit(); err == nil {
				_, err := Parse(out)
				require.NoError(t, err)
			}
		}
	})
}

// A key that there is not does not hide what else is wrong: all of it is said at once, in order.
func TestAllThatIsWrongIsSaidAtOnce(t *testing.T) {
	_, err := Parse([]byte("[[rule]]\ntext = \"*\"\naction = \"cache\"\nlifetime = \"30s\"\n[[rule]]\npattern = \"x\"\naction = \"store\"\n"))
	require.Error(t, err)
	var lines []string
	for line := range strings.Lines(err.Error()) {
		lines = append(lines, line[:min(len(line), 41)])
	}
	assert.Equal(t, []string{
		"line 3, column 1: a rule with action \"cac", "line 4, column 1: unknown key rule.lifeti",
		"line 6, column 1: pattern \"x\" is not a pa", "line 7, column 1: action \"store\": expecte",
	}, lines)
}

// Values of a wrong kind are said all at once too, with what is wrong beside them; what only seems to be missing because
// it could not be read is not.
func TestValuesOfAWrongKindAreSaidAtOnce(t *testing.T) {
	_, err := Parse([]byte(`[[rule]]
pattern = 5
action = "cache"
ttl = 30
refetch = [
  "yes",
]

[[rule]]
text = "*"
action = "keep"
when = { application = 4 }
warm_up = "3"
[[rule]]
text = "*"
action = "hold"
`))
	require.Error(t, err)
	assert.Equal(t, `line 2, column 11: pattern: expected a text in quotes, not a TOML integer
line 4, column 7: ttl: expected a text in quotes, not a TOML integer
line 5, column 11: refetch: expected true or false, not a TOML array
line 11, column 1: action "keep": expected "cache", "bypass" or "advised"
line 12, column 24: when: expected a text in quotes, not a TOML integer
line 13, column 11: warm_up: expected a whole number, not a TOML string
line 16, column 1: action "hold": expected "cache", "bypass" or "advised"`, err.Error())
}
