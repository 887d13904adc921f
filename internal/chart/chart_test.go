package chart

import (
	"bytes"
	"encoding/xml"
	"io"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func pillars() *Chart {
	at := float64(time.Date(2027, 3, 1, 8, 0, 0, 0, time.UTC).Unix())
	c := &Chart{Title: "Time waited", Kind: Stacked, X: Axis{Scale: Clock}, Y: Axis{Label: "seconds"}, Width: 60}
	for i, name := range []string{"saved", "waited"} {
		s := Series{Name: name, Ink: Ink(i)}
		for k := range 30 {
			s.Points = append(s.Points, Point{at + float64(60*k), float64(k % 7)})
		}
		c.Series = append(c.Series, s)
	}
	return c
}

// texts gives what is written in an SVG.
func texts(t *testing.T, svg []byte) (out []string) {
	dec := xml.NewDecoder(bytes.NewReader(svg))
	for {
		tok, err := dec.Token()
		if err == io.EOF {
			return out
		}
		require.NoError(t, err, "it is well formed")
		if d, ok := tok.(xml.CharData); ok && strings.TrimSpace(string(d)) != "" {
			out = append(out, string(d))
		}
	}
}

func TestChartsOfEveryKind(t *testing.T) {
	curve := &Chart{Title: "Hits by memory", X: Axis{Scale: Size}, Y: Axis{Scale: Share}, Marks: []Mark{{64 << 20, "now"}}, Series: []Series{{Name: "all", Points: []Point{{16 << 20, 0.4}, {64 << 20, 0.7}, {256 << 20, 0.8}}}}}
	times := &Chart{Title: "Times", X: Axis{Scale: Log}, Y: Axis{Scale: Share}, Series: []Series{{Name: "hits", Points: []Point{{0.01, 0}, {0.1, 1}}}, {Name: "from the database", Ink: Could, Points: []Point{{1, 0}, {40, 1}}}}}
	bars := &Chart{Title: "By pattern", Kind: Bars, Names: []string{"bado-kife-ruma", "nina-sola-tiku"}, Series: []Series{{Name: "a", Points: []Point{{0, 3}, {1, -1}}, Errors: []float64{0.5, 0}}}}
	empty := &Chart{Title: "Nothing"}
	var out bytes.Buffer
	require.NoError(t, Single(pillars(), curve, times, bars, empty).Write(&out, ".svg"))
	seen := strings.Join(texts(t, out.Bytes()), "|")
	for _, want := range []string{"Time waited", "saved", "waited", "08:10", "Hits by memory", "now", "64MiB", "80%", "Times", "hits", "10 ms", "100 µs", "By pattern", "bado-kife-ruma", "There is nothing to draw yet."} {
		assert.Contains(t, seen, want)
	}
	out.Reset()
	require.NoError(t, Single(pillars(), curve, times, bars, empty).Write(&out, ".pdf"))
	assert.True(t, bytes.HasPrefix(out.Bytes(), []byte("%PDF-")))
	assert.True(t, bytes.HasSuffix(bytes.TrimSpace(out.Bytes()), []byte("%%EOF")))
	assert.ErrorContains(t, Single(curve).Write(&out, ".gif"), "expected .svg or .pdf")
}

// Charts of degenerate numbers are drawn all the same.
func TestOddNumbers(t *testing.T) {
	for _, kind := range []Kind{Lines, Stacked, Bars} {
		for _, x := range []Scale{Linear, Log, Clock, Share, Size} {
			for _, points := range [][]Point{{{0, 0}}, {{1, 0}, {1, 0}}, {{0, -3}}, {{1e15, 1e15}}, {{0, 0}, {1e-12, 1e-12}}} {
				c := &Chart{Title: "odd", Kind: kind, X: Axis{Scale: x}, Width: 1, Names: []string{"a"}, Series: []Series{{Name: "s", Points: points}}}
				assert.NoError(t, Single(c).Write(io.Discard, ".svg"), "%v %v %v", kind, x, points)
			}
		}
	}
}

// What does not fit on a page is made lower, and nothing stands below its foot.
func TestAPageHoldsItsParts(t *testing.T) {
	p := &Page{Foot: "foot"}
	for range 3 {
		p.Parts = append(p.Parts, Part{Title: "A title", Text: strings.Repeat("words ", 200), Chart: pillars(), Space: 200})
	}
	var out bytes.Buffer
	require.NoError(t, p.Write(&out, ".svg"))
	m := regexp.MustCompile(`<text x="[\d.]+" y="(-?[\d.]+)"[^>]*>(words|A title)`).FindAllStringSubmatch(out.String(), -1)
	require.NotEmpty(t, m)
	for _, x := range m {
		y, err := strconv.ParseFloat(x[1], 64)
		require.NoError(t, err)
		assert.Less(t, y, -margin/2.0, "above the foot") // from the bottom up, below zero
	}
}

// A file is there whole, or what was there before is.
func TestFilesAreWhole(t *testing.T) {
	path := filepath.Join(t.TempDir(), "c.svg")
	require.NoError(t, os.WriteFile(path, []byte("before"), 0o600))
	err := Whole(path, func(w io.Writer) error { _, _ = w.Write([]byte("half")); return io.ErrUnexpectedEOF })
	require.ErrorIs(t, err, io.ErrUnexpectedEOF)
	text, err := os.ReadFile(path)
	require.NoError(t, err)
	assert.Equal(t, "before", string(text))
	entries, err := os.ReadDir(filepath.Dir(path))
	require.NoError(t, err)
	assert.Len(t, entries, 1, "nothing is left lying about")
	require.NoError(t, Single(pillars()).WriteFile(path))
	assert.ErrorContains(t, Single(pillars()).WriteFile("/nowhere/c.svg"), "/nowhere/c.svg cannot be written: no such file or directory: choose another place")
}
