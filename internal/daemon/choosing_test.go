package daemon

import (
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jollylarder/internal/control"
	"jollylarder/internal/core/choices"
	"jollylarder/internal/core/engine"
	"jollylarder/internal/core/statement"
)

const left = "# the larder chooses here\n[[rule]]\nname = \"boards\"\nwhen = { application = \"quay-boards\" }\naction = \"advised\"\nmax_ttl = \"1m\"\nmin_saved = \"1ms\" # next to nothing\n"

// A larder chooses within an advised rule, goes on with that when it starts again, and obeys who takes it back or makes
// it a rule of his own; all of it is in the history.
func TestTheLarderChoosesWithinARule(t *testing.T) {
	d := newDesk(t)
	d.l.Close()
	d.cfg.Origins[0].Address = standIn(t)
	require.NoError(t, os.WriteFile(d.file, []byte(left), 0o600))
	d.begin()
	c := connected(t, d.l.Address())
	last := func() (outcome, reason string) {
		require.NoError(t, c.QueryRow(ctx, "show jollylarder.last").Scan(&outcome, &reason, nil, nil, nil, nil))
		return outcome, reason
	}
	read := func() {
		var name string
		require.NoError(t, c.QueryRow(ctx, "select name from ports where id = 1").Scan(&name))
	}
	// The minute's sums are known some seconds later.
	var id string
	require.Eventually(t, func() bool {
		for range 40 {
			read()
		}
		d.l.engine.Patterns(func(p *engine.Pattern) {
			if strings.HasPrefix(p.Text, "select name") && p.Numbers.Minute().Cacheable > 10*time.Millisecond && len(d.l.engine.Does(p).Reasons) == 0 {
				id = string(p.ID)
			}
		})
		return id != ""
	}, time.Minute, 20*time.Millisecond)
	_, why := last()
	assert.Equal(t, "its rule leaves it to the larder, which has not chosen it", why)
	assert.Empty(t, d.l.book.choose(time.Now()), "it was not observed for a minute yet")
	p, err := d.api.Pattern(ctx, id)
	require.NoError(t, err)
	assert.Contains(t, p.NotChosen, "It is still observed")

	for range 200 {
		read()
	}
	changes := d.l.book.choose(time.Now().Add(2 * time.Minute))
	require.Len(t, changes, 1)
	assert.Equal(t, choices.Chosen, changes[0].Kind)
	read()
	read()
	outcome, _ := last()
	assert.Equal(t, "hit", outcome)

	// It is told where people look.
	list, err := d.api.Choices(ctx, "boards")
	require.NoError(t, err)
	require.Len(t, list.Chosen, 1)
	assert.Equal(t, []any{id, "1s", "boards"}, []any{list.Chosen[0].Pattern, list.Chosen[0].TTL, list.Chosen[0].Rule})
	_, err = d.api.Choices(ctx, "nobody")
	assert.ErrorContains(t, err, `there is no rule nobody with action "advised"`)
	history, err := d.api.History(ctx, 10)
	require.NoError(t, err)
	require.Equal(t, "choice", history[0].Kind)
	assert.Equal(t, "the larder", history[0].Who)
	assert.Equal(t, []string{"chosen " + id + " within boards: ttl 1s"}, history[0].Changes)
	assert.Negative(t, history[0].ID)
	b, err := d.api.Rules(ctx)
	require.NoError(t, err)
	assert.Equal(t, 1, b.Reach[0].Chosen)
	assert.Equal(t, "start", b.Undo.Kind, "an undo goes to what people applied")
	require.Eventually(t, func() bool { // answers are remembered for a moment
		p, err = d.api.Pattern(ctx, id)
		return err == nil && p.Rule.Chosen
	}, time.Minute, 20*time.Millisecond)
	assert.Contains(t, p.Advice.Sentence, "The larder chose it within boards: cached for 1s")

	// It goes on after a restart, and the file is as it was.
	d.l.Close()
	d.begin()
	assert.Equal(t, left, d.inFile())
	list, err = d.api.Choices(ctx, "")
	require.NoError(t, err)
	require.Len(t, list.Chosen, 1)
	assert.Equal(t, "1s", list.Chosen[0].TTL)
	assert.True(t, d.l.engine.Rules().Caches())
	history, err = d.api.History(ctx, 10)
	require.NoError(t, err)
	assert.Equal(t, "choice", history[0].Kind)

	// Taken back, and let free again.
	refused, err := d.api.Refuse(ctx, "boards", control.Refusal{Pattern: id, Why: "it looks odd"})
	require.NoError(t, err)
	assert.Equal(t, []string{"changed boards: never_patterns none → [\"" + id + "\"]"}, refused.Changes)
	assert.False(t, d.l.engine.Rules().Caches())
	assert.Equal(t, left, strings.Replace(d.inFile(), "never_patterns = [\""+id+"\"]\n", "", 1), "and nothing else in the file")
	_, err = d.api.Refuse(ctx, "boards", control.Refusal{Pattern: "bado-kife-ruma", Off: true})
	assert.ErrorContains(t, err, "does not refuse bado-kife-ruma")
	_, err = d.api.Refuse(ctx, "boards", control.Refusal{Pattern: "nonsense"})
	assert.ErrorContains(t, err, "is not a pattern's id")
	_, err = d.api.Adopt(ctx, "boards", control.Adoption{Pattern: id})
	assert.ErrorContains(t, err, "the larder has not chosen "+id+" within boards")
	_, err = d.api.Refuse(ctx, "boards", control.Refusal{Pattern: id, Off: true})
	require.NoError(t, err)
	assert.Equal(t, left, d.inFile())

	// Made a rule of one's own, which stands above, for the same callers; the larder lets go of it.
	if !d.l.engine.Rules().Caches() {
		d.l.book.chooser = choices.New(choices.Choice{Rule: "boards", Pattern: statement.ID(id), TTL: time.Second, Since: time.Now(), Changed: time.Now()})
		d.l.book.put(d.l.engine.Rules())
	}
	_, err = d.api.Adopt(ctx, "boards", control.Adoption{Pattern: id, Why: "it has proved itself"})
	require.NoError(t, err)
	rules := d.l.engine.Rules().List()
	require.Len(t, rules, 2)
	assert.Equal(t, []any{statement.ID(id), time.Second, "quay-boards", "boards"}, []any{rules[0].Pattern, rules[0].TTL, rules[0].When.Application, rules[1].Name})
	_, err = d.api.Adopt(ctx, id, control.Adoption{Pattern: id})
	assert.ErrorContains(t, err, "leaves nothing to the larder")
	c = connected(t, d.l.Address())
	require.Eventually(t, func() bool {
		read()
		for _, x := range d.l.book.choose(time.Now()) {
			if x.Kind == choices.Withdrawn {
				assert.Equal(t, "The rule does not decide for it any more.", x.Why)
				return true
			}
		}
		return false
	}, time.Minute, 20*time.Millisecond)
}

