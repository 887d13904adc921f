package state

import (
	"database/sql"
	"encoding/json"
	"fmt"
	"strings"
	"time"

	"jollylarder/internal/core/ledger"
)

// Kind is what numbers are of.
type Kind string

// The kinds.
const (
	Everything  Kind = ""
	Pattern     Kind = "pattern"
	Application Kind = "application"
	Rule        Kind = "rule"
	Table       Kind = "table"
)

// Rollup is the numbers of one subject over one step of time.
type Rollup struct {
	At   time.Time
	Kind Kind
	// Name is the pattern's ID, or the name of the application or the rule; empty for everything. Others stands for
	// those that are not told apart.
	Name string
	// Text is the pattern's, for when it is not known any more.
	Text string
	// Minutes is how many minutes there are numbers of.
	Minutes uint64

	ledger.Sums
	Drops uint64
	// Compared is how many control samples were compared with what was kept, and Stale how many of them found an old
	// answer; of everything.
	Compared, Stale uint64
	// Memory is how many bytes were kept, on average over the minutes; of everything, or of a pattern.
	Memory float64
	// Evicted, Expired and Unused are how many results made room for others, came to the end of their TTL, and went
	// without having been used; of everything.
	Evicted, Expired, Unused uint64
	// P50 and P99 are what half of the calls waited at most, and 99 % of them; of a pattern, and 0 where that is not
	// known. Over several minutes they are averages weighted by calls.
	P50, P99 time.Duration
}

// Plus adds the numbers of another step.
func (r Rollup) Plus(o Rollup) Rollup {
	if all := r.Minutes + o.Minutes; all > 0 {
		r.Memory = (r.Memory*float64(r.Minutes) + o.Memory*float64(o.Minutes)) / float64(all)
	}
	if all := r.Calls() + o.Calls(); all > 0 {
		weighted := func(a, b time.Duration) time.Duration {
			return time.Duration((float64(a)*float64(r.Calls()) + float64(b)*float64(o.Calls())) / float64(all))
		}
		r.P50, r.P99 = weighted(r.P50, o.P50), weighted(r.P99, o.P99)
	}
	r.Sums = r.Sums.Plus(o.Sums)
	r.Minutes += o.Minutes
	r.Evicted, r.Expired, r.Unused = r.Evicted+o.Evicted, r.Expired+o.Expired, r.Unused+o.Unused
	r.Drops += o.Drops
	r.Compared += o.Compared
	r.Stale += o.Stale
	return r
}

// Others is the name under which subjects beyond the bound are summed.
const Others = ledger.Others

// Each is how many subjects of one kind are told apart in one step.
const Each = 200

// The steps of time, in seconds, and for how long numbers are kept in each: at most some 900,000 rows.
var steps = []struct{ step, keep int64 }{{60, 24 * 3600}, {3600, 30 * 24 * 3600}, {24 * 3600, 2 * 365 * 24 * 3600}}

// StepFor is the finest step of time that numbers are still kept in back to a time.
func StepFor(from, now time.Time) time.Duration {
	for _, s := range steps {
		if now.Unix()-from.Unix() <= s.keep {
			return time.Duration(s.step) * time.Second
		}
	}
	return time.Duration(steps[len(steps)-1].step) * time.Second
}

// columns are the numbers of a row, in the order of values. All of them are summed.
var columns = []string{
	"minutes",
	"hits",
	"misses",
	"bypasses",
	"writes",
	"hit_waited",
	"miss_waited",
	"bypass_waited",
	"write_waited",
	"saved",
	"cacheable",
	"own",
	"followed",
	"before_calls",
	"before_waited",
	"hindered_calls",
	"hindered_waited",
	"samples",
	"sample_took",
	"sample_squares",
	"drops",
	"compared",
	"stale",
	"memory",
	"evicted",
	"expired",
	"unused",
	"p50",
	"p99",
}

// values gives pointers to a row's numbers; times are in microseconds.
type values struct {
	minutes, hits, misses, bypasses, writes                           int64
	hitWaited, missWaited, bypassWaited, writeWaited                  int64
	saved, cacheable, own, followed                                   int64
	beforeCalls, beforeWaited, hinderedCalls, hinderedWaited, samples int64
	took, squares                                                     float64
	drops, compared, stale                                            int64
	memory                                                            float64
	evicted, expired, unused                                          int64
	p50, p99                                                          float64 // in µs, times calls
}

func (v *values) pointers() []any {
	return []any{
		&v.minutes,
		&v.hits,
		&v.misses,
		&v.bypasses,
		&v.writes,
		&v.hitWaited,
		&v.missWaited,
		&v.bypassWaited,
		&v.writeWaited,
		&v.saved,
		&v.cacheable,
		&v.own,
		&v.followed,
		&v.beforeCalls,
		&v.beforeWaited,
		&v.hinderedCalls,
		&v.hinderedWaited,
		&v.samples,
		&v.took,
		&v.squares,
		&v.drops,
		&v.compared,
		&v.stale,
		&v.memory,
		&v.evicted,
		&v.expired,
		&v.unused,
		&v.p50,
		&v.p99,
	}
}

