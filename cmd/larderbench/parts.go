package main

import (
	"bufio"
	"bytes"
	"fmt"
	"io"
	"regexp"
	"slices"
	"strconv"
	"strings"
)

// The tables of the parts by themselves, which make bench-core measures, are written between these lines.
const partsBegin = "<!-- make bench-core writes what follows -->\n"

// part is one benchmark of a part of the larder, with all that was measured of it.
type part struct {
	name  string
	units []string // in the order of the output
	found map[string][]float64
}

// told says of benchmarks what they measure, and which value of nanoseconds they are to stay below in the median, or 0.
var told = []struct {
	name, what string
	most       float64
}{
	{"Scan/209_bytes", "reading a statement of 209 bytes into its exact text and shape", 1000},
	{"Scan/2090_bytes", "one of 2,090 bytes", 10_000},
	{"Scan/20900_bytes", "one of 20,900 bytes", 100_000},
	{"DecideHit", "deciding, with facts known: a hit, its key made and looked up, its clocks compared", 300},
	{"ReadAndDecidePass/the_same_text", "a text that came before, found and decided on", 0},
	{"ReadAndDecidePass/another_text_each_time", "another text of a known pattern, read and decided on", 0},
	{"KnownWhileLearning/quiet", "deciding on a known pattern", 0},
	{"KnownWhileLearning/10,000_new_patterns_a_second", "the same while 10,000 new patterns a second are learned by another connection", 0},
	{"Record16Connections", "counting one statement, from 16 connections at once, its input followed", 200},
	{"ValidFourReadings", "whether a result is valid that depends on four clocks", 50},
	{"ValidFourPinnedReadings", "whether one is that depends on clocks of rows in three tables", 50},
	{"AChangeOfOneRow/1_cached", "moving the clocks of a write of one row, with 1 result cached", 1000},
	{"AChangeOfOneRow/1000000_cached", "the same with 1,000,000 cached", 1000},
	{"Write/kept=1", "the same in the engine, counted and noted for Guard, with 1 result cached", 0},
	{"Write/kept=100000", "the same with 100,000 cached", 0},
	{"DecideWithRules/0", "deciding without any rule", 0},
	{"DecideWithRules/10000", "deciding with 10,000 rules, a third each by pattern, by text and by caller", 0},
	{"Apply", "putting 10,000 rules in force, 2,000 patterns known, and the slowest statement meanwhile", 0},
	{"FiftyThousandPatterns/#00", "ranking and describing 48,900 patterns for the terminal", 0},
	{"FiftyThousandPatterns/filter=c777", "the same with a filter on texts", 0},
	{"FiftyThousandPatterns/filter=app%3Dquay-boards+took%3E5ms", "the same with a filter on callers and times", 0},
	{"FiftyThousandPatterns/order=slowest", "the same, the slowest first", 0},
	{"ForecastOfAnHour", "a forecast over an hour of traffic like the demo's", 2e9},
	{"MemoryOfPatterns/seen_once", "what 49,000 patterns take that were seen once, in the last minute", 0},
	{"MemoryOfPatterns/in_use", "what they take that are asked all the time", 0},
	{"TransactionsTold", "transactions of one row told by the replication stream", 0},
	{"TransactionsOfMariaDBTold", "the same by MariaDB's binary log", 0},
	{"Hit/1_text", "in front of MariaDB, a hit of one client beside a canned reply and the server's own answer, as text", 0},
	{"Hit/1_prepared", "the same, prepared", 0},
	{"Hit/16_text", "of 16 clients, as text", 0},
	{"Hit/16_prepared", "the same, prepared", 0},
	{"Relay/1_text", "in front of MariaDB, a read of one row that bypasses, of one client, beside a bare relay", 0},
	{"Relay/1_rows", "the same, 300 rows", 0},
	{"Relay/16_text", "of 16 clients, one row", 0},
	{"Relay/16_rows", "the same, 300 rows", 0},
	{"DropsForEachChange/simple_protocol", "pgbench's transaction beside reads of the rows that it writes, everything cached", 0},
	{"DropsForEachChange/cache_statement", "the same, prepared", 0},
}

// What go test says of a benchmark, in the format that it documents: a name with the number of processors; and the number
// of runs with values and their units.
var (
	benchmarkName   = regexp.MustCompile(`^Benchmark(\S+?)-\d+\s`)
	benchmarkValues = regexp.MustCompile(`\s\d+\s+(\S+ ns/op.*)$`)
)

