package tui

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os/user"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"

	"jollylarder/internal/control"
	"jollylarder/internal/report"
	"jollylarder/internal/trial"
	"jollylarder/internal/tui/dialog"
	"jollylarder/internal/tui/look"
	"jollylarder/internal/tui/prove"
)

var (
	keyStopTrial = key.NewBinding(key.WithKeys("s"), key.WithHelp("s", "stop the trial; its completed rounds count"))
	keyReport    = key.NewBinding(key.WithKeys("r"), key.WithHelp("r", "write a report on this period"))
)

// proofMsg is what was spared, and trialMsg what a trial came to.
type (
	proofMsg struct {
		proof   control.Proof
		pattern *control.Pattern
		err     error
	}
	trialMsg struct {
		result *trial.Result
		err    error
	}
)

// proving is the station Prove.
type proving struct {
	prove.Model

	a       *App
	trying  *working          // the trial under way, or the last
	entered map[string]string // in the form for a trial, the last time
}

func (s *proving) Name() string     { return "Prove" }
func (s *proving) Question() string { return "How much time was saved?" }
func (s *proving) Keys() []key.Binding {
	return append(slices.Clone(prove.Keys), prove.KeyTrial, keyStopTrial, keyReport)
}
func (s *proving) Enter() tea.Cmd { return s.Refresh() }

func (s *proving) Refresh() tea.Cmd {
	client, since, id := s.a.client, s.Since(), s.SelectedPattern()
	return func() tea.Msg {
		ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
		defer cancel()
		var m proofMsg
		if m.proof, m.err = client.Prove(ctx, since); m.err == nil && id != "" {
			if p, err := client.Pattern(ctx, id); err == nil {
				m.pattern = &p
			}
		}
		return m
	}
}

func (s *proving) Follow([]control.Event, time.Time) {
	if s.trying != nil {
		s.Progress(s.trying.state())
	}
}

func (s *proving) Clicked(x, y int) tea.Cmd {
	if s.Click(x, y) {
		return s.Refresh()
	}
	return nil
}

func (s *proving) Take(msg tea.Msg) tea.Cmd {
	switch m := msg.(type) {
	case proofMsg:
		if m.err == nil {
			s.Set(m.proof)
			s.SetPattern(m.pattern)
		}
	case trialMsg:
		s.EndTrial(m.result, m.err)
	}
	return nil
}

func (s *proving) Badge(l *look.Look) string {
	if s.Running() {
		return l.Slate.Render("…")
	}
	return ""
}

func (s *proving) Back() bool {
	open := s.Trial()
	if open {
		s.Close()
	}
	return open
}

func (s *proving) Next(say sayer) []string {
	switch {
	case s.Running():
		return []string{say("The trial is under way:", keyStopTrial, "stops it; completed rounds count")}
	case s.Trial():
		return []string{say("", prove.KeyTrial, "makes another"), say("", keyExport, "writes its chart to a file"), say("", keyBack, "goes back")}
	}
	return []string{
		say("", prove.KeyStretch, "shows another period"),
		say("", prove.KeyBy, "sums otherwise"),
		say("", prove.KeyTrial, "runs a trial"),
		say("", keyReport, "writes a report"),
	}
}

func (s *proving) Press(k tea.KeyPressMsg) tea.Cmd {
	switch {
	case key.Matches(k, keyEnter) && !s.Trial() && s.SelectedPattern() != "":
		return s.a.goToPattern(s.SelectedPattern())
	case key.Matches(k, prove.KeyTrial) && !s.Running():
		s.a.dialog = s.askTrial()
	case key.Matches(k, keyStopTrial) && s.Running():
		s.trying.cancel()
	case key.Matches(k, keyReport):
		s.a.dialog = s.askReport()
	default:
		if s.Update(k) {
			return s.Refresh()
		}
	}
	return nil
}

// The kinds of trials.
const (
	liveTrial = "live"
	loadTrial = "load"
)

