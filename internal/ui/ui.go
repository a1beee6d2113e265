package ui

import (
	"context"

	"polytome/internal/core/bench"
	"polytome/internal/core/loader"
)

type Options struct {
	ASCII bool
	Rate  int64
}

func Run(ctx context.Context, b *bench.Bench, set *loader.Set, o Options) error { return nil }
