package main

import (
	"encoding/csv"
	"encoding/json"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jollylarder/internal/control"
	dialect "jollylarder/internal/core/dialect/postgres"
	"jollylarder/internal/report"
	"jollylarder/internal/trial"
)

// Memory, recordings, trials, reports and metrics by scripts.
func TestProofOnTheCommandLine(t *testing.T) {
	dir := t.TempDir()
	s := &shell{t, filepath.Join(dir, "larder.sock")}
	listen, metrics, rules := free(t), free(t), filepath.Join(dir, "rules.toml")
	database := origin(t, "Hallan")
	require.NoError(t, os.WriteFile(rules, []byte("[[rule]]\npattern = \""+string(dialect.Dialect.Syntax.Of(read))+"\"\naction = \"cache\"\nttl = \"1m\"\nmemory_share = \"25%\"\n"), 0o600))
	config := filepath.Join(dir, "larder.toml")
	require.NoError(t, os.WriteFile(config, []byte("show_values = true\nmemory = \"8MiB\"\n"), 0o600))
	larder := run(t, "serve", "--config", config, "--listen", listen, "--origin", database, "--rules", rules, "--control", s.socket, "--metrics", metrics)
	larder.logs("the larder is running", 1)
	assert.Contains(t, s.does(exitFailed, "report", "--out", filepath.Join(dir, "r.pdf")), "there are no counts from", "an empty stretch")
	c := connect(t, "postgres://ines@"+listen+"/skerrow?sslmode=disable")

	// A recording of what comes meanwhile, and nothing over what is there.
	rec := filepath.Join(dir, "r.jsonl")
	ended := make(chan string)
	go func() { ended <- s.does(exitDone, "record", "--out", rec, "--values", "--for", "1s") }()
	for began := time.Now(); time.Since(began) < 1500*time.Millisecond; time.Sleep(10 * time.Millisecond) {
		name(t, c)
	}
	assert.Regexp(t, `\d\d+ statements recorded`, <-ended)
	assert.Contains(t, s.does(exitFailed, "record", "--out", rec), "file exists")
	nothing := filepath.Join(dir, "nothing.jsonl")
	for range 2 { // the first try does not stand in the way of the next
		assert.Contains(t, s.does(exitConflict, "record", "--out", nothing, "--for", "1s", "--filter", "app=boking-web"), `no statement that matches the filter "app=boking-web" ended`)
		assert.NoFileExists(t, nothing)
	}
	text, err := os.ReadFile(rec)
	require.NoError(t, err)
	_, list, err := trial.ReadRecording("r", strings.NewReader(string(text)))
	require.NoError(t, err)
	require.NotEmpty(t, list)
	assert.Equal(t, dialect.Dialect.Syntax.Of(read), dialect.Dialect.Syntax.Of(list[len(list)-1].SQL))

	// Its statements once more, all three ways.
	direct, through := "postgres://ines@"+database+"/skerrow?sslmode=disable", "postgres://ines@"+listen+"/skerrow?sslmode=disable"
	var r trial.Result
	require.NoError(t, json.Unmarshal([]byte(s.does(exitDone, "trial", "--recording", rec, "--direct", direct, "--through", through, "--for", "1s", "--rounds", "3", "--clients", "2", "--json")), &r))
	assert.Equal(t, 3, r.Rounds)
	assert.Zero(t, r.Answers.Different)
	assert.NotZero(t, r.Answers.Equal)
	require.NotNil(t, r.Counted)
	assert.Contains(t, s.does(exitDone, "trial", "--recording", rec, "--timed", "--through", through, "--for", "2s", "--rounds", "1"), "through, on – through, off")
	lines := strings.SplitAfter(string(text), "\n")
	cut := filepath.Join(dir, "cut.jsonl")
	require.NoError(t, os.WriteFile(cut, []byte(strings.Join(lines[:len(lines)-3], "")), 0o600))
	assert.Contains(t, s.does(exitFailed, "trial", "--recording", cut, "--through", through), "was cut short")
	s.does(exitDone, "trial", "--recording", cut, "--cut", "--through", through, "--for", "1s", "--rounds", "1")
	writes := filepath.Join(dir, "w.sql")
	require.NoError(t, os.WriteFile(writes, []byte("select 1;\ndelete from ports;\n"), 0o600))
	assert.Contains(t, s.does(exitFailed, "trial", "--statements", writes, "--through", through), `"delete from ports" writes ports; nothing was run`)
	assert.Contains(t, s.does(exitUsage, "trial", "--statements", writes), "--through is needed")
	assert.Contains(t, s.does(exitUsage, "trial"), "at least one of the flags")

	// Memory: what fills it, what another limit would give, and one below what is in use.
	assert.Contains(t, s.does(exitDone, "memory"), "results in ")
	assert.Contains(t, s.does(exitDone, "memory", "4MiB", "--curve"), "4.0 MiB")
	assert.Contains(t, s.does(exitFailed, "memory", "4KiB"), "expected at least 1MiB")
	assert.Contains(t, s.does(exitUsage, "memory", "lots"), "expected a number with a unit")
	assert.Contains(t, s.does(exitDone, "memory", "4MiB"), "The limit is 4MiB until the larder restarts")
	var st control.Stock
	require.NoError(t, json.Unmarshal([]byte(s.does(exitDone, "memory", "--json")), &st))
	assert.Equal(t, int64(4<<20), st.Limit)
	assert.Equal(t, int64(8<<20), st.Configured)
	assert.Equal(t, int64(1<<20), st.Shares[0].Limit, "a quarter")

	// Reports in every format.
	for _, format := range report.Formats {
		out := filepath.Join(dir, "report"+format)
		assert.Contains(t, s.does(exitDone, "report", "--since", "start", "--out", out), out)
		text, err := os.ReadFile(out)
		require.NoError(t, err)
		switch format {
		case ".json":
			var x report.Report
			require.NoError(t, json.Unmarshal(text, &x))
			assert.Positive(t, x.Proof.Sums.Hits)
		case ".csv":
			rows, err := csv.NewReader(strings.NewReader(string(text))).ReadAll()
			require.NoError(t, err)
			assert.Greater(t, len(rows), 2)
		case ".pdf":
			assert.True(t, strings.HasPrefix(string(text), "%PDF-"))
		default:
			assert.Contains(t, string(text), "Time saved")
			assert.Contains(t, string(text), string(dialect.Dialect.Syntax.Of(read)))
		}
	}
	assert.Contains(t, s.does(exitUsage, "report", "--out", "x.gif"), "the extension chooses the format")
	assert.Contains(t, s.does(exitFailed, "report", "--since", "start", "--out", "/nowhere/x.pdf"), "cannot be written")
	assert.Contains(t, s.does(exitFailed, "report", "--since", "soon", "--out", filepath.Join(dir, "x.pdf")), `since "soon"`)

	resp, err := http.Get("http://" + metrics + "/metrics")
	require.NoError(t, err)
	body, err := io.ReadAll(resp.Body)
	require.NoError(t, err)
	resp.Body.Close()
	assert.Regexp(t, `jollylarder_statements_total\{application="trial through on",outcome="hit"\} [1-9]`, string(body))
	assert.Contains(t, string(body), "jollylarder_cache_limit_bytes 4.194304e+06")
}