func (r *Rollup) values() values {
	us := func(d time.Duration) int64 { return d.Microseconds() }
	c, w := r.Count, r.Waited
	minutes := max(r.Minutes, 1)
	return values{
		int64(minutes),
		int64(c[ledger.Hit]),
		int64(c[ledger.Miss]),
		int64(c[ledger.Bypass]),
		int64(c[ledger.Write]),
		us(
			w[ledger.Hit],
		),
		us(w[ledger.Miss]),
		us(w[ledger.Bypass]),
		us(w[ledger.Write]),
		us(r.Saved),
		us(r.Cacheable),
		us(r.Own),
		us(r.Followed),
		int64(
			r.Before.Calls,
		),
		us(r.Before.Waited),
		int64(r.Hindered.Calls),
		us(r.Hindered.Waited),
		int64(r.Samples.Count),
		r.Samples.Took,
		r.Samples.Squares,
		int64(r.Drops),
		int64(r.Compared),
		int64(r.Stale),
		r.Memory * float64(minutes),
		int64(r.Evicted),
		int64(r.Expired),
		int64(r.Unused),
		float64(us(r.P50)) * float64(r.Calls()),
		float64(us(r.P99)) * float64(r.Calls()),
	}
}

func (v *values) into(r *Rollup) {
	d := func(us int64) time.Duration { return time.Duration(us) * time.Microsecond }
	r.Minutes = uint64(v.minutes)
	r.Count = [4]uint64{uint64(v.hits), uint64(v.misses), uint64(v.bypasses), uint64(v.writes)}
	r.Waited = [4]time.Duration{d(v.hitWaited), d(v.missWaited), d(v.bypassWaited), d(v.writeWaited)}
	r.Saved, r.Cacheable, r.Own, r.Followed = d(v.saved), d(v.cacheable), d(v.own), d(v.followed)
	r.Before, r.Hindered = ledger.Part{
		Calls:  uint64(v.beforeCalls),
		Waited: d(v.beforeWaited),
	}, ledger.Part{
		Calls:  uint64(v.hinderedCalls),
		Waited: d(v.hinderedWaited),
	}
	r.Samples = ledger.Samples{Count: uint64(v.samples), Took: v.took, Squares: v.squares}
	r.Drops, r.Compared, r.Stale = uint64(v.drops), uint64(v.compared), uint64(v.stale)
	r.Memory = v.memory / float64(max(v.minutes, 1))
	r.Evicted, r.Expired, r.Unused = uint64(v.evicted), uint64(v.expired), uint64(v.unused)
	if calls := r.Calls(); calls > 0 {
		r.P50, r.P99 = d(int64(v.p50/float64(calls))), d(int64(v.p99/float64(calls)))
	}
}

var addition = func() string {
	var set []string
	for _, c := range columns {
		set = append(set, c+" = "+c+" + excluded."+c)
	}
	return "insert into numbers (step, at, kind, name, " + strings.Join(
		columns,
		", ",
	) + ") values (?, ?, ?, ?" + strings.Repeat(
		", ?",
		len(columns),
	) +
		") on conflict (step, at, kind, name) do update set " + strings.Join(
		set,
		", ",
	)
}()

// AddRollups adds the numbers of a minute. Those that have become old are added up to hours, and then to days.
func (s *Store) AddRollups(rows []Rollup, now time.Time) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.write(func(tx *sql.Tx) error {
		add, err := tx.Prepare(addition)
		if err != nil {
			return err
		}
		defer add.Close()
		for _, r := range rows {
			v := r.values()
			for _, st := range steps {
				if _, err := add.Exec(append([]any{st.step, r.At.Unix() / st.step * st.step, string(r.Kind), r.Name}, v.pointers()...)...); err != nil {
					return err
				}
			}
			if r.Text != "" {
				if _, err := tx.Exec("insert or ignore into patterns select ?, ? where (select count(*) from patterns) < ?", r.Name, shortened(r.Text), mostTexts); err != nil {
					return err
				}
			}
		}
		return thin(tx, now)
	})
}

// The bounds of the file. Texts are shortened, and there are so many of them; and when the file takes most of what it
// may, minutes are kept for less time. What then does not fit is not written, and Problem says so.
const (
	longestText = 1 << 10
	mostTexts   = 50_000
	mostBytes   = 256 << 20
	pageSize    = 4096
	shortKeep   = 3 * 3600
)

// shortened gives a text, or the beginning of a long one.
func shortened(text string) string {
	if len(text) <= longestText {
		return text
	}
	return strings.ToValidUTF8(text[:longestText], "") + " …"
}

