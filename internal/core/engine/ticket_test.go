package engine

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"jollylarder/internal/core/dialect/postgres"
	"jollylarder/internal/core/ledger"
	"jollylarder/internal/core/rules"
)

// misused makes an engine that keeps everything, and notes what its tickets are misused for.
func misused(t require.TestingT, keeps bool) (*Engine, *Session, *[]string) {
	var told []string
	e, err := New(Options{Dialect: postgres.Dialect, Misuse: func(what string) { told = append(told, what) }, Settle: time.Minute}, now)
	require.NoError(t, err)
	if keeps {
		e.SetRules(rules.NewSet([]rules.Rule{{Text: "*", Action: rules.Cache, ControlSample: -1}}))
	}
	return e, client(e, "10", described), &told
}

// Each row: what is done with the ticket of a write, in order, and what is said of it.
func TestTicketsOutOfOrder(t *testing.T) {
	const write = "update ports set n = 1"
	r := Result{}
	for name, c := range map[string]struct {
		does func(s *Session, t Ticket)
		says []string
	}{
		"in order":             {func(_ *Session, t Ticket) { t.Sent(now); t.End(r, now) }, nil},
		"skipped":              {func(_ *Session, t Ticket) { t.Sent(now); t.Skip() }, nil},
		"dropped":              {func(_ *Session, t Ticket) { t.Drop() }, nil},
		"lost":                 {func(s *Session, t Ticket) { t.Sent(now); s.Close(now) }, nil},
		"sent twice":           {func(_ *Session, t Ticket) { t.Sent(now); t.Sent(now); t.End(r, now) }, []string{"a ticket is sent that was sent"}},
		"ended before sent":    {func(_ *Session, t Ticket) { t.End(r, now); t.Drop() }, []string{"a ticket is ended that was not sent"}},
		"skipped before sent":  {func(_ *Session, t Ticket) { t.Skip(); t.Drop() }, []string{"a ticket is skipped that was not sent"}},
		"ended twice":          {func(_ *Session, t Ticket) { t.Sent(now); t.End(r, now); t.End(r, now) }, []string{"a ticket is ended that came to its end"}},
		"dropped when sent":    {func(_ *Session, t Ticket) { t.Sent(now); t.Drop(); t.End(r, now) }, []string{"a ticket is dropped that was sent"}},
		"decided on again":     {func(_ *Session, t Ticket) { t.Again(&Request{}, now); t.Drop() }, []string{"a ticket is decided on again that was not sent"}},
		"never ended":          {func(s *Session, t Ticket) { t.Sent(now); s.Ready(Idle) }, []string{"a ticket is forgotten that was sent"}},
		"ended when lost":      {func(s *Session, t Ticket) { t.Sent(now); s.Close(now); t.End(r, now) }, []string{"a ticket is ended that came to its end"}},
		"sent after another's": {func(s *Session, t Ticket) { t.Drop(); u := decide(s, write); t.Sent(now); u.Drop() }, []string{"a ticket is sent that came to its end"}},
	} {
		t.Run(name, func(t *testing.T) {
			e, s, told := misused(t, true)
			c.does(s, decide(s, write))
			assert.Equal(t, c.says, *told)
			assert.False(t, s.Writing())
			e.Tick(now.Add(2 * time.Minute))
			other := client(e, "10", described)
			ask(other, "select n from ports where n = 1", now)
			assert.Equal(t, ledger.Hit, ask(other, "select n from ports where n = 1", now), "nothing is pending for ever")
		})
	}
}

