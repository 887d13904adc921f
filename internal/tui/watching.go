package tui

import (
	"time"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"

	"jollylarder/internal/control"
	"jollylarder/internal/core/filter"
	"jollylarder/internal/tui/moving"
	"jollylarder/internal/tui/watch"
)

// watching is the station Watch.
type watching struct {
	watch.Model
	still

	a *App
}

func (s *watching) Name() string { return "Watch" }
func (s *watching) Question() string {
	return "What is happening now, and what was the outcome of my statement?"
}
func (s *watching) Keys() []key.Binding                          { return watch.Keys }
func (s *watching) Follow(events []control.Event, now time.Time) { s.Add(events, now) }

func (s *watching) Filtered() string       { return s.Filter }
func (s *watching) Fields() []filter.Field { return filter.OfStatements }
func (s *watching) Filters() string        { return "statements" }
func (s *watching) SetFilter(text string) tea.Cmd {
	s.Model.SetFilter(text)
	return nil
}

func (s *watching) Press(k tea.KeyPressMsg) tea.Cmd {
	if !key.Matches(k, keyEnter) {
		s.Update(k)
	} else if id := s.SelectedPattern(); id != "" {
		return s.a.goToPattern(id)
	}
	return nil
}

func (s *watching) Next(say sayer) []string {
	switch {
	case s.SelectedPattern() != "":
		return []string{say("", keyEnter, "shows the pattern of this statement"), say("", watch.KeyFollow, "follows its label or application")}
	case s.a.status.State == "watching":
		return []string{say("Nothing is cached yet.", s.a.keyTo(s.a.find), "shows what is worth caching")}
	}
	return []string{say("", moving.Down, "chooses a statement"), say("", watch.KeyGroup, "shows them one by one")}
}
