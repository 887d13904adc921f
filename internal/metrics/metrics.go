// Package metrics exposes what a larder counts in the format of Prometheus. How many values labels have is bounded,
// whatever clients send.
package metrics

import (
	"cmp"
	"math"
	"net/http"
	"slices"
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"jollylarder/internal/core/engine"
	"jollylarder/internal/core/larder"
	"jollylarder/internal/core/ledger"
	"jollylarder/internal/core/rules"
)

// The bounds of labels' values; what is beyond is summed under ledger.Others. Applications are bounded by the ledger.
const (
	mostPatterns = 100
	mostRules    = 100
	mostTables   = 100
)

// Feed is how the changes of one database are followed.
type Feed struct {
	Origin, Database string
	Lag              time.Duration
	Known            bool // the lag was measured
	Following        bool
	Gaps, Held       float64
}

// Source is what is exposed.
type Source struct {
	Engine *larder.Larder
	Feeds  func() []Feed
	// Clients is how many clients are connected.
	Clients func() int
}

// Handler serves the exposition.
func Handler(s Source) http.Handler {
	r := registry(s)
	r.MustRegister(collectors.NewGoCollector(), collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}))
	return promhttp.HandlerFor(r, promhttp.HandlerOpts{})
}

func registry(s Source) *prometheus.Registry {
	r := prometheus.NewPedanticRegistry()
	r.MustRegister(collector{s})
	return r
}

type collector struct{ Source }

// all are the descriptions of everything that may be exposed, whether there is anything of it yet or not.
var all []*prometheus.Desc

func desc(name, help string, labels ...string) *prometheus.Desc {
	d := prometheus.NewDesc("jollylarder_"+name, help, labels, nil)
	all = append(all, d)
	names[d] = "jollylarder_" + name
	return d
}

// names are what they are called.
var names = map[*prometheus.Desc]string{}

var (
	statements    = desc("statements_total", "Statements, by what became of them.", "application", "outcome")
	waited        = desc("waited_seconds_total", "Time that clients waited for replies.", "application", "outcome")
	saved         = desc("saved_seconds", "Time that hits saved, by the last fetch of each result, less the time that the larder added to misses. It may go down.", "application")
	cacheable     = desc("cacheable_waited_seconds_total", "The part of the time waited at the origin that rules could have saved.")
	own           = desc("added_seconds_total", "Time that the larder added to misses.")
	followed      = desc("shared_fetch_seconds_total", "Time that hits waited for another session's fetch of the same result.")
	ofPatterns    = desc("pattern_statements_total", "Statements of the patterns that rules may cache.", "pattern", "outcome")
	savedBy       = desc("pattern_saved_seconds", "Time that hits of a pattern saved. It may go down.", "pattern")
	ofRules       = desc("rule_statements_total", "Statements that a rule caches.", "rule", "outcome")
	savedByRule   = desc("rule_saved_seconds", "Time that hits of a rule saved. It may go down.", "rule")
	answerSeconds = desc("answer_seconds", "How long answers took, by where they came from.", "source")
	sampleSeconds = desc("control_sample_seconds", "How long the origin took for control samples.")
	samples       = desc("control_samples_total", "Control samples, by what came of the comparison.", "result")
	drops         = desc("dropped_results_total", "Results dropped because of writes.", "table")
	writes        = desc("table_writes_total", "Writes, by how they reached the database: through the larder, or directly.", "table", "path")
	needless      = desc("refetched_results_total", "Dropped results that were fetched again, by whether they had changed.", "result")
	results       = desc("cached_results", "Results that are cached.")
	bytesUsed     = desc("cached_bytes", "Memory that cached results use.")
	limit         = desc("cache_limit_bytes", "Memory that cached results may use.")
	unused        = desc("unused_results_total", "Results that ended without having been used.")
	evicted       = desc("evicted_results_total", "Results that were evicted for lack of memory.")
	expired       = desc("expired_results_total", "Results whose TTL has ended.")
	stored        = desc("stored_results_total", "Results that were cached.")
	tooLarge      = desc("too_large_results_total", "Results that were not cached because of their size.")
	clients       = desc("clients", "Clients that are connected.")
	off           = desc("caching_off", "1 while all caching is off.")
	chosen        = desc("chosen_patterns", "Patterns that the larder has chosen within an advised rule.", "rule")
	inForce       = desc("rules", "Rules in force.", "state")
	lag           = desc("feed_lag_seconds", "How long after its commit a change is known at most, as last measured.", "origin", "database")
	following     = desc("feed_following", "1 while the changes of a database are followed.", "origin", "database")
	gaps          = desc("feed_gaps_total", "How often changes may have been missed, and everything was dropped.", "origin", "database")
	slot          = desc("feed_slot_bytes", "What the server retains of its log for the feed.", "origin", "database")
)