// Rules are put in force anew only if something else is chosen: also where they allow less than what was chosen before.
func TestNothingChangesWhereNothingIsDecided(t *testing.T) {
	d := newDesk(t)
	_, err := d.api.PutRule(ctx, "boards", control.Rule{Action: "advised", Text: "*", MaxTTL: "30s", NeverPatterns: []string{"sopi-luna-gito"}})
	require.NoError(t, err)
	d.l.book.chooser = choices.New(
		choices.Choice{Rule: "boards", Pattern: "bado-kife-ruma", TTL: time.Hour, Since: time.Now(), Changed: time.Now()},
		choices.Choice{Rule: "boards", Pattern: "sopi-luna-gito", TTL: time.Second, Since: time.Now(), Changed: time.Now()},
		choices.Choice{Rule: "nobody", Pattern: "sopi-luna-gito", TTL: time.Second, Since: time.Now(), Changed: time.Now()},
	)
	_, err = d.api.Pause(ctx, "boards", true, "for now")
	require.NoError(t, err)
	assert.Empty(t, d.l.book.choose(time.Now()))
	before := d.l.engine.Rules()
	assert.Equal(t, 30*time.Second, before.Choices()["boards"]["bado-kife-ruma"])
	assert.Empty(t, d.l.book.choose(time.Now().Add(time.Minute)))
	assert.Same(t, before, d.l.engine.Rules())

	// What was chosen within a rule that is removed does not come back with another of its name, not after a restart either.
	require.NotEmpty(t, d.l.state.Chosen())
	_, err = d.api.RemoveRule(ctx, "boards", "")
	require.NoError(t, err)
	assert.Empty(t, d.l.state.Chosen())
	_, err = d.api.PutRule(ctx, "boards", control.Rule{Action: "advised", Text: "*", MaxTTL: "30s"})
	require.NoError(t, err)
	assert.Empty(t, d.l.engine.Rules().Choices()["boards"])
}

// An advised rule is put by the API with what it needs, and with nothing that is not for it.
func TestAdvisedRulesThroughTheAPI(t *testing.T) {
	d := newDesk(t)
	for says, r := range map[string]control.Rule{
		"needs a name":                           {Action: "advised", Text: "*", MaxTTL: "1m"},
		"max_ttl \"\": expected the oldest":      {Name: "boards", Action: "advised", Text: "*"},
		"ttl is not for a rule with action":      {Name: "boards", Action: "advised", Text: "*", MaxTTL: "1m", TTL: "5s"},
		"mode is not for a rule with action":     {Name: "boards", Action: "advised", Text: "*", MaxTTL: "1m", Mode: "ttl only"},
		"are bounds for what the larder chooses": {Name: "boards", Action: "cache", Text: "*", TTL: "1m", MinSaved: "1s"},
		"never_patterns: \"x\"":                  {Name: "boards", Action: "advised", Text: "*", MaxTTL: "1m", NeverPatterns: []string{"x"}},
	} {
		_, err := d.api.Edit(ctx, control.Edit{Put: &r})
		assert.ErrorContains(t, err, says)
	}
	whole := control.Rule{
		Name: "boards", Action: "advised", When: &control.When{Application: "quay-boards"}, MaxTTL: "1m", MinSaved: "200ms", MaxMemory: "20%",
		NeverTables: []string{"passengers"}, NeverPatterns: []string{"bado-kife-ruma"},
	}
	d.edit(control.Edit{Put: &whole})
	_, err := d.api.Apply(ctx, control.Apply{Why: "let it choose"})
	require.NoError(t, err)
	_, err = d.api.PutRule(ctx, "screens", control.Rule{Action: "advised", Text: "*", MaxTTL: "30s"})
	require.NoError(t, err, "the path names it")
	require.NotNil(t, d.l.engine.Rules().Named("screens"))
	_, err = d.api.RemoveRule(ctx, "screens", "")
	require.NoError(t, err)
	b, err := d.api.Rules(ctx)
	require.NoError(t, err)
	got := b.Rules[len(b.Rules)-1]
	if got.Name != "boards" {
		got = b.Rules[0]
	}
	assert.Equal(t, whole, got)
}
