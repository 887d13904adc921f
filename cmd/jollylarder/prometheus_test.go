//go:build packages

package main

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jollylarder/internal/metrics"
)

// A real Prometheus takes the alerts, scrapes a larder with traffic, and has an answer to every query of the dashboard.
func TestPrometheusScrapesALarder(t *testing.T) {
	dir := t.TempDir()
	file := func(name, text string) string {
		path := filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(path, []byte(text), 0o644))
		return path
	}
	rules := file("alerts.yml", string(metrics.Alerts()))
	out, err := exec.Command("promtool", "check", "rules", rules).CombinedOutput()
	require.NoError(t, err, "%s", out)

	listen, exposed := free(t), free(t)
	p := run(t, "serve", "--listen", listen, "--origin", origin(t, "Cairn Point"), "--metrics", exposed, "--rules", file("rules.toml",
		"[[rule]]\nname = \"all\"\ntext = \"*\"\ntables = [\"ports\"]\naction = \"cache\"\nttl = \"1h\"\ncontrol_sample = 0.2\n\n[[rule]]\nname = \"rest\"\ntext = \"*\"\naction = \"advised\"\nmax_ttl = \"1m\"\n"))
	p.logs("the larder is running", 1)
	cfg, err := pgx.ParseConfig("postgres://ines@" + listen + "/skerrow?sslmode=disable&application_name=quay-boards")
	require.NoError(t, err)
	cfg.DefaultQueryExecMode = pgx.QueryExecModeSimpleProtocol
	c, err := pgx.ConnectConfig(ctx, cfg)
	require.NoError(t, err)
	defer c.Close(ctx)

	at := free(t)
	prometheus := exec.Command("prometheus", "--config.file="+file("prometheus.yml", fmt.Sprintf(
		"global: {scrape_interval: 1s, evaluation_interval: 1s}\nrule_files: [%s]\nscrape_configs: [{job_name: larder, static_configs: [{targets: [%q]}]}]\n", rules, exposed)),
		"--storage.tsdb.path="+filepath.Join(dir, "data"), "--web.listen-address="+at, "--enable-feature=native-histograms")
	log, err := os.Create(filepath.Join(dir, "log"))
	require.NoError(t, err)
	defer log.Close()
	prometheus.Stdout, prometheus.Stderr = log, log
	require.NoError(t, prometheus.Start())
	t.Cleanup(func() { _ = prometheus.Process.Kill(); _ = prometheus.Wait() })
	query := func(expression string) (series int, err error) {
		r, err := http.Get("http://" + at + "/api/v1/query?" + url.Values{"query": {expression}}.Encode())
		if err != nil {
			return 0, err
		}
		defer r.Body.Close()
		var answer struct {
			Status, Error string
			Data          struct{ Result []json.RawMessage }
		}
		text, _ := io.ReadAll(r.Body)
		if err := json.Unmarshal(text, &answer); err != nil || answer.Status != "success" {
			return 0, fmt.Errorf("%s: %s", expression, text)
		}
		return len(answer.Data.Result), nil
	}

	var board struct {
		Panels []struct {
			Title   string
			Targets []struct{ Expr string }
		}
	}
	require.NoError(t, json.Unmarshal(metrics.Dashboard(), &board))
	feed := regexp.MustCompile(`feed_`) // there is none here
	for _, panel := range board.Panels {
		for _, target := range panel.Targets {
			require.Eventually(t, func() bool {
				for i := range 20 {
					_, err := c.Exec(ctx, "select name from ports where id = 1")
					require.NoError(t, err)
					if i == 0 {
						_, err = c.Exec(ctx, "update ports set name = 'Cairn' where id = 1")
						require.NoError(t, err)
					}
				}
				series, err := query(target.Expr)
				return err == nil && (series > 0 || feed.MatchString(target.Expr))
			}, 2*time.Minute, 500*time.Millisecond, "%s: %s", panel.Title, target.Expr)
		}
	}
	r, err := http.Get("http://" + at + "/api/v1/rules?type=alert")
	require.NoError(t, err)
	defer r.Body.Close()
	text, err := io.ReadAll(r.Body)
	require.NoError(t, err)
	assert.Contains(t, string(text), `"LarderStaleAnswer"`)
	assert.NotContains(t, string(text), `"health":"err"`)
	firing, err := query(`ALERTS{alertstate="firing"}`)
	require.NoError(t, err)
	assert.Zero(t, firing, "a larder that is well alarms nobody")
}
