// Package advice says what to do about a pattern: keep it and for how long, leave it, what would make it possible, or
// watch it longer. It goes by what the ledger has counted, and says how sure it is.
package advice

import (
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"jollylarder/internal/core/inputs"
	"jollylarder/internal/core/reason"
	"jollylarder/internal/core/rules"
)

// Kind is which advice it is.
type Kind string

// The kinds.
const (
	Cache       Kind = "cache"
	NotWorth    Kind = "not worth it"
	NotPossible Kind = "not possible"
	WatchLonger Kind = "watch longer"
	Decided     Kind = "decided" // a rule speaks of it already
)

// Seen is what has been seen of a pattern.
type Seen struct {
	// Decided is set if a rule speaks of it; Ruled says what that rule is, in words.
	Decided bool
	Ruled   string
	// Reasons says why its results cannot be kept; Tables are those it reads.
	Reasons []reason.Reason
	Tables  []string
	// Calls is how many there were in the last minute.
	Calls float64
	// Origin is how long a fetch takes on average, and Bytes how long a reply is.
	Origin time.Duration
	Bytes  float64
	// Writes is how many writes a minute touch its tables.
	Writes  float64
	Outlook inputs.Outlook
}

// Advice is what to do, in a sentence, with its reasons.
type Advice struct {
	Kind     Kind
	Sentence string
	For      []string
	Against  []string
	// Could says what would make keeping possible, or more worth it.
	Could []string

	// The rest is what keeping would bring, at TTL; it is foretold for Keep and NotWorth.
	TTL time.Duration
	// Hits is the share of calls answered from memory, and Error half of its interval of 95%.
	Hits, Error float64
	// Saved is the waiting avoided a minute, and Memory the bytes that kept results would take.
	Saved  time.Duration
	Memory float64
	// Watch is how much longer it is to be watched.
	Watch time.Duration
}

// What makes advice worth giving.
const (
	enoughCalls  = 30          // followed calls, to foretell anything
	enoughTime   = time.Minute // of following, to foretell minutes
	fromMemory   = 50 * time.Microsecond
	worthShare   = 0.10                  // of calls that would be hits
	worthWaiting = 20 * time.Millisecond // of waiting spared a minute
	overhead     = 600                   // bytes that a kept result takes beside its reply
)

// Give gives advice on a pattern.
func Give(s Seen) Advice {
	switch {
	case s.Decided:
		a := Advice{Kind: Decided, Sentence: s.Ruled}
		s.predict(&a)
		return a
	case len(s.Reasons) > 0:
		return s.notPossible()
	case s.Outlook.Calls < enoughCalls || s.Outlook.Followed < enoughTime:
		return s.watchLonger()
	}
	a := Advice{}
	s.predict(&a)
	s.weigh(&a)
	switch {
	case a.Hits < worthShare:
		a.Kind = NotWorth
		a.Sentence = fmt.Sprintf(
			"Not worth caching: the hit rate would be %s.",
			share(a.Hits, a.Error),
		)
	case a.Saved < worthWaiting:
		a.Kind = NotWorth
		a.Sentence = fmt.Sprintf("Not worth caching: it would save only %s a minute.", Waiting(a.Saved))
	default:
		a.Kind = Cache
		a.Sentence = fmt.Sprintf(
			"Cache it for %s: hit rate %s of %.0f calls a minute, saves %s a minute, uses about %s.",
			rules.FormatTTL(a.TTL),
			share(a.Hits, a.Error),
			s.Calls,
			Waiting(a.Saved),
			size(a.Memory),
		)
	}
	return a
}

// nearlyAll is the part of the most hits that a shorter lifetime must bring to be advised in place of a longer one.
const nearlyAll = 0.95

// predict works out what keeping would bring, at the shortest lifetime that brings nearly all.
func (s *Seen) predict(a *Advice) { *a = s.foretell(*a, 0, nearlyAll) }

