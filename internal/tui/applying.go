package tui

import (
	"context"
	"fmt"
	"strings"

	tea "charm.land/bubbletea/v2"

	"jollylarder/internal/control"
	"jollylarder/internal/tui/decide"
	"jollylarder/internal/tui/dialog"
	"jollylarder/internal/tui/find"
)

// Before anything becomes other rules it is asked for, with what it changes.

// askApply asks whether the draft is to be put in force.
func (s *deciding) askApply() {
	d := s.Draft()
	switch {
	case !d.Open:
		s.a.say("There is no draft to apply: "+keyEdit.Help().Key+" edits a rule, and in Find "+find.KeyCache.Help().Key+" puts a pattern into a draft.", true)
		return
	case d.Behind:
		s.a.say("The rules changed after the draft was started: "+keyRenew.Help().Key+" takes these changes into it.", true)
		return
	case len(d.Checked.Problems) > 0:
		s.a.say("The draft has errors: "+d.Checked.Problems[0].Problem, true)
		return
	}
	says := []string{"The draft comes into force for all connections at once. Running statements end under the old rules. You can undo it."}
	question := dialog.NewReason("Apply the draft", "", says, told(d.Changes), func(why string) tea.Cmd {
		return act("Applied. "+keyUndo.Help().Key+" undoes it.", func(ctx context.Context) error { _, err := s.a.client.Apply(ctx, control.Apply{Why: why}); return err })
	})
	question.Foretold = s.foretold
	s.a.dialog = question
}

// foretold says in a sentence what the draft is expected to do.
func (s *deciding) foretold() string {
	f := s.Forecast()
	switch {
	case f == nil && (s.Running() || s.WantsForecast()):
		return "The forecast is being made."
	case f == nil:
		return "There is no forecast. In the list of rules, " + decide.KeyForecast.Help().Key + " makes one."
	}
	return fmt.Sprintf("Forecast: hit rate %.0f%% of all statements, now %.0f%%; saved %.1f s/min, now %.1f; %.1f statements/s to the database, now %.1f.",
		100*f.Draft.OfAll, 100*f.Present.OfAll, f.Draft.Saved/1000, f.Present.Saved/1000, f.Draft.Origin, f.Present.Origin)
}

// told says changes, a line for each.
func told(list []control.RuleChange) (out []string) {
	for _, c := range list {
		line := c.Kind + " " + c.Rule
		switch {
		case c.After != nil && c.Before == nil:
			line += ": " + decide.Effect(c.After) + " · " + decide.About(c.After)
		case len(c.Keys) > 0:
			var keys []string
			for _, k := range c.Keys {
				keys = append(keys, k.Key+" "+k.Before+" → "+k.After)
			}
			line += ": " + strings.Join(keys, ", ")
		}
		out = append(out, line)
	}
	return out
}

// askUndo asks whether the rules of an entry are to be in force again.
func (s *deciding) askUndo(to *control.Entry) {
	if to == nil {
		s.a.say("There is nothing to undo: the history does not go further back.", true)
		return
	}
	s.askRestore(to, "Undo", "back to %d", "This, too, can be undone.", s.a.client.Undo)
}

// askRedo asks whether what was undone is to be in force again.
func (s *deciding) askRedo(to *control.Entry) {
	if to == nil {
		s.a.say("There is nothing to redo: nothing was undone since the last change.", true)
		return
	}
	s.askRestore(to, "Redo", "%d again", keyUndo.Help().Key+" undoes that.", s.a.client.Redo)
}

// askRestore asks whether the rules of an entry are to be in force again.
func (s *deciding) askRestore(to *control.Entry, title, because, after string, do func(context.Context, control.Undo) (control.Entry, error)) {
	says := []string{fmt.Sprintf("The rules are again those of %d, which %s put in force on %s: %s", to.ID, to.Who, to.At.Local().Format("02 Jan 15:04:05"), to.Why),
		"Results are cached by these rules from now on; results that no rule caches any more are dropped. " + after}
	id := to.ID
	s.a.dialog = dialog.NewReason(title, fmt.Sprintf(because, id), says, nil, func(why string) tea.Cmd {
		return act(fmt.Sprintf("The rules of %d are in force again.", id), func(ctx context.Context) error {
			_, err := do(ctx, control.Undo{To: id, Why: why})
			return err
		})
	})
}

func (s *deciding) askFile() {
	o := s.Outside()
	if o.Problem != "" {
		s.a.say(strings.ReplaceAll(o.Problem, "\n", " "), true)
		return
	}
	s.a.dialog = dialog.NewReason("Take what was edited in the rules file", "", []string{"The changes made to the rules file are in force from now on, for all connections."}, o.Lines, func(why string) tea.Cmd {
		return act("The edited file is in force.", func(ctx context.Context) error {
			_, err := s.a.client.Apply(ctx, control.Apply{File: true, Why: why})
			return err
		})
	})
}

// askRefuse asks whether the larder is never to choose a pattern again.
func (s *deciding) askRefuse(c *control.Choice) {
	rule, pattern := c.Rule, c.Pattern
	s.a.dialog = dialog.NewReason("Take back "+pattern, "", []string{
		"Its statements go to the database again, and its results are dropped. The larder does not choose it again within " + rule + ": the pattern is added to never_patterns of that rule.",
	}, nil, func(why string) tea.Cmd {
		return act("Taken back: "+pattern+". "+keyUndo.Help().Key+" undoes that.", func(ctx context.Context) error {
			_, err := s.a.client.Refuse(ctx, rule, control.Refusal{Pattern: pattern, Why: why})
			return err
		})
	})
}

// askAdopt asks whether what the larder chose is to be a rule of its own.
func (s *deciding) askAdopt(c *control.Choice) {
	if c.TTL == "" {
		s.a.say("The larder has withdrawn this pattern: there is nothing to make a rule of.", true)
		return
	}
	rule, pattern, ttl := c.Rule, c.Pattern, c.TTL
	s.a.dialog = dialog.NewReason("A rule of its own for "+pattern, "", []string{
		"The rule caches it for " + ttl + " and stands above " + rule + ", for the same callers. From then on you decide about it, and the larder does not.",
	}, nil, func(why string) tea.Cmd {
		return act("A rule of its own: "+pattern+". "+keyUndo.Help().Key+" undoes that.", func(ctx context.Context) error {
			_, err := s.a.client.Adopt(ctx, rule, control.Adoption{Pattern: pattern, Why: why})
			return err
		})
	})
}

func (s *deciding) askPause(r *decide.Row) {
	if r.Kind == "added" {
		s.a.say("The rule is not in force yet.", true)
		return
	}
	on, name := !r.Paused, r.Name
	says, title, said := []string{"The rule caches nothing and answers nothing until you resume it. Its results stay in memory, and writes still drop them."}, "Pause "+name, "Paused: "+name+". "+keyPause.Help().Key+" resumes it."
	if !on {
		says, title, said = []string{"The rule is in force again. Results that are still valid are used at once."}, "Let "+name+" go on", name+" is in force again."
	}
	s.a.dialog = dialog.NewReason(title, map[bool]string{true: "", false: "goes on"}[on], says, nil, func(why string) tea.Cmd {
		return act(said, func(ctx context.Context) error { _, err := s.a.client.Pause(ctx, name, on, why); return err })
	})
}
