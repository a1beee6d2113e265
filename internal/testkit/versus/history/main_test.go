package main

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/testkit/versus"
)

// measured writes a file with one benchmark whose own turns took so many seconds, beside a peer's of one each, and one
// without a peer.
func measured(t *testing.T, seconds ...float64) string {
	name := filepath.Join(t.TempDir(), "records")
	var b strings.Builder
	for _, r := range []versus.Record{
		{Name: "BenchmarkFill/small", Ours: "fill", Most: map[string]float64{"cp": 1.5},
			Seconds: map[string][]float64{"fill": seconds, "cp": {1, 1, 1}}},
		{Name: "BenchmarkPlan", Ours: "plan", Most: map[string]float64{"plan": 0.2},
			Seconds: map[string][]float64{"plan": {seconds[0] / 10}}},
		{Name: "BenchmarkSaid", Ours: "is", Most: map[string]float64{"said": 1.2},
			Least: map[string]float64{"said": 0.8}, Seconds: map[string][]float64{"is": {1}, "said": {seconds[0]}}},
	} {
		line, err := json.Marshal(r)
		require.NoError(t, err)
		b.Write(append(line, '\n'))
	}
	require.NoError(t, os.WriteFile(name, []byte(b.String()), 0o600))
	return name
}

func TestHowCostGrowsIsDrawn(t *testing.T) {
	name := filepath.Join(t.TempDir(), "records")
	line, err := json.Marshal(versus.Record{Name: "BenchmarkGrowth", Titles: []int{1000, 10_000, 100_000},
		Seconds: map[string][]float64{"fit": {1e-6, 1.2e-6, 3e-6}, "check": {4e-6, 4e-6, 4e-6}},
		Most:    map[string]float64{"fit": 2, "check": 2}})
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(name, line, 0o600))
	var out strings.Builder
	require.NoError(t, do([]string{"table", name}, &out))
	assert.Regexp(t, `Growth +4.0 µs +check +4.0 µs +1.00 +at most 2.00 +reached`, out.String())
	assert.Regexp(t, `Growth +3.0 µs +fit +1.0 µs +2.50 +at most 2.00 +missed`, out.String())

	drawn := filepath.Join(t.TempDir(), "growth.svg")
	require.NoError(t, do([]string{"plot", name, drawn}, &out))
	text, err := os.ReadFile(drawn)
	require.NoError(t, err)
	for _, says := range []string{"What a title costs", "Growth", "100,000", "fit, 3.0 µs", "check, 4.0 µs"} {
		assert.Contains(t, string(text), says)
	}
	require.ErrorContains(t, do([]string{"plot", measured(t, 1), drawn}, &out), "no benchmark has measured")
}

func TestASlowdownBetweenTwoCommitsIsFound(t *testing.T) {
	history := filepath.Join(t.TempDir(), "history.jsonl")
	var out strings.Builder
	require.NoError(t, do([]string{"keep", measured(t, 1, 1, 9), history, "aaaa1111", "2 x quick"}, &out))
	require.NoError(t, do([]string{"keep", measured(t, 1.3, 1.3, 1.3), history, "bbbb2222", "2 x quick"}, &out))
	require.NoError(t, do([]string{"keep", measured(t, 0.5, 0.5, 0.5), history, "cccc3333", "8 x other"}, &out))
	assert.Empty(t, out.String())

	require.NoError(t, do([]string{"compare", history, "aaaa", "bbbb"}, &out))
	assert.Regexp(t, `Fill/small +cp +1.000 +1.300 +\+30 % +slower`, out.String(), "the median of three turns counts")
	assert.Regexp(t, `Plan +seconds +0.100 +0.130 +\+30 % +slower`, out.String())
	out.Reset()
	require.NoError(t, do([]string{"compare", history, "bbbb", "cccc"}, &out))
	assert.Regexp(t, `Fill/small +cp +1.300 +0.500 +-62 % +quicker`, out.String())
	assert.NotContains(t, out.String(), "Plan", "times of two machines are not compared")
	err := do([]string{"compare", history, "bbbb", "dddd"}, &out)
	require.ErrorContains(t, err, "nothing is kept of the commit dddd")

	out.Reset()
	require.NoError(t, do([]string{"table", measured(t, 2, 2, 1)}, &out))
	assert.Regexp(t, `Fill/small +2000 ms +cp +1000 ms +2.00 +1.00 to 2.00 +at most 1.50 +missed`, out.String())
	assert.Regexp(t, `Plan +200 ms +200 ms to 200 ms +at most 200 ms +reached`, out.String())
	assert.Regexp(t, `Said +1000 ms +said +2000 ms +0.50 +0.50 to 0.50 +0.80 to 1.20 +missed`, out.String())
	require.ErrorContains(t, do(nil, &out), "usage")
}

// TestACommitMayBeMeasuredInParts: the newest record of each benchmark counts, on one machine.
func TestACommitMayBeMeasuredInParts(t *testing.T) {
	record := func(name string, seconds float64) versus.Record {
		return versus.Record{Name: name, Ours: "plan", Seconds: map[string][]float64{"plan": {seconds}}}
	}
	runs := []Run{
		{Commit: "aaaa1111", Machine: "quick", Records: []versus.Record{record("Plan", 9), record("Scan", 2)}},
		{Commit: "aaaa1111", Machine: "other", Records: []versus.Record{record("Frame", 3)}},
		{Commit: "bbbb2222", Machine: "quick", Records: []versus.Record{record("Plan", 7)}},
		{Commit: "aaaa1111", Machine: "quick", Records: []versus.Record{record("Plan", 1)}},
	}
	got, err := find(runs, "aaaa")
	require.NoError(t, err)
	assert.ElementsMatch(t, []versus.Record{record("Plan", 1), record("Scan", 2)}, got.Records)
	assert.Len(t, runs[3].Records, 1, "what was read stays as it is")
}
