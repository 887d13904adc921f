package load

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"hash/fnv"
	"slices"
	"strings"
	"sync"
	"time"

	"jollylarder/internal/core/ledger"
	"jollylarder/internal/protocol"
	"jollylarder/internal/trial"
)

// Load is a trial with statements of its own.
type Load struct {
	// Direct is the URL of the database, and Through that of the larder. Without Direct only keeping on and off are
	// compared.
	Direct, Through string
	// Protocol is that of both. Required.
	Protocol   *protocol.Protocol
	Statements []trial.Statement
	// Clients is how many connections ask at a time, Length how long the trial lasts at most, and Rounds how often each
	// way has its turn.
	Clients int
	Length  time.Duration
	Rounds  int
	// Timed has the statements asked when they were recorded, all of them in every turn, so that there are as many
	// rounds as there is time for, one at least. Else each client asks for the next as soon as it has the last.
	Timed bool
	// OptOut is the comment by which a statement asks the larder not to be answered from memory. It is its last, so
	// that it counts.
	OptOut string
	// Count gives what the larder has counted of an application. Nil if the larder cannot be asked.
	Count func(ctx context.Context, application string) (ledger.Sums, error)
	// Progress, if it is set, is told how much is done, from 0 to 1, and what is being done.
	Progress func(done float64, what string)
}

// application gives the name by which the connections of a way introduce themselves; not every protocol can write a comma.
func application(way string) string { return "trial " + strings.ReplaceAll(way, ",", "") }

// lane is one way with its connections.
type lane struct {
	way     string
	url     string
	dialler func(ctx context.Context, url, application string) (trial.Client, error)
	behind  string // what is put behind each statement
	conns   []trial.Client
	slices  []trial.Slice
	each    []trial.Figures
	sums    ledger.Sums // what the larder counted of it
	unknown bool        // it could not be asked every time
}

// errGone is an origin, or a larder, that does not answer any more.
var errGone = errors.New("does not answer: expected a database that does")

// reconnects is for how long a client tries to connect again, and pause how long it waits in between.
const (
	reconnects = 3 * time.Second
	pause      = 200 * time.Millisecond
)

// Run makes the trial. One that is stopped, or whose database fails, gives what its completed rounds came to.
func (t *Load) Run(ctx context.Context) (trial.Result, error) {
	var lanes []*lane
	defer func() {
		for _, l := range lanes {
			l.close()
		}
	}()
	for _, l := range []*lane{{way: trial.Direct, url: t.Direct}, {way: trial.Off, url: t.Through, behind: "\n" + t.OptOut}, {way: trial.On, url: t.Through}} {
		if l.url == "" {
			continue
		}
		l.dialler = t.Protocol.Dial
		if err := l.connect(ctx, t.Clients); err != nil {
			return trial.Result{}, fmt.Errorf("%s: %w", l.way, err)
		}
		lanes = append(lanes, l)
	}
	rounds := t.rounds(len(lanes))
	per := t.Length / time.Duration(rounds*len(lanes)+1)
	t.say(0, "getting to know how long a round takes")
	count, err := t.calibrate(ctx, lanes, per)
	if err != nil {
		return trial.Result{}, err
	}
	ended := ""
	for round := range rounds {
		var done []trial.Slice
		order := make([]*lane, len(lanes))
		for i := range lanes {
			order[i] = lanes[(i+round)%len(lanes)] // none is always first
		}
		for i, l := range order {
			t.say(
				float64(round*len(lanes)+i)/float64(rounds*len(lanes)),
				fmt.Sprintf("round %d of %d: %s", round+1, rounds, l.way),
			)
			s, err := t.slice(ctx, l, round*count, count)
			if err != nil {
				ended = err.Error()
				if ctx.Err() != nil {
					ended = "it was stopped"
				}
				break
			}
			done = append(done, s)
		}
		if ended != "" {
			break
		}
		for i, l := range order { // rounds count whole, or not at all
			l.slices = append(l.slices, done[i])
			l.sums = l.sums.Plus(done[i].Sums)
			l.each = append(l.each, trial.Sum(l.way, done[i:i+1]))
		}
	}
	if len(lanes[0].slices) == 0 {
		return trial.Result{}, fmt.Errorf("no round was completed: %s", ended)
	}
	r := t.result(lanes, ended)
	if ctx.Err() == nil && ended == "" {
		t.say(1, "comparing answers")
		r.Answers, err = t.compare(ctx, lanes[0], lanes[len(lanes)-1])
		if err != nil {
			r.Ended = "answers were not compared to the end: " + err.Error()
		}
	}
	t.say(1, "done")
	return r, nil
}

