package survey

import (
	"errors"
	"fmt"
	"maps"
	"strings"

	"polytome/internal/core/bench"
	"polytome/internal/nearest"
	"polytome/internal/size"
)

// suppositions are what can be supposed of a target.
var suppositions = []string{"as", "cluster", "capacity", "reserve", "via", "loader", "also-for", "covers",
	"delete-others", "rule:KEY"}

// Suppositions says what can be supposed.
func Suppositions() string { return "you can use: " + strings.Join(suppositions, ", ") }

// Supposition reads how a target might be set up otherwise, such as "as=exfat,capacity=120GiB". A rule of its
// loader is set with rule:KEY=VALUE; see [loader.Profile.With].
func Supposition(text string) (func(*bench.Target), error) {
	var all []func(*bench.Target)
	for part := range strings.SplitSeq(text, ",") {
		key, value, ok := strings.Cut(strings.TrimSpace(part), "=")
		if !ok || value == "" {
			return nil, fmt.Errorf("%q has no value; write it like as=exfat", part)
		}
		if rule, ok := strings.CutPrefix(key, "rule:"); ok {
			all = append(all, func(p *bench.Target) {
				rules := maps.Clone(p.Rules)
				if rules == nil {
					rules = map[string]string{}
				}
				rules[rule] = value
				p.Rules = rules
			})
			continue
		}
		var n int64
		var err error
		switch key {
		case "cluster", "capacity", "reserve":
			if n, err = size.Parse(value); err != nil {
				return nil, fmt.Errorf("%s: %w", key, err)
			}
		case "covers":
			if value != "yes" && value != "no" && bench.Budget(value).Check() != nil {
				return nil, errors.New("covers: write yes, no, or a limit such as 40MiB or 5%")
			}
		case "delete-others":
			if value != "yes" && value != "no" {
				return nil, fmt.Errorf("%s: write yes or no", key)
			}
		}
		switch key {
		case "as":
			all = append(all, func(p *bench.Target) { p.As = value })
		case "cluster":
			if n < 512 || n&(n-1) != 0 {
				return nil, errors.New("cluster: a cluster size is a power of two, 512 bytes or more")
			}
			all = append(all, func(p *bench.Target) { p.Cluster = bench.Size(n) })
		case "capacity":
			all = append(all, func(p *bench.Target) { p.Capacity = bench.Size(n) })
		case "reserve":
			all = append(all, func(p *bench.Target) { p.Reserve = bench.Size(n) })
		case "via":
			all = append(all, func(p *bench.Target) { p.Via = value })
		case "loader":
			all = append(all, func(p *bench.Target) { p.Loader, p.Via = value, "" })
		case "also-for":
			all = append(all, func(p *bench.Target) { p.Also = append(append([]string(nil), p.Also...), value) })
		case "covers":
			all = append(all, func(p *bench.Target) {
				p.NoCovers, p.CoversMost = value == "no", ""
				if value != "yes" && value != "no" {
					p.CoversMost = bench.Budget(value)
				}
			})
		case "delete-others":
			all = append(all, func(p *bench.Target) { p.DeleteOthers = value == "yes" })
		default:
			return nil, nearest.Unknown("setting", key, suppositions)
		}
	}
	return func(p *bench.Target) {
		for _, change := range all {
			change(p)
		}
	}, nil
}
