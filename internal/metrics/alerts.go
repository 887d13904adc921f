package metrics

import (
	"bytes"
	"fmt"
	"strconv"
)

// alert is one of the example alerts.
type alert struct {
	name     string
	when     query
	lasts    string // for how long, before it is told
	severity string
	says     string
}

var alerts = []alert{
	{"LarderDown", ask(`absent(%s)`, clients), "2m", "page",
		"No larder is scraped: it does not run, or its metrics are not reached."},
	{"LarderStaleAnswer", ask(`increase(%s{result="stale"}[10m]) > 0`, samples), "", "page",
		`A control sample found a stale answer; its rule is paused unless it has on_stale = "continue". The station Guard shows which.`},
	{"LarderCachingOff", ask(`%s == 1`, off), "1h", "ticket", "All caching has been off for an hour."},
	{"LarderRulePaused", ask(`%s{state="paused"} > 0`, inForce), "1h", "ticket", "A rule has been paused for an hour."},
	{"LarderFeedBehind", ask(`%s == 0 or %s > 10`, following, lag), "5m", "page",
		"Direct writes are not seen, or late: cached results may be as old as their TTLs."},
	{"LarderFeedLosesChanges", ask(`increase(%s[1h]) > 3`, gaps), "", "ticket",
		"The change feed missed changes several times in an hour; each time all cached results were dropped."},
	{"LarderFeedFillsTheDisk", ask(`%s > 512 * 1024 * 1024`, slot), "10m", "ticket",
		"The database retains much of its log for the change feed."},
	{"LarderMemoryWasted", ask(`rate(%s[1h]) > 0.8 * rate(%s[1h]) and %s > 0.9 * %s`, unused, stored, bytesUsed, limit), "2h", "ticket",
		"The memory is full, and four in five results are never used. The station Stock shows which patterns they belong to."},
	{"LarderSavesNothing", ask(`delta(%s[30m]) < 0 and on(instance) %s{state="in_force"} > 0`, saved, inForce), "30m", "ticket",
		"For half an hour, caching cost an application more time than it saved."},
}

// Alerts gives the example alerts as a file of rules for Prometheus.
func Alerts() []byte {
	var out bytes.Buffer
	p := func(format string, args ...any) { fmt.Fprintf(&out, format+"\n", args...) }
	p("# Example alerts on a larder, for Prometheus. Adjust the thresholds.")
	p("groups:")
	p("  - name: jolly-larder")
	p("    rules:")
	for _, a := range alerts {
		p("      - alert: %s", a.name)
		p("        expr: %s", strconv.Quote(a.when.String()))
		if a.lasts != "" {
			p("        for: %s", a.lasts)
		}
		p("        labels: {severity: %s}", a.severity)
		p("        annotations:")
		p("          summary: %s", strconv.Quote(a.says))
	}
	return out.Bytes()
}
