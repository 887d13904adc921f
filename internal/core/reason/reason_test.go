package reason

import (
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"
)

func TestEveryCodeHasASentenceOfItsOwn(t *testing.T) {
	seen := map[string]Code{}
	for c := None + 1; c <= last; c++ {
		text := codes[c].text
		assert.NotEmpty(t, text, "code %d", c)
		assert.LessOrEqual(t, strings.Count(text, "%"), 1, text)
		assert.NotContains(t, seen, text)
		seen[text] = c
		first, _, _ := strings.Cut(text, " ")
		if codes[c].kind&does != 0 {
			assert.True(t, strings.HasSuffix(strings.TrimSuffix(first, ","), "s") || first == "may", "%q does not fit behind it", text)
		}
	}
}

func TestEveryStepHasItsWords(t *testing.T) {
	for s := stepCalls; s <= stepWriteRowSecurity; s++ {
		text := steps[s]
		assert.NotEmpty(t, text, "step %d", s)
		assert.True(t, strings.HasSuffix(text, " "), text)
	}
}

func TestClause(t *testing.T) {
	assert.Equal(t, "moves or reads a sequence", Of(UsesSequence).Clause())
	assert.Equal(t, "bypasses: several statements in one string", Of(Several).Clause())
	assert.Equal(t, "bypasses: its SQL is not understood: syntax error", About(NotUnderstood, "syntax error").Clause())
	assert.Equal(t, "bypasses: the session's encoding SJIS is not read", About(Encoding, "SJIS").Clause())
	assert.Equal(t, "calls loyalty(), a function whose tables are not known", Of(UnknownTables).Behind(Way("").Calls().Function("loyalty")).Clause())
	assert.Equal(t, "may use a cast of this database's own to fare, which is a function whose tables are not known",
		Of(UnknownTables).Behind(Way("").Cast("fare")).Clause())
}

// Whether a reason rests on the time alone is told by its code, whatever names and messages are in its sentence.
func TestOfTimeIsToldByTheCode(t *testing.T) {
	assert.True(t, Of(ChangesWithTime).Behind(Way("").View("public.v").Calls().Within("now")).OfTime())
	assert.False(t, About(NotUnderstood, "it asks for the current time").OfTime())
	assert.False(t, About(UnknownBody, "it changes with time").OfTime())
	assert.False(t, Reason{}.OfTime())
}

// A way is told step by step, with whatever names, and a longer way begins as the shorter one did.
func TestWaysAreToldInOrder(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		name := rapid.StringMatching(`[^\x00]{0,20}`)
		var w Way
		var want strings.Builder
		for range rapid.IntRange(0, 6).Draw(t, "steps") {
			s := step(rapid.IntRange(int(stepCalls), int(stepWriteRowSecurity)).Draw(t, "step"))
			n := name.Draw(t, "name")
			w = w.then(s, n)
			put(&want, steps[s], n)
		}
		r := About(NotNamed, name.Draw(t, "detail")).Behind(w)
		put(&want, codes[NotNamed].text, r.Detail)
		assert.Equal(t, want.String(), r.String())
		front := Way("").View("public.v")
		assert.Equal(t, "reads the view public.v, which "+r.String(), r.Behind(front).String())
	})
}

func TestAddKeepsOneOfEach(t *testing.T) {
	list := Add(Add(Add(nil, Of(Writes)), About(NotNamed, "a")), Of(Writes))
	list = Add(list, About(NotNamed, "b"))
	assert.Equal(t, []string{"writes", "reads a, which the catalog does not name", "reads b, which the catalog does not name"}, Sentences(list))
}

// A list has an end, and still tells whether all of its reasons rest on the time alone.
func TestReasonsAreBounded(t *testing.T) {
	var list []Reason
	for i := range 10_000 {
		list = Add(list, Of(AsksForTime).Behind(Way("").View(strconv.Itoa(i))))
	}
	assert.Len(t, list, most)
	list = Add(list, About(NotNamed, "quays"))
	list = Add(list, About(NotNamed, "berths"))
	assert.Len(t, list, most+1)
	assert.False(t, list[most].OfTime())
}