// thin takes out what is kept in coarser steps alone from now on, and what of those is too much.
func thin(tx *sql.Tx, now time.Time) error {
	for i, st := range steps {
		if _, err := tx.Exec("delete from numbers where step = ? and at < ?", st.step, now.Unix()-st.keep); err != nil {
			return err
		}
		if i == 0 || now.Unix()%3600 >= 60 {
			continue
		}
		// Each step has its subjects told apart anew: of those that came in over time, the ones waited for most remain.
		if _, err := tx.Exec(`delete from numbers where step = ?1 and at >= ?2 and name <> '' and name <> ?3 and (at, kind, name) not in
			(select at, kind, name from (select at, kind, name, row_number() over (partition by at, kind order by hit_waited + miss_waited + bypass_waited + write_waited + saved + case kind when 'table' then writes else 0 end desc) as place
			from numbers where step = ?1 and at >= ?2 and name <> '' and name <> ?3) where place <= ?4)`,
			st.step, now.Unix()-2*st.step, Others, Each); err != nil {
			return err
		}
	}
	var pages, free int64
	if err := tx.QueryRow("select (select page_count from pragma_page_count), (select freelist_count from pragma_freelist_count)").Scan(&pages, &free); err != nil {
		return err
	}
	if (pages-free)*pageSize > mostBytes*3/4 {
		if _, err := tx.Exec("delete from numbers where step = 60 and at < ?", now.Unix()-shortKeep); err != nil {
			return err
		}
		if _, err := tx.Exec("delete from patterns where id not in (select name from numbers where kind = 'pattern')"); err != nil {
			return err
		}
	}
	_, err := tx.Exec(
		"delete from patterns where ? % 86400 < 60 and id not in (select name from numbers where kind = 'pattern')",
		now.Unix(),
	)
	return err
}

// Sum gives the numbers of one subject from a time on up to another, in steps of minutes.
func (s *Store) Sum(kind Kind, name string, from, to time.Time) Rollup {
	list := s.rollups(
		"at",
		"step = 60 and kind = ? and name = ? and at >= ? and at < ?",
		string(kind),
		name,
		from.Unix(),
		to.Unix(),
	)
	sum := Rollup{At: from, Kind: kind, Name: name}
	for _, r := range list {
		sum = sum.Plus(r)
	}
	return sum
}

// Series gives the numbers of one subject step by step, the oldest first; steps without any are left out.
func (s *Store) Series(kind Kind, name string, from, to time.Time, step time.Duration) []Rollup {
	return s.rollups(
		"at",
		"step = ? and kind = ? and name = ? and at >= ? and at < ?",
		int64(step/time.Second),
		string(kind),
		name,
		from.Unix()/int64(step/time.Second)*int64(step/time.Second),
		to.Unix(),
	)
}

// Totals gives the numbers of all subjects of a kind over a while, by name.
func (s *Store) Totals(kind Kind, from, to time.Time, step time.Duration) []Rollup {
	n := int64(step / time.Second)
	return s.rollups(
		"name",
		"step = ? and kind = ? and at >= ? and at < ?",
		n,
		string(kind),
		from.Unix()/n*n,
		to.Unix(),
	)
}

// rollups reads numbers, summed by one column.
func (s *Store) rollups(by, where string, args ...any) (out []Rollup) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.db == nil {
		return nil
	}
	var sums []string
	for _, c := range columns {
		sums = append(sums, "sum("+c+")")
	}
	rows, err := s.db.Query(
		fmt.Sprintf(
			"select min(at), kind, name, coalesce((select text from patterns where id = name and kind = 'pattern'), ''), %s from numbers where %s group by %s order by %s",
			strings.Join(sums, ", "),
			where,
			by,
			by,
		),
		args...)
	if err != nil {
		return nil
	}
	defer rows.Close()
	for rows.Next() {
		var r Rollup
		var at int64
		var v values
		if rows.Scan(append([]any{&at, &r.Kind, &r.Name, &r.Text}, v.pointers()...)...) == nil {
			r.At = time.Unix(at, 0)
			v.into(&r)
			out = append(out, r)
		}
	}
	return out
}

// PutInputs remembers the keys of results that are to be fetched at the start by a rule. They hold values.
func (s *Store) PutInputs(rule string, keys []string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.write(func(tx *sql.Tx) error {
		if _, err := tx.Exec("delete from inputs where rule = ?", rule); err != nil {
			return err
		}
		for i, k := range keys {
			if _, err := tx.Exec("insert into inputs values (?, ?, ?)", rule, i, []byte(k)); err != nil {
				return err
			}
		}
		return nil
	})
}

// Inputs gives what PutInputs remembered for a rule, or nothing where that cannot be read.
func (s *Store) Inputs(rule string) (keys []string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.db == nil {
		return nil
	}
	rows, err := s.db.Query("select key from inputs where rule = ? order by place", rule)
	if err != nil {
		return nil
	}
	defer rows.Close()
	for rows.Next() {
		var k []byte
		if rows.Scan(&k) == nil {
			keys = append(keys, string(k))
		}
	}
	return keys
}

// ForgetInputs forgets what PutInputs remembered, but for some rules.
func (s *Store) ForgetInputs(but []string) {
	list, _ := json.Marshal(append([]string{}, but...))
	s.mu.Lock()
	defer s.mu.Unlock()
	s.write(func(tx *sql.Tx) error {
		_, err := tx.Exec("delete from inputs where rule not in (select value from json_each(?))", string(list))
		return err
	})
}
