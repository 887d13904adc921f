package dialog

import (
	"strings"
	"testing"

	tea "charm.land/bubbletea/v2"
	"github.com/stretchr/testify/assert"

	"jollylarder/internal/tui/look"
)

// What is foretold may come while the question is asked: it is shown as it is known by then.
func TestAQuestionSaysWhatIsForetoldByNow(t *testing.T) {
	foretold := "The forecast is being made."
	q := NewReason("Apply the draft", "read all day", []string{"The draft comes into force."}, []string{"added fares"}, func(string) tea.Cmd { return nil })
	shown := func() string { return strings.Join(q.View(look.New(look.Unknown), 80, 20), "\n") }
	assert.NotContains(t, shown(), foretold)
	q.Foretold = func() string { return foretold }
	assert.Contains(t, shown(), foretold)
	foretold = "Forecast: hit rate 51%."
	assert.Contains(t, shown(), foretold)
	assert.Contains(t, shown(), "The draft comes into force.", "the rest stays")
	assert.Equal(t, 1, strings.Count(shown(), foretold))
}