// rounds is how many rounds there are, with so many ways.
func (t *Load) rounds(ways int) int {
	n := max(t.Rounds, 1)
	if t.Timed {
		one := time.Duration(t.Statements[len(t.Statements)-1].At*float64(time.Millisecond)) * time.Duration(ways)
		n = max(min(n, int(t.Length/max(one, time.Millisecond))), 1)
	}
	return n
}

func (t *Load) say(done float64, what string) {
	if t.Progress != nil {
		t.Progress(done, what)
	}
}

func (t *Load) result(lanes []*lane, ended string) trial.Result {
	var ways []string
	rounds, whole := map[string][]trial.Figures{}, map[string]trial.Figures{}
	for _, l := range lanes {
		f := trial.Sum(l.way, l.slices)
		asked := uint64(f.Calls + f.Errors)
		f.Origin = &asked
		if l.way == trial.On {
			f.Origin = nil
			if t.Count != nil && !l.unknown {
				n := l.sums.Calls() - l.sums.Count[ledger.Hit]
				f.Origin = &n
			}
		}
		ways = append(ways, l.way)
		rounds[l.way], whole[l.way] = l.each, f
	}
	r := trial.Compare(ways, rounds, whole)
	r.Kind, r.Clients, r.Ended = "load", t.Clients, ended
	if last := lanes[len(lanes)-1]; t.Count != nil && !last.unknown {
		r.Counts(last.sums)
	}
	return r
}

func (l *lane) connect(ctx context.Context, n int) error {
	for range n {
		c, err := l.dial(ctx)
		if err != nil {
			return err
		}
		l.conns = append(l.conns, c)
	}
	return nil
}

func (l *lane) dial(ctx context.Context) (trial.Client, error) {
	return l.dialler(ctx, l.url, application(l.way))
}

func (l *lane) close() {
	for _, c := range l.conns {
		c.Close()
	}
}

// calibrate finds out how many statements each client asks in a slice, so that the slowest way takes about so long.
// What keeping on asks here fills the larder's memory: rounds begin with it as it is in use.
func (t *Load) calibrate(ctx context.Context, lanes []*lane, per time.Duration) (int, error) {
	if t.Timed {
		for _, l := range lanes {
			if l.way == trial.On {
				_, err := t.slice(ctx, l, 0, 0)
				return 0, err
			}
		}
	}
	least := 0
	for _, l := range lanes {
		// Twice as many each time, until they take a while: the first few are slower than all that follow.
		total, n, took := 0, 1, time.Duration(0)
		for ; took < per/4; n *= 2 {
			s, err := t.slice(ctx, l, total, n)
			if err != nil {
				return 0, fmt.Errorf("%s: %w", l.way, err)
			}
			if s.Errors == n*t.Clients {
				return 0, fmt.Errorf("%s: every statement failed; try one of them with a client of the database", l.way)
			}
			total += n
			if took = time.Duration(s.Length * float64(time.Second)); n == 1 {
				took = min(took, per/4-1)
			}
		}
		count := max(int(float64(n/2)*float64(per)/float64(took)), 1)
		if least == 0 || count < least {
			least = count
		}
	}
	return least, nil
}

// slice has one way asked so many statements by each client, from a place in the list on; or, timed, the whole list.
func (t *Load) slice(ctx context.Context, l *lane, from, count int) (trial.Slice, error) {
	before := t.counted(ctx, l)
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	var mu sync.Mutex
	var out trial.Slice
	var wg sync.WaitGroup
	began := time.Now()
	for i := range l.conns {
		wg.Go(func() {
			var mine trial.Slice
			defer func() {
				mu.Lock()
				defer mu.Unlock()
				out.Took, out.Errors, out.Bounds = append(out.Took, mine.Took...), out.Errors+mine.Errors, out.Bounds+mine.Bounds
			}()
			list := t.Statements
			if t.Timed {
				for k := range list {
					if t.client(&list[k], k)%len(l.conns) != i {
						continue
					}
					wait := time.Duration(list[k].At*float64(time.Millisecond)) - time.Since(began)
					select {
					case <-ctx.Done():
						return
					case <-time.After(wait):
					}
					if err := l.one(ctx, i, &list[k], &mine); err != nil {
						cancel(err)
						return
					}
				}
				return
			}
			for k := range count { // clients begin at different places, the same in every way
				at := (i*len(list)/len(l.conns) + from + k) % len(list)
				if err := l.one(ctx, i, &list[at], &mine); err != nil {
					cancel(err)
					return
				}
			}
		})
	}
	wg.Wait()
	if err := context.Cause(ctx); err != nil {
		return trial.Slice{}, err
	}
	out.Length = time.Since(began).Seconds()
	out.Sums = t.counted(ctx, l).Minus(before)
	bypasses := &out.Sums.Count[ledger.Bypass] // among which are those that only bound a statement of the trial's
	*bypasses -= min(*bypasses, uint64(out.Bounds))
	return out, nil
}