// Describe implements prometheus.Collector.
func (c collector) Describe(to chan<- *prometheus.Desc) {
	for _, d := range all {
		to <- d
	}
}

// Collect implements prometheus.Collector.
func (c collector) Collect(to chan<- prometheus.Metric) {
	counter := func(d *prometheus.Desc, v float64, labels ...string) {
		to <- prometheus.MustNewConstMetric(d, prometheus.CounterValue, v, labels...)
	}
	gauge := func(d *prometheus.Desc, v float64, labels ...string) {
		to <- prometheus.MustNewConstMetric(d, prometheus.GaugeValue, v, labels...)
	}
	e := c.Engine
	total := e.Ledger.Total.Total()
	e.Ledger.Applications(func(name string, t *ledger.Tally) {
		s := t.Total()
		for _, o := range ledger.Outcomes {
			counter(statements, float64(s.Count[o]), name, o.String())
			counter(waited, s.Waited[o].Seconds(), name, o.String())
		}
		gauge(saved, s.Saved.Seconds(), name)
	})
	counter(cacheable, total.Cacheable.Seconds())
	counter(own, total.Own.Seconds())
	counter(followed, total.Followed.Seconds())
	c.patterns(to, counter, gauge)
	c.ruled(counter, gauge)
	found := e.Samples.Counts()
	taken, equal, explained, unordered, stale := found.Taken, found.Equal, found.Explained, found.Unordered, found.Stale
	for result, n := range map[string]uint64{"equal": equal, "explained": explained, "unordered": unordered, "stale": stale, "not_compared": taken - min(taken, equal+explained+unordered+stale)} {
		counter(samples, float64(n), result)
	}
	c.tables(counter)
	changed, same := e.Drops.Counts()
	counter(needless, float64(changed), "changed")
	counter(needless, float64(same), "same")
	n, b, l := e.Cached()
	gauge(results, float64(n))
	gauge(bytesUsed, float64(b))
	gauge(limit, float64(l))
	gauge(clients, float64(c.Clients()))
	gauge(off, one(e.CachingOff()))
	active, paused, advised := 0, 0, 0
	set := e.Rules()
	for i := range set.List() {
		r := &set.List()[i]
		if r.Action == rules.Advised && advised < mostRules {
			advised++
			gauge(chosen, float64(set.Chosen(r)), r.Name)
		}
		if r.Paused {
			paused++
		} else {
			active++
		}
	}
	gauge(inForce, float64(active), "in_force")
	gauge(inForce, float64(paused), "paused")
	for _, f := range c.Feeds() {
		gauge(following, one(f.Following), f.Origin, f.Database)
		counter(gaps, f.Gaps, f.Origin, f.Database)
		gauge(slot, f.Held, f.Origin, f.Database)
		if f.Known {
			gauge(lag, f.Lag.Seconds(), f.Origin, f.Database)
		}
	}
}

func one(is bool) float64 {
	if is {
		return 1
	}
	return 0
}

