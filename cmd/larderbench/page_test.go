package main

import (
	"os"
	"path/filepath"
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

func TestShortNumbers(t *testing.T) {
	for v, want := range map[float64]string{0: "0", 0.0036481: "0.0036", 0.07317: "0.073", 5.105: "5.11", 42.75: "42.8", 99.96: "100.0", 999.6: "1,000", 1234567: "1,234,567"} {
		assert.Equal(t, want, short(v))
	}
}
