package main

import (
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"evenledger/internal/brief"
	"evenledger/internal/check"
	"evenledger/internal/mapping"
	"evenledger/internal/profile"
	"evenledger/internal/sheet"
)

const rows = 100_000

// BenchmarkBareRead is the floor of BenchmarkCheck.
func BenchmarkBareRead(b *testing.B) {
	path := filepath.Join(b.TempDir(), "sheet.csv")
	require.NoError(b, generate(path, rows))
	for b.Loop() {
		require.NoError(b, bareRead(path))
	}
	b.ReportMetric(float64(rows)*float64(b.N)/b.Elapsed().Seconds(), "rows/s")
}

func BenchmarkCheck(b *testing.B) {
	path := filepath.Join(b.TempDir(), "sheet.csv")
	require.NoError(b, generate(path, rows))
	loaded, err := brief.Parse("bench.yaml", []byte(checkBrief), brief.Options{Today: "2026-11-23"})
	require.NoError(b, err)
	for b.Loop() {
		s, err := sheet.Open(path, nil, sheet.Options{})
		require.NoError(b, err)
		n := 0
		for _, err := range check.New(mapping.New(loaded, s.Info()), nil).Rows(b.Context(), s.Rows()) {
			require.NoError(b, err)
			n++
		}
		require.Equal(b, rows, n)
		require.NoError(b, s.Close())
	}
	b.ReportMetric(float64(rows)*float64(b.N)/b.Elapsed().Seconds(), "rows/s")
}

func BenchmarkPeek(b *testing.B) {
	path := filepath.Join(b.TempDir(), "sheet.csv")
	require.NoError(b, generate(path, rows))
	for b.Loop() {
		s, err := sheet.Open(path, nil, sheet.Options{})
		require.NoError(b, err)
		found, err := profile.Of(s.Info(), s.Rows(), nil)
		require.NoError(b, err)
		require.Equal(b, rows, found.Rows)
		require.NoError(b, s.Close())
	}
	b.ReportMetric(float64(rows)*float64(b.N)/b.Elapsed().Seconds(), "rows/s")
}
