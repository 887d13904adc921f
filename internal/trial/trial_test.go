package trial

import (
	"bytes"
	"encoding/json"
	"strings"
	"testing"
	"time"

	"jollylarder/internal/core/ledger"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

var began = time.Date(2027, 3, 1, 8, 0, 0, 0, time.UTC)

func recorded(t *rapid.T) Line {
	x := Line{SQL: "select 1 /* " + rapid.StringN(0, 20, 80).Draw(t, "sql") + " */", Session: rapid.SampledFrom([]string{"", "10.0.0.1:5"}).Draw(t, "session")}
	for range rapid.IntRange(0, 3).Draw(t, "parameters") {
		p := Parameter{}
		switch rapid.IntRange(0, 2).Draw(t, "kind") {
		case 1:
			p.Value = append([]byte{}, rapid.String().Draw(t, "text")...)
		case 2:
			p = Parameter{append([]byte{}, rapid.SliceOf(rapid.Byte()).Draw(t, "bytes")...), true}
		}
		x.Parameters, x.Types = append(x.Parameters, p), append(x.Types, rapid.SampledFrom([]string{"", "int4", "text"}).Draw(t, "type"))
	}
	return x
}

// What was recorded is read as it was; cut anywhere, what is whole of it is read, and it is said that it was cut.
func TestRecordings(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		lines := rapid.SliceOfN(rapid.Custom(recorded), 1, 6).Draw(t, "lines")
		var out bytes.Buffer
		w, err := NewWriter(&out, began, true)
		require.NoError(t, err)
		for i, x := range lines {
			require.NoError(t, w.Add(began.Add(time.Duration(i)*time.Second), x))
		}
		require.NoError(t, w.End(0))
		_, list, err := ReadRecording("r", bytes.NewReader(out.Bytes()))
		require.NoError(t, err)
		require.Len(t, list, len(lines))
		for i, s := range list {
			assert.Equal(t, lines[i].SQL, s.SQL)
			assert.Equal(t, lines[i].Parameters, s.Parameters)
			assert.Equal(t, lines[i].Types, s.Types)
			assert.Equal(t, float64(1000*i), s.At)
		}
		head := bytes.IndexByte(out.Bytes(), '\n') + 1
		cut := rapid.IntRange(head, out.Len()-2).Draw(t, "cut")
		_, part, err := ReadRecording("r", bytes.NewReader(out.Bytes()[:cut]))
		var short *CutError
		require.ErrorAs(t, err, &short)
		require.Equal(t, short.Statements, len(part))
		for i := range part {
			assert.Equal(t, list[i], part[i])
		}
	})
}

func TestRecordingsThatAreWrong(t *testing.T) {
	head := `{"format": "jolly larder recording", "version": 1, "values": true}` + "\n"
	for text, says := range map[string]string{
		"":            "is empty",
		"select 1;\n": "it is not a recording",
		`{"format": "jolly larder recording", "version": 2, "values": true}`:   "it is of version 2, and this program reads up to 1: use a newer one",
		`{"format": "jolly larder recording", "version": 1}`:                   "has no values",
		head + "{\n" + `{"end": 0}`:                                            "line 2",
		head + `{"sql": "select 1"}` + "\n" + `{"end": 2}`:                     "says that 2 statements came before, and 1 did",
		head + `{"at_ms": 3}` + "\n" + `{"end": 0}`:                            "line 2: there is no sql",
		head + `{"end": 0}` + "\n" + `{"sql": "select 1"}`:                     "more behind its end",
		head + `{"sql": "select $1", "parameters": [3]}` + "\n" + `{"end": 1}`: "expected a parameter as null",
		head + `{"sql": "select $1", "types": [23]}` + "\n" + `{"end": 1}`:     "r.jsonl, line 2: types cannot be a JSON number",
		head + `"select 1"` + "\n" + `{"end": 1}`:                              "r.jsonl, line 2: a line of a recording cannot be a JSON string",
	} {
		_, _, err := ReadRecording("r.jsonl", strings.NewReader(text))
		assert.ErrorContains(t, err, says, text)
	}
}

func FuzzReadRecording(f *testing.F) {
	f.Add([]byte(`{"format": "jolly larder recording", "version": 1, "values": true}` + "\n" + `{"sql": "select $1", "parameters": [null, "x", {"binary": "00ff"}]}` + "\n" + `{"end": 1}`))
	f.Fuzz(func(t *testing.T, text []byte) {
		_, list, err := ReadRecording("r", bytes.NewReader(text))
		if err != nil {
			return
		}
		for _, s := range list { // what could be read can be written
			_, err := json.Marshal(Line{SQL: s.SQL, Parameters: s.Parameters})
			assert.NoError(t, err)
		}
	})
}

// Noise that lasts longer than a round is in all ways, and cancels out.
func TestDifferences(t *testing.T) {
	rounds, whole := map[string][]Figures{}, map[string]Figures{}
	for i := range 8 {
		noise := float64(i * 10)
		for way, mean := range map[string]float64{Direct: 5, Off: 5.2, On: 1} {
			rounds[way] = append(rounds[way], Figures{Way: way, Calls: 100, Mean: mean + noise + 0.01*float64(i%3), PerSecond: 100})
		}
	}
	whole[On] = Figures{Way: On, Calls: 800}
	r := Compare([]string{Direct, Off, On}, rounds, whole)
	assert.Empty(t, r.Inconclusive)
	require.Len(t, r.Against, 3)
	assert.InDelta(t, -4, r.Against[0].Mean.Value, 0.01)
	assert.Less(t, *r.Against[0].Mean.Error, 0.01)
	assert.InDelta(t, 0.2, r.Against[2].Mean.Value, 0.01)
	assert.InDelta(t, 8*100*4.2, r.Saved.Value, 0.1)
	assert.Nil(t, Mean([]float64{1, 2}).Error, "two rounds tell no interval")
}

// Where nothing was compared, or nothing answered from memory, it is said that nothing can be concluded, and no saving is
// given.
func TestNoConclusion(t *testing.T) {
	compare := func(rounds, calls int) Result {
		list := map[string][]Figures{}
		for range rounds {
			for _, way := range []string{Off, On} {
				list[way] = append(list[way], Figures{Way: way, Calls: calls, Mean: 1})
			}
		}
		return Compare([]string{Off, On}, list, map[string]Figures{On: {Way: On, Calls: calls * rounds}})
	}
	nothing := compare(3, 0)
	assert.Contains(t, nothing.Inconclusive, "no statement was sent")
	assert.Nil(t, nothing.Saved)
	few := compare(2, 100)
	assert.Contains(t, few.Inconclusive, "fewer than 3 rounds")
	assert.NotNil(t, few.Saved)
	r := compare(3, 100)
	assert.Empty(t, r.Inconclusive)
	r.Counts(ledger.Sums{Count: [4]uint64{1, 20, 279, 0}})
	assert.Empty(t, r.Inconclusive)
	assert.NotNil(t, r.Saved)
	r.Counts(ledger.Sums{Count: [4]uint64{0, 20, 280, 0}})
	assert.Contains(t, r.Inconclusive, "none of the 300 statements was a hit")
	assert.Nil(t, r.Saved)
}