// What one session fetches, others may wait for, until its ticket has come to whatever end.
func TestWaitingEndsWithATicket(t *testing.T) {
	for name, ends := range map[string]func(s *Session, t Ticket){
		"answered": func(_ *Session, t Ticket) { t.Sent(now); t.End(Result{Reply: []byte("x"), Rows: 1, Bytes: 1}, now) },
		"failed":   func(_ *Session, t Ticket) { t.Sent(now); t.End(Result{Failed: true}, now) },
		"skipped":  func(_ *Session, t Ticket) { t.Sent(now); t.Skip() },
		"dropped":  func(_ *Session, t Ticket) { t.Drop() },
		"let go":   func(s *Session, t Ticket) { t.Sent(now); s.LetGo() },
		"lost":     func(s *Session, t Ticket) { t.Sent(now); s.Close(now) },
		"unknown":  func(s *Session, t Ticket) { t.Sent(now); s.Unknown(now) },
	} {
		t.Run(name, func(t *testing.T) {
			e, s, told := misused(t, true)
			other := client(e, "10", described)
			first := decide(s, read)
			require.Equal(t, StepForward, first.Step())
			second := decide(other, read)
			require.Equal(t, StepWait, second.Step())
			done, most := second.Done()
			assert.Equal(t, LongestWait, most)
			select {
			case <-done:
				require.Fail(t, "nothing has been fetched")
			default:
			}
			ends(s, first)
			<-done
			r := &Request{Statement: other.Read([]byte(read)), Shape: 'q', NoAsking: true}
			second.Again(r, now.Add(time.Second))
			if name == "answered" {
				assert.Equal(t, StepAnswer, second.Step())
			} else {
				assert.Equal(t, StepForward, second.Step())
				second.Sent(now)
			}
			assert.Equal(t, time.Second, second.Waited)
			second.End(Result{}, now)
			assert.Empty(t, *told)
		})
	}
}

// Whatever is done with tickets, in whatever order: a call is either in order or told as misuse, what a write changes stays pending until its
// ticket has come to an end, and at the end of all sessions nobody waits for anything.
func TestTicketsInAnyOrder(t *testing.T) {
	texts := []string{read, "select n from ports where n = 1", "update ports set n = 1", "update berths set n = 2 where id = 1", "begin", "commit", "select unheard()"}
	rapid.Check(t, func(t *rapid.T) {
		e, s, told := misused(t, true)
		type known struct {
			Ticket
			stage  stage
			writes bool
			step   Step
		}
		var all []*known
		misuses := 0
		may := func(ok bool, k *known, to stage) {
			if ok {
				k.stage = to
			} else {
				misuses++
			}
		}
		calls := map[string]func(*known){
			"sent": func(k *known) {
				ok := k.stage == decided && k.step == StepForward
				k.Sent(now)
				may(ok, k, sent)
			},
			"end": func(k *known) {
				ok := k.stage == sent || k.stage == decided && k.step == StepAnswer
				k.End(Result{Rows: 1, Bytes: 1, Reply: []byte("x")}, now)
				may(ok, k, over)
			},
			"skip": func(k *known) {
				ok := k.stage == sent
				k.Skip()
				may(ok, k, over)
			},
			"drop": func(k *known) {
				ok := k.stage == decided
				k.Drop()
				may(ok, k, over)
			},
		}
		names := []string{"sent", "end", "skip", "drop"}
		for range rapid.IntRange(1, 30).Draw(t, "calls") {
			if len(all) == 0 || rapid.Bool().Draw(t, "begin") {
				d := s.Begin(&Request{Statement: s.Read([]byte(rapid.SampledFrom(texts).Draw(t, "text"))), Shape: 'q', NoAsking: true, NoWaiting: true}, now)
				all = append(all, &known{d, decided, d.Outcome == ledger.Write, d.Step()})
				continue
			}
			calls[rapid.SampledFrom(names).Draw(t, "call")](rapid.SampledFrom(all).Draw(t, "ticket"))
			writing := false
			for _, k := range all {
				writing = writing || k.stage == sent && k.writes && !s.InBlock()
			}
			if writing {
				assert.True(t, s.Writing(), "a write is under way")
			}
			assert.Len(t, *told, misuses)
		}
		s.Close(now)
		for i := range e.flights.parts {
			assert.Empty(t, e.flights.parts[i].by)
		}
		e.Tick(now.Add(2 * time.Minute))
		assert.Empty(t, e.unsettled)
		assert.Len(t, *told, misuses)
	})
}

// Tickets take no memory of their own once a session has used as many as it has under way.
func TestTicketsAreUsedAgain(t *testing.T) {
	_, s, _ := misused(t, true)
	ask(s, read, now)
	r := &Request{Statement: s.Read([]byte(read)).Clone(), Shape: 'q'}
	assert.Zero(t, testing.AllocsPerRun(1000, func() {
		d := s.Begin(r, now)
		d.End(Result{Took: time.Microsecond}, now)
	}))
}