// countAge is how old what the larder says of itself may be.
const countAge = 200 * time.Millisecond

// client tells by whom a statement of a recording is asked: those of one session by one client.
func (t *Load) client(s *trial.Statement, place int) int {
	if s.Session == "" {
		return place
	}
	h := fnv.New32a()
	_, _ = h.Write([]byte(s.Session))
	return int(h.Sum32() >> 1)
}

// counted gives what the larder has counted of the way with keeping on; nothing of the others.
func (t *Load) counted(ctx context.Context, l *lane) ledger.Sums {
	if t.Count == nil || l.way != trial.On {
		return ledger.Sums{}
	}
	time.Sleep(countAge)
	sums, err := t.Count(ctx, application(trial.On))
	l.unknown = l.unknown || err != nil
	return sums
}

// one asks one statement, and notes how long that took. An error is the end of the trial.
func (l *lane) one(ctx context.Context, i int, s *trial.Statement, out *trial.Slice) error {
	c := l.conns[i]
	if s.Writes {
		out.Bounds++
		if err := c.Begin(ctx); err != nil && c.Closed() {
			return l.again(ctx, i, err)
		}
	}
	from := time.Now()
	_, err := c.Ask(ctx, s, l.behind)
	took := time.Since(from)
	if s.Writes && !c.Closed() {
		out.Bounds++
		_ = c.Rollback(ctx)
	}
	switch {
	case ctx.Err() != nil:
		return ctx.Err()
	case err == nil:
		out.Took = append(out.Took, float64(took)/float64(time.Millisecond))
		return nil
	}
	out.Errors++
	if c.Closed() {
		return l.again(ctx, i, err)
	}
	return nil
}

// again connects anew, for a while.
func (l *lane) again(ctx context.Context, i int, why error) error {
	for end := time.Now().Add(reconnects); ; {
		c, err := l.dial(ctx)
		if err == nil {
			l.conns[i] = c
			return nil
		}
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if time.Now().After(end) {
			return fmt.Errorf("%s %w: %w", l.way, errGone, why)
		}
		time.Sleep(pause)
	}
}

// mostCompared bounds the statements whose answers are compared.
const mostCompared = 1000

// compare asks each statement directly, through the larder, and directly again, and compares the answers. Without a
// direct way, keeping off stands for it.
func (t *Load) compare(ctx context.Context, direct, through *lane) (*trial.Answers, error) {
	out := &trial.Answers{}
	seen := map[string]bool{}
	for i := range t.Statements {
		s := &t.Statements[i]
		parameters, _ := json.Marshal(s.Parameters)
		key := s.SQL + "\x00" + string(parameters)
		if s.Writes || seen[key] {
			continue
		}
		if seen[key] = true; len(seen) > mostCompared {
			break
		}
		var answers [3][]byte
		for k, l := range []*lane{direct, through, direct} {
			rows, err := l.conns[0].Ask(ctx, s, l.behind)
			if err != nil && l.conns[0].Closed() {
				return out, err
			}
			slices.SortFunc(rows, bytes.Compare)
			answers[k] = bytes.Join(rows, []byte{'\n'})
			if err != nil {
				answers[k] = []byte("error")
			}
		}
		switch {
		case !bytes.Equal(answers[0], answers[2]):
			out.Changing++
		case bytes.Equal(answers[0], answers[1]):
			out.Equal++
		default:
			out.Different++
			if len(out.First) < 5 {
				out.First = append(out.First, short(s.SQL))
			}
		}
	}
	return out, nil
}
