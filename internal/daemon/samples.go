package daemon

import (
	"fmt"
	"strings"
	"time"

	controlserver "jollylarder/internal/control/server"
	"jollylarder/internal/core/rules"
	"jollylarder/internal/core/sample"
)

// watchSamples tells of answers that were found to be old, and has their rules paused in the file and the history as
// well, so that they stay so until somebody has looked at it.
func (l *Larder) watchSamples() {
	for {
		select {
		case c := <-l.engine.Samples.Found():
			l.log.Error(
				"a stale answer was found: it differs from the database's, and no write that the larder knows of explains that",
				"database",
				c.Database,
				"pattern",
				string(c.Pattern.ID),
				"statement",
				c.Pattern.Text,
				"tables",
				strings.Join(c.Tables, " "),
				"age",
				c.Age.Round(time.Millisecond),
				"rule",
				c.Rule,
				"paused",
				c.Paused,
			)
			if c.Paused {
				if err := l.book.pause(c); err != nil {
					l.log.Error(
						"the rule stays paused until this larder ends, but that could not be written down",
						"rule",
						c.Rule,
						"error",
						err,
					)
				}
			}
		case <-l.retired:
			return
		}
	}
}

// pause puts the rule of a stale catch out of force.
func (b *ruleBook) pause(c sample.Stale) error {
	why := fmt.Sprintf(
		"a stale answer of %s: it depends on %s, and no write explains the difference from the database",
		c.Pattern.ID,
		strings.Join(c.Tables, ", "),
	)
	for range 3 { // somebody may be applying others at this moment
		text, revision := b.Current()
		set, err := rules.Parse(text)
		if err != nil {
			return err
		}
		rule := set.Named(c.Rule)
		if rule == nil || rule.Paused {
			return nil
		}
		paused := *rule
		paused.Paused = true
		next, err := rules.Put(text, rule.Name, paused)
		if err != nil {
			return err
		}
		if _, err = b.Apply(controlserver.Proposal{Kind: "apply", Who: "the control sample", Why: why, Text: next, Base: revision}); err == nil {
			return nil
		}
		if now, _ := b.Current(); string(now) == string(text) {
			return err
		}
	}
	return fmt.Errorf("the rules changed again and again")
}
