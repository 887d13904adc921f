package main

import (
	"fmt"
	"os"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// measured gives the medians and figures in docs/performance.md, by case and by what was measured.
func measured(t *testing.T) func(name, what string) string {
	text, err := os.ReadFile("../../docs/performance.md")
	require.NoError(t, err)
	found := map[string]string{}
	name := ""
	for line := range strings.Lines(string(text)) {
		cells := strings.Split(strings.Trim(strings.TrimSpace(line), "|"), "|")
		if len(cells) < 4 {
			continue
		}
		for i := range cells {
			cells[i] = strings.TrimSpace(cells[i])
		}
		if cells[0] != "" {
			name = cells[0]
		}
		if _, ok := found[name+": "+cells[1]]; !ok {
			found[name+": "+cells[1]] = cells[2]
		}
	}
	return func(name, what string) string {
		v, ok := found[name+": "+what]
		require.True(t, ok, "docs/performance.md has no %q of %q", what, name)
		return v
	}
}

// The figures in the README are those that the last run of make bench wrote.
func TestTheReadmesFiguresAreMeasured(t *testing.T) {
	text, err := os.ReadFile("../../README.md")
	require.NoError(t, err)
	readme := string(text)
	of := measured(t)
	short := func(v, format string) string {
		x, err := strconv.ParseFloat(strings.ReplaceAll(v, ",", ""), 64)
		require.NoError(t, err)
		return fmt.Sprintf(format, x)
	}
	for _, line := range []string{
		fmt.Sprintf("| a hit, compared with the database, 1 and 16 connections | %s and %s times the statements per second |", short(of("simple, 1 connection", "hit / direct"), "%.1f"), short(of("simple, 16 connections", "hit / direct"), "%.1f")),
		fmt.Sprintf("| a hit on a result of 1,000 rows | %s times |", short(of("1,000 rows", "hit / direct"), "%.0f")),
		fmt.Sprintf("| a bypass, compared with a bare relay of bytes | %s with 1 connection, %s with 16 |", of("simple, 1 connection", "bypass / relay"), of("simple, 16 connections", "bypass / relay")),
		fmt.Sprintf("| a transaction of three hits, 1 ms from the database | %s ms instead of %s ms |", of("a block of three hits, 1ms away", "through, ms"), short(of("a block of three hits, 1ms away", "direct, ms"), "%.0f")),
	} {
		assert.Contains(t, readme, line)
	}
}