// patterns exposes what is told of patterns: apart, of those that rules may keep and that most was spared of.
func (c collector) patterns(to chan<- prometheus.Metric, counter, gauge func(*prometheus.Desc, float64, ...string)) {
	var memory, origin ledger.Distribution
	type row struct {
		name string
		sums ledger.Sums
	}
	var list []row
	var sum struct{ unused, evicted, expired, stored, large uint64 }
	var took ledger.Samples
	c.Engine.Patterns(func(p *engine.Pattern) {
		memory.Merge(p.Numbers.Memory())
		origin.Merge(p.Numbers.Origin())
		k := &p.Numbers.Cached
		sum.unused += k.Unused.Load()
		sum.evicted += k.Evicted.Load()
		sum.expired += k.Expired.Load()
		sum.stored += k.Stored.Load()
		sum.large += k.TooLarge.Load()
		s := p.Numbers.Total()
		took = took.Plus(s.Samples)
		if s.Count[ledger.Hit]+s.Count[ledger.Miss] > 0 || c.Engine.MayCache(p) {
			list = append(list, row{string(p.ID), s})
		}
	})
	slices.SortFunc(list, func(a, b row) int {
		return cmp.Or(cmp.Compare(b.sums.Saved, a.sums.Saved), cmp.Compare(a.name, b.name))
	})
	var others ledger.Sums
	for i, r := range list {
		if i >= mostPatterns {
			others = others.Plus(r.sums)
			continue
		}
		tell(r.name, r.sums, ofPatterns, savedBy, counter, gauge)
	}
	if len(list) > mostPatterns {
		tell(ledger.Others, others, ofPatterns, savedBy, counter, gauge)
	}
	counter(stored, float64(sum.stored))
	counter(tooLarge, float64(sum.large))
	counter(unused, float64(sum.unused))
	counter(evicted, float64(sum.evicted))
	counter(expired, float64(sum.expired))
	for source, d := range map[string]*ledger.Distribution{"memory": &memory, "origin": &origin} {
		if h := native(answerSeconds, d, c.Engine.Ledger.Began, source); h != nil {
			to <- h
		}
	}
	to <- prometheus.MustNewConstSummary(sampleSeconds, took.Count, took.Took/1000, nil)
}

func tell(name string, s ledger.Sums, count, saves *prometheus.Desc, counter, gauge func(*prometheus.Desc, float64, ...string)) {
	for _, o := range ledger.Outcomes {
		if s.Count[o] > 0 || o == ledger.Hit {
			counter(count, float64(s.Count[o]), name, o.String())
		}
	}
	gauge(saves, s.Saved.Seconds(), name)
}

// ruled exposes what is told of rules.
func (c collector) ruled(counter, gauge func(*prometheus.Desc, float64, ...string)) {
	n := 0
	var others ledger.Sums
	c.Engine.Ledger.Rules(func(name string, t *ledger.Tally) {
		if n++; n > mostRules {
			others = others.Plus(t.Total())
			return
		}
		tell(name, t.Total(), ofRules, savedByRule, counter, gauge)
	})
	if n > mostRules {
		tell(ledger.Others, others, ofRules, savedByRule, counter, gauge)
	}
}

// tables exposes what is told of tables: apart, of those written most.
func (c collector) tables(counter func(*prometheus.Desc, float64, ...string)) {
	list := c.Engine.Tables()
	slices.SortFunc(list, func(a, b engine.TableDrops) int {
		return cmp.Or(cmp.Compare(b.Writes, a.Writes), cmp.Compare(a.Table, b.Table))
	})
	others := engine.TableDrops{Table: ledger.Others}
	if len(list) > mostTables {
		for _, t := range list[mostTables:] {
			others.Writes, others.Around, others.Drops = others.Writes+t.Writes, others.Around+t.Around, others.Drops+t.Drops
		}
		list = append(list[:mostTables], others)
	}
	for _, t := range list {
		name := cmp.Or(t.Table, "(any)")
		counter(writes, float64(t.Writes-min(t.Around, t.Writes)), name, "larder")
		counter(writes, float64(t.Around), name, "direct")
		counter(drops, float64(t.Drops), name)
	}
}

// schema is the resolution of native histograms: eight buckets for each power of two, as the ledger has them.
const schema = 3

// native makes a native histogram, or nil of nothing. The ledger's buckets are of equal width within a power of two and
// those of the histogram are not, so that a time may be counted in the bucket beside its own.
func native(d *prometheus.Desc, from *ledger.Distribution, began time.Time, labels ...string) prometheus.Metric {
	buckets := map[int]int64{}
	var count, zero uint64
	var sum float64
	for _, b := range from.Buckets() {
		middle := (b.From + b.To).Seconds() / 2
		count += uint64(b.Count)
		sum += middle * float64(b.Count)
		if b.To <= time.Microsecond {
			zero += uint64(b.Count)
			continue
		}
		buckets[int(math.Ceil(math.Log2(middle)*(1<<schema)))] += int64(b.Count)
	}
	if count == 0 {
		return nil
	}
	if n := from.Count(); n > 0 {
		sum = from.Mean().Seconds() * float64(n)
	}
	h, err := prometheus.NewConstNativeHistogram(d, count, sum, buckets, nil, zero, schema, time.Microsecond.Seconds(), began, labels...)
	if err != nil {
		return prometheus.NewInvalidMetric(d, err)
	}
	return h
}