// Foretell says what caching would bring at the shortest TTL that brings a part, from 0 to 1, of the most hits that any
// TTL up to the longest would bring, as far as that has been observed. It gives TTL, Hits, Error, Saved and Memory.
func (s *Seen) Foretell(longest time.Duration, part float64) Advice {
	return s.foretell(Advice{}, longest, part)
}

// At says what caching would bring at a TTL; 0 is none. Between two lifetimes of the ladder that is taken to grow with
// the TTL's logarithm.
func (s *Seen) At(ttl time.Duration) Advice {
	last := len(inputs.Ladder) - 2 // the longest that ends
	at := slices.IndexFunc(inputs.Ladder[:last+1], func(step time.Duration) bool { return step >= ttl })
	switch {
	case ttl == 0:
		return s.step(Advice{}, last+1)
	case at < 0:
		at = last
	case at > 0 && inputs.Ladder[at] > ttl:
		shorter, longer := s.step(Advice{}, at-1), s.step(Advice{}, at)
		part := math.Log(float64(ttl)/float64(shorter.TTL)) / math.Log(float64(longer.TTL)/float64(shorter.TTL))
		between := func(a, b float64) float64 { return a + part*(b-a) }
		return Advice{
			TTL: ttl, Hits: between(shorter.Hits, longer.Hits), Error: between(shorter.Error, longer.Error),
			Saved:  time.Duration(between(float64(shorter.Saved), float64(longer.Saved))),
			Memory: between(shorter.Memory, longer.Memory),
		}
	}
	a := s.step(Advice{}, at)
	a.TTL = ttl
	return a
}

// foretell works out what keeping would bring at the shortest lifetime that brings a part of the most, up to a longest
// one; 0 is none.
func (s *Seen) foretell(a Advice, longest time.Duration, part float64) Advice {
	o := &s.Outlook
	if o.Calls == 0 {
		return a
	}
	best, last := 0.0, -1
	for i, ttl := range inputs.Ladder {
		if ttl == 0 || (ttl > o.Followed || longest > 0 && ttl > longest) && last >= 0 {
			break // nobody has seen yet what comes after so long, or it is not wanted
		}
		best, last = max(best, o.Hits[i]), i
	}
	at := last
	for i := last; i >= 0; i-- {
		if o.Hits[i] >= part*best {
			at = i
		}
	}
	return s.step(a, at)
}

// step fills in what one lifetime of the ladder would bring.
func (s *Seen) step(a Advice, at int) Advice {
	o := &s.Outlook
	a.TTL, a.Hits, a.Error = inputs.Ladder[at], o.Hits[at], o.Error[at]
	a.Saved = time.Duration(s.Calls * a.Hits * float64(max(s.Origin-fromMemory, 0)))
	a.Memory = o.Live[at] * (s.Bytes + overhead)
	return a
}

// weigh collects what speaks for and against keeping.
func (s *Seen) weigh(a *Advice) {
	o := &s.Outlook
	say := func(list *[]string, format string, args ...any) { *list = append(*list, fmt.Sprintf(format, args...)) }
	say(&a.For, "%.0f%% of its calls repeat an earlier input", 100*o.Repeats)
	if o.Half > 0 && o.Half < 0.3 && o.Inputs >= 10 {
		say(&a.For, "half of the calls use %.0f%% of about %.0f inputs", 100*o.Half, o.Inputs)
	}
	if s.Writes == 0 {
		say(&a.For, "no writes to %s in the last minute", tables(s.Tables))
	} else {
		say(&a.Against, "%.0f writes a minute to %s, and each drops results", s.Writes, tables(s.Tables))
	}
	i := slices.Index(inputs.Ladder[:], a.TTL)
	if aged := o.Aged[i]; aged > a.Hits+0.15 {
		say(&a.Against, "without those writes %.0f%% would be hits", 100*aged)
		say(
			&a.Could,
			"fewer writes that touch it, or mode = \"ttl only\" if readers accept results %s old",
			rules.FormatTTL(a.TTL),
		)
	}
	if o.Compared >= 10 {
		if o.Changed == 0 {
			say(&a.For, "no result had changed in %.0f comparisons with the one before", o.Compared)
		} else {
			say(&a.Against, "its result had changed in %.0f%% of %.0f comparisons with the one before", 100*o.Changed/o.Compared, o.Compared)
		}
	}
	if o.Unseen >= 1 {
		say(
			&a.Against,
			"%.0f times its result changed with no write seen: there are direct writes, and a result can be as old as its TTL",
			o.Unseen,
		)
	}
	if a.Error > 0.05 {
		say(&a.Against, "the hit rate is uncertain by %.0f points: few inputs make most of its calls", 100*a.Error)
	}
}