// askTrial asks what trial to make.
func (s *proving) askTrial() dialog.Dialog {
	address := func(at string) string {
		u, db := "", ""
		for _, r := range s.a.status.Running {
			u, db = cmp.Or(u, r.User), cmp.Or(db, s.a.withoutOrigin(r.Database))
		}
		if me, err := user.Current(); u == "" && err == nil {
			u = me.Username
		}
		for _, d := range s.a.status.Databases {
			db = cmp.Or(db, s.a.withoutOrigin(d.Name))
		}
		return "postgres://" + u + "@" + at + "/" + db + "?sslmode=disable"
	}
	listen, origin := s.a.status.Listen, s.a.status.Origin
	if len(s.a.status.Origins) > 0 {
		origin = s.a.status.Origins[0].Address
		if l := s.a.status.Origins[0].Listen; len(l) > 0 {
			listen = l[0]
		}
	}
	says := []string{
		"Live: caching is turned off and on in turns for the clients' traffic. While it is off, every statement goes to the database.",
		"Load: the statements of a file are sent directly, through the larder with caching off, and with caching on. This adds load to the database.",
	}
	lines := []dialog.Line{
		{Name: "kind", Value: liveTrial, Choices: []string{liveTrial, loadTrial}, Help: "live: the clients' traffic; load: statements of its own"},
		{Name: "rounds", Value: "6", Help: "number of rounds: 3 are needed for an interval, 10 give a good one"},
		{Name: "seconds", Value: "10", Help: "live: duration of one turn; load: duration of the whole trial, about"},
		{Name: "file", Value: "", Help: "load: a file of SQL statements, or a recording"},
		{Name: "direct", Value: address(origin), Help: "load: URL of the database; empty to compare only caching off and on"},
		{Name: "through", Value: address(listen), Help: "load: URL of the same database through the larder"},
		{Name: "clients", Value: "4", Help: "load: number of connections"},
		{Name: "writes", Value: "no", Choices: []string{"no", "yes"}, Help: "load: also statements that may write, each in a transaction that is rolled back"},
	}
	for i := range lines { // as they were the last time
		if v, ok := s.entered[lines[i].Name]; ok {
			lines[i].Value = v
		}
	}
	return dialog.NewForm("A trial", says, lines, nil, func(v map[string]string) (tea.Cmd, error) {
		s.entered = v
		return s.beginTrial(v)
	})
}

// withoutOrigin gives a database's name as its server has it: with several origins it is named after its own as well.
func (a *App) withoutOrigin(name string) string {
	if _, rest, ok := strings.Cut(name, "/"); ok && len(a.status.Origins) > 1 {
		return rest
	}
	return name
}

// beginTrial begins the trial that was asked for, or says what is wrong with it.
func (s *proving) beginTrial(v map[string]string) (tea.Cmd, error) {
	number := func(name string, most int) (int, error) {
		n, err := strconv.Atoi(v[name])
		if err != nil || n < 1 || n > most {
			return 0, &dialog.LineError{Name: name, Err: fmt.Errorf("%q: expected a number from 1 to %d", v[name], most)}
		}
		return n, nil
	}
	rounds, err1 := number("rounds", trial.MostRounds)
	seconds, err2 := number("seconds", 600)
	clients, err3 := number("clients", 200)
	if err := errors.Join(err1, err2, err3); err != nil {
		return nil, err
	}
	length := time.Duration(seconds) * time.Second
	ctx, cancel := context.WithCancel(context.Background())
	run := &working{cancel: cancel}
	client := s.a.client
	begin := func(f func() (*trial.Result, error)) (tea.Cmd, error) {
		s.trying = run
		s.BeginTrial()
		return func() tea.Msg {
			defer cancel()
			r, err := f()
			return trialMsg{r, err}
		}, nil
	}
	if v["kind"] == liveTrial {
		return begin(func() (*trial.Result, error) {
			return client.Trial(ctx, control.Trial{Slice: float64(length) / float64(time.Millisecond), Rounds: rounds}, run.tell)
		})
	}
	made, err := s.a.trials(trial.Wanted{File: v["file"], Direct: v["direct"], Through: v["through"], Writes: v["writes"] == "yes", Clients: clients, Rounds: rounds,
		Length: length, Count: client.CountOf, Progress: run.tell})
	if err != nil {
		cancel()
		return nil, err
	}
	return begin(func() (*trial.Result, error) { return made(ctx) })
}

// askReport asks for the file to write a report into.
func (s *proving) askReport() dialog.Dialog {
	client, since := s.a.client, s.Since()
	return dialog.NewForm("A report on the time saved "+s.Says(), []string{"One page as .svg, .pdf or .md; the numbers as .json or .csv."},
		[]dialog.Line{{Name: "file", Value: "saved-" + time.Now().Format("2006-01-02") + ".pdf", Help: "the extension chooses the format"}}, nil,
		func(v map[string]string) (tea.Cmd, error) {
			path := v["file"]
			if err := report.Known(path); err != nil {
				return nil, err
			}
			whole, err := filepath.Abs(path)
			if err != nil {
				return nil, err
			}
			return act("Written: "+whole, func(ctx context.Context) error {
				r, err := report.Gather(ctx, client, since)
				if err != nil {
					return err
				}
				return r.WriteFile(path)
			}), nil
		})
}