// readParts reads what go test says of benchmarks. Where something else is written in between, a name and its values stand
// on lines of their own.
func readParts(in io.Reader) (list []*part, err error) {
	name := ""
	scan := bufio.NewScanner(in)
	for scan.Scan() {
		line := scan.Text()
		if m := benchmarkName.FindStringSubmatch(line); m != nil {
			name = m[1]
		}
		m := benchmarkValues.FindStringSubmatch(line)
		if m == nil || name == "" {
			continue
		}
		at := slices.IndexFunc(list, func(p *part) bool { return p.name == name })
		if at < 0 {
			at, list = len(list), append(list, &part{name: name, found: map[string][]float64{}})
		}
		p := list[at]
		fields := strings.Fields(m[1])
		for i := 0; i+1 < len(fields); i += 2 {
			v, err := strconv.ParseFloat(fields[i], 64)
			if err != nil {
				return nil, fmt.Errorf("%q: %w", line, err)
			}
			unit := fields[i+1]
			if !slices.Contains(p.units, unit) {
				p.units = append(p.units, unit)
			}
			p.found[unit] = append(p.found[unit], v)
		}
	}
	return list, scan.Err()
}

// markdownOfParts writes the table of parts, in the order of told; what is not told of comes last under its name.
func markdownOfParts(w *bytes.Buffer, list []*part, machine string) {
	fmt.Fprintf(w, "%s\n\n| | | aim | |\n|---|---|---|---|\n", wrapped(machine+". The median of all runs, and from the least to the most."))
	of := func(p *part) int {
		for i, t := range told {
			if t.name == p.name {
				return i
			}
		}
		return len(told)
	}
	list = slices.Clone(list)
	slices.SortStableFunc(list, func(a, b *part) int { return of(a) - of(b) })
	for _, p := range list {
		what, aim, action := p.name, "", ""
		if i := of(p); i < len(told) {
			what = told[i].what
			if most := told[i].most; most > 0 {
				aim, action = "at most "+nanoseconds(most), "met"
				if median(p.found["ns/op"]) > most {
					action = "not met"
				}
			}
		}
		fmt.Fprintf(w, "| %s | %s | %s | %s |\n", what, strings.Join(p.values(), "; "), aim, action)
	}
}

// unitWords says in words what values are of that go test reports by short names.
var unitWords = map[string]string{
	"allocs/op": "allocations", "slowest-µs": "µs for the slowest", "µs-slowest-median": "µs for the slowest, in the median", "µs-slowest-of-all": "µs for the slowest of all",
	"B/pattern": "bytes each", "made/s": "a second made by the server", "told/s": "a second told", "ms-behind": "ms behind after the last", "changed/write": "results changed by each",
	"dropped/changed": "dropped for each that changed", "dropped/write": "dropped by each",
	"×canned": "× the canned reply", "×server": "× the server", "×relay": "× the relay",
}

// values gives what was measured in words: medians, with the range where runs differ.
func (p *part) values() (out []string) {
	for _, unit := range p.units {
		v := p.found[unit]
		compares := slices.ContainsFunc(p.units, func(u string) bool { return u == "B/pattern" || strings.HasPrefix(u, "×") })
		if unit == "MB/s" || unit == "B/op" || (unit == "ns/op" || unit == "allocs/op") && compares { // which say the same again, or nothing
			continue
		}
		show, after := short, " "+unitWords[unit]
		switch {
		case unit == "ns/op":
			show, after = nanoseconds, ""
		case unitWords[unit] == "":
			after = " " + unit
		case unit == "allocs/op" && slices.Max(v) == 0:
			out = append(out, "no allocation")
			continue
		}
		text := show(median(v))
		if low, high := show(slices.Min(v)), show(slices.Max(v)); low != high {
			text += fmt.Sprintf(" (%s to %s)", low, high)
		}
		out = append(out, text+after)
	}
	return out
}

// nanoseconds writes a time in the unit that suits it.
func nanoseconds(ns float64) string {
	for _, u := range []struct {
		size float64
		name string
	}{{1e9, "s"}, {1e6, "ms"}, {1e3, "µs"}} {
		if ns >= u.size {
			return short(ns/u.size) + " " + u.name
		}
	}
	return short(ns) + " ns"
}

// writeParts writes what go test says of benchmarks into a page.
func writeParts(in io.Reader, page string) error {
	list, err := readParts(in)
	if err != nil {
		return err
	}
	if len(list) == 0 {
		return fmt.Errorf("no benchmark's result was read, so that %s is left as it is", page)
	}
	return rewrite(page, partsBegin, func(w *bytes.Buffer) { markdownOfParts(w, list, machine()) })
}
