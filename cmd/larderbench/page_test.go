package main

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A page has its tables written anew, and keeps all else; one without a place for them is left as it is.
func TestWritePage(t *testing.T) {
	r := Results{Machine: "At commit abc", Ratios: []Ratio{ratio("simple", "hit", "stub", []float64{1, 3}, []float64{2, 2}, 0.9), ratio("simple", "hit", "direct", []float64{4}, []float64{2}, 0)}}
	r.Figures = append(r.Figures, Figure{Case: "simple", What: "hit", Value: 12345.6, Unit: "per second"}, Figure{Case: "simple", What: "allocations", Value: 0.002, Unit: "each"}.atMost(0.01))
	file := filepath.Join(t.TempDir(), "page.md")
	const before, after = "# Performance\n\n", "\n## What it comes to\n"
	require.NoError(t, os.WriteFile(file, []byte(before+pageBegins+"an old table\n"+pageEnds+after), 0o600))
	for range 2 { // the second time changes nothing
		require.NoError(t, r.writePage(file))
		text, err := os.ReadFile(file)
		require.NoError(t, err)
		assert.Equal(t, before+pageBegins+`
At commit abc.

| | ratio | median | 8 in 10 rounds | of all rounds | aim | |
|---|---|---|---|---|---|---|
| simple | hit / stub | 1.00 | 0.50 to 1.50 | 0.50 to 1.50 | at least 0.9 | met |
|  | hit / direct | 2.00 | 2.00 to 2.00 | 2.00 to 2.00 |  |  |

| | figure | | aim | |
|---|---|---|---|---|
| simple | hit, per second | 12,346 |  |  |
|  | allocations, each | 0.002 | at most 0.01 | met |

`+pageEnds+after, string(text))
	}
	for _, bad := range []string{"", before + after, before + pageEnds + pageBegins, before + pageBegins} {
		require.NoError(t, os.WriteFile(file, []byte(bad), 0o600))
		require.ErrorContains(t, r.writePage(file), file)
		text, err := os.ReadFile(file)
		require.NoError(t, err)
		assert.Equal(t, bad, string(text))
	}
}

// What go test says of benchmarks becomes a table, also where a log is written in between; an aim is held against the
// median.
func TestPartsOfAPage(t *testing.T) {
	const said = `goos: linux
BenchmarkDecideHit-2   	 5460367	       238.0 ns/op	       0 B/op	       0 allocs/op
BenchmarkDecideHit-2   	 5460367	       338.0 ns/op	       0 B/op	       0 allocs/op
BenchmarkDecideHit-2   	 5460367	       301.0 ns/op	       0 B/op	       0 allocs/op
BenchmarkScan/209_bytes-2         	 1438621	       803.4 ns/op	 260.14 MB/s
BenchmarkTransactionsTold-2   	2026/11/28 INFO a line between
    1500	    355701 ns/op	     58973 made/s
BenchmarkNotToldOf-2	10	2.5 ns/op
PASS
`
	file := filepath.Join(t.TempDir(), "page.md")
	require.NoError(t, os.WriteFile(file, []byte("before\n"+partsBegin+"old\n"+pageEnds+"after\n"), 0o600))
	require.NoError(t, writeParts(strings.NewReader(said), file))
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	_, table, _ := strings.Cut(string(text), "|---|---|---|---|\n")
	assert.Equal(t, `| reading a statement of 209 bytes into its exact text and shape | 803 ns | at most 1.00 µs | met |
| deciding, with facts known: a hit, its key made and looked up, its clocks compared | 301 ns (238 ns to 338 ns); no allocation | at most 300 ns | not met |
| transactions of one row told by the replication stream | 356 µs; 58,973 a second made by the server |  |  |
| NotToldOf | 2.50 ns |  |  |

`+pageEnds+"after\n", table)
	require.ErrorContains(t, writeParts(strings.NewReader("FAIL\n"), file), "no benchmark")
	again, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.Equal(t, text, again)
}

func TestShortNumbers(t *testing.T) {
	for v, want := range map[float64]string{0: "0", 0.0036481: "0.0036", 0.07317: "0.073", 5.105: "5.11", 42.75: "42.8", 99.96: "100.0", 999.6: "1,000", 1234567: "1,234,567"} {
		assert.Equal(t, want, short(v))
	}
}

// A paragraph is broken between its words alone, into lines that are no longer than the documents'.
func TestParagraphsAreWrapped(t *testing.T) {
	text := "At commit 0123456 with changes, on 2027-03-01: 2 cores (a processor of some name), Linux 6.18.44-harbour-v595, go1.26.8. The median."
	got := wrapped(text)
	assert.Equal(t, strings.Fields(text), strings.Fields(got))
	lines := strings.Split(got, "\n")
	assert.Len(t, lines, 2)
	for _, line := range lines {
		assert.LessOrEqual(t, len(line), 100)
	}
}
