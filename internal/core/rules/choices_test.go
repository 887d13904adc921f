package rules

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"

	"jollylarder/internal/core/statement"
)

const chosen, other = statement.ID("bado-kife-ruma"), statement.ID("sopi-luna-gito")

// Each row: an advised rule among others, what the larder chose, and what then decides for a pattern that reads fares.
func TestWhatTheLarderChoseStandsForTheRule(t *testing.T) {
	advised := Rule{Name: "dashboards", Text: "*", Action: Advised, TTL: time.Minute, MemoryShare: 0.2, ControlSample: 0.5}
	with := func(f func(*Rule)) Rule {
		r := advised
		f(&r)
		return r
	}
	for name, c := range map[string]struct {
		rules  []Rule
		chosen Choices
		action Action
		ttl    time.Duration
	}{
		"nothing is chosen":             {[]Rule{advised}, nil, Advised, time.Minute},
		"it is chosen":                  {[]Rule{advised}, Choices{"dashboards": {chosen: 5 * time.Second}}, Cache, 5 * time.Second},
		"another is":                    {[]Rule{advised}, Choices{"dashboards": {other: 5 * time.Second}}, Advised, time.Minute},
		"for longer than allowed":       {[]Rule{advised}, Choices{"dashboards": {chosen: time.Hour}}, Cache, time.Minute},
		"for ever":                      {[]Rule{advised}, Choices{"dashboards": {chosen: 0}}, Cache, time.Minute},
		"within another rule":           {[]Rule{advised}, Choices{"boards": {chosen: time.Second}}, Advised, time.Minute},
		"the rule is no longer advised": {[]Rule{with(func(r *Rule) { r.Action = Bypass })}, Choices{"dashboards": {chosen: time.Second}}, Bypass, time.Minute},
		"it is refused":                 {[]Rule{with(func(r *Rule) { r.NeverPatterns = []statement.ID{chosen} })}, Choices{"dashboards": {chosen: time.Second}}, Advised, time.Minute},
		"a table is never chosen":       {[]Rule{with(func(r *Rule) { r.NeverTables = []string{"fares"} })}, Choices{"dashboards": {chosen: time.Second}}, Advised, time.Minute},
		"another table is":              {[]Rule{with(func(r *Rule) { r.NeverTables = []string{"crew"} })}, Choices{"dashboards": {chosen: time.Second}}, Cache, time.Second},
		"a rule above decides":          {[]Rule{{Pattern: chosen, Action: Cache, TTL: time.Hour}, advised}, Choices{"dashboards": {chosen: time.Second}}, Cache, time.Hour},
		"a rule below does not":         {[]Rule{advised, {Pattern: chosen, Action: Cache, TTL: time.Hour}}, Choices{"dashboards": {chosen: time.Second}}, Cache, time.Second},
	} {
		t.Run(name, func(t *testing.T) {
			set := NewSet(c.rules)
			now := set.With(c.chosen)
			r := Deciding(ThatRead(now.Candidates(chosen, "select"), []string{"public.fares"}), &Caller{})
			assert.Equal(t, c.action, r.Action)
			assert.Equal(t, c.ttl, r.TTL)
			assert.Equal(t, c.action == Cache, r.Caches())
			if r.Within() != nil {
				assert.Same(t, now.Named("dashboards"), r.Within(), "and not that of another set")
				assert.Equal(t, "dashboards", r.Name)
				assert.Equal(t, []float64{0.2, 0.5}, []float64{r.MemoryShare, r.Sample()})
			}
			assert.Equal(t, set.List(), now.List(), "the file's rules are what they were")
			if now.Caches() != set.Caches() {
				assert.Positive(t, now.Chosen(now.Named("dashboards")))
			}
		})
	}
}

// What is chosen by a paused rule caches nothing, and a set without choices is as if there never were any.
func TestPausedAndEmptyChoices(t *testing.T) {
	paused := NewSet([]Rule{{Name: "dashboards", Text: "*", Action: Advised, TTL: time.Minute, Paused: true}})
	c := Choices{"dashboards": {chosen: time.Second}}
	assert.False(t, paused.With(c).Caches())
	assert.Equal(t, c, paused.With(c).Choices())
	assert.False(t, paused.With(c).With(nil).With(Choices{"dashboards": {}}).Caches())
	assert.True(t, Choices{"dashboards": {}}.Equal(nil))
	assert.False(t, c.Equal(Choices{"dashboards": {chosen: 2 * time.Second}}))
	assert.Empty(t, (*Set)(nil).Choices())
}

// Whatever is chosen, nothing is cached that the rule does not allow, nor for longer.
func TestChoicesStayWithinTheRule(t *testing.T) {
	ids := []statement.ID{chosen, other}
	tables := [][]string{nil, {"public.fares"}, {"public.crew"}, {"public.fares", "public.crew"}}
	rapid.Check(t, func(t *rapid.T) {
		var list []Rule
		for range rapid.IntRange(1, 4).Draw(t, "rules") {
			list = append(list, drawRule(t))
		}
		list = append(list, Rule{Name: "dashboards", Text: "*", Action: Advised, TTL: 30 * time.Second, NeverTables: []string{"crew"}, NeverPatterns: []statement.ID{other}})
		set := NewSet(list)
		c := Choices{}
		for i := range set.List() {
			c[set.List()[i].Name] = map[statement.ID]time.Duration{}
			for _, id := range ids {
				if rapid.Bool().Draw(t, "choose") {
					c[set.List()[i].Name][id] = time.Duration(rapid.IntRange(0, 1e6).Draw(t, "ttl")) * time.Millisecond
				}
			}
		}
		now := set.With(c)
		for _, id := range ids {
			for _, reads := range tables {
				for _, r := range ThatRead(now.Candidates(id, "select 1"), reads) {
					whole := r.Within()
					switch {
					case whole == nil && r.Action == Cache != (set.Named(r.Name).Action == Cache):
						t.Fatalf("%s caches and is not advised", r.Name)
					case whole == nil:
					case r.TTL <= 0 || r.TTL > whole.TTL || whole.Action != Advised || !whole.MayChoose(reads):
						t.Fatalf("%+v within %+v for %v", r, whole, reads)
					}
				}
			}
		}
	})
}