func (s *Seen) notPossible() Advice {
	a := Advice{
		Kind:     NotPossible,
		Sentence: "Cannot be cached: it " + s.Reasons[0].Clause() + ".",
		Against:  reason.Sentences(s.Reasons),
	}
	for _, r := range s.Reasons {
		could := others[r.Code]
		if r.OfTime() {
			could = "the time as a parameter, rounded, in place of the function that asks for it"
		}
		if could == "" {
			continue
		}
		if !slices.Contains(a.Could, could) {
			a.Could = append(a.Could, could)
		}
	}
	return a
}

// others say what other statement or schema would make keeping possible, by what a rule alone cannot change.
var others = map[reason.Code]string{
	reason.UnknownTables:      declare,
	reason.UnknownBody:        declare,
	reason.UnknownLanguage:    declare,
	reason.UnknownDependence:  declare,
	reason.FixedReads:         stable,
	reason.Several:            part,
	reason.ReadsSetting:       parameter,
	reason.UnknownParts:       describe,
	reason.UnknownView:        describe,
	reason.UnknownRowSecurity: describe,
}

func (s *Seen) watchLonger() Advice {
	o := &s.Outlook
	a := Advice{Kind: WatchLonger}
	left := enoughTime - o.Followed
	if s.Calls > 0 && o.Calls < enoughCalls {
		left = max(left, time.Duration((enoughCalls-o.Calls)/s.Calls*float64(time.Minute)))
	}
	switch {
	case s.Calls == 0:
		a.Sentence = fmt.Sprintf(
			"It could be cached, but had no calls in the last minute; %.0f calls were seen in all.",
			o.Calls,
		)
	default:
		a.Watch = max(left.Round(time.Second), time.Second)
		a.Sentence = fmt.Sprintf(
			"It could be cached. Watch it for about %s more for a forecast: %.0f calls were observed so far.",
			rules.FormatTTL(roundUp(a.Watch)),
			o.Calls,
		)
	}
	return a
}

func roundUp(d time.Duration) time.Duration {
	if d > time.Minute {
		return (d + time.Minute - 1).Truncate(time.Minute)
	}
	return d.Truncate(time.Second)
}

func tables(list []string) string {
	switch len(list) {
	case 0:
		return "what it reads"
	case 1:
		return list[0]
	}
	return strings.Join(list[:len(list)-1], ", ") + " and " + list[len(list)-1]
}

func share(part, err float64) string {
	if err < 0.005 {
		return fmt.Sprintf("%.0f%%", 100*part)
	}
	return fmt.Sprintf("%.0f%% (±%.0f)", 100*part, 100*err)
}

// Waiting writes waiting for a sentence.
func Waiting(d time.Duration) string {
	switch {
	case d < time.Second:
		return fmt.Sprintf("%d ms", d.Milliseconds())
	case d < 10*time.Second:
		return fmt.Sprintf("%.1f s", d.Seconds())
	}
	return fmt.Sprintf("%.0f s", d.Seconds())
}

func size(n float64) string {
	switch {
	case n < 1<<10:
		return fmt.Sprintf("%.0f B", n)
	case n < 1<<20:
		return fmt.Sprintf("%.0f KiB", n/(1<<10))
	}
	return fmt.Sprintf("%.1f MiB", n/(1<<20))
}
