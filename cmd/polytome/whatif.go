package main

import (
	"errors"
	"fmt"
	"io"
	"strings"

	"polytome/internal/core/bench"
	"polytome/internal/core/strict"
	"polytome/internal/core/survey"
	"polytome/internal/size"
)

// suppositions are what can be supposed of a place.
var suppositions = []string{"as", "cluster", "room", "reserve", "road", "loader", "also-for", "covers", "exactly"}

// supposed reads a supposition such as "as=exfat,room=120GiB".
func supposed(text string) (func(*bench.Place), error) {
	var all []func(*bench.Place)
	for part := range strings.SplitSeq(text, ",") {
		key, value, ok := strings.Cut(strings.TrimSpace(part), "=")
		if !ok || value == "" {
			return nil, fmt.Errorf("--what-if: %q has no value; write it like as=exfat", part)
		}
		var n int64
		var err error
		switch key {
		case "cluster", "room", "reserve":
			if n, err = size.Parse(value); err != nil {
				return nil, fmt.Errorf("--what-if %s: %w", key, err)
			}
		case "covers", "exactly":
			if value != "yes" && value != "no" {
				return nil, fmt.Errorf("--what-if %s: write yes or no", key)
			}
		}
		switch key {
		case "as":
			all = append(all, func(p *bench.Place) { p.As = value })
		case "cluster":
			if n < 512 || n&(n-1) != 0 {
				return nil, errors.New("--what-if cluster: a cluster is a power of two, from 512 bytes on")
			}
			all = append(all, func(p *bench.Place) { p.Cluster = bench.Size(n) })
		case "room":
			all = append(all, func(p *bench.Place) { p.Room = bench.Size(n) })
		case "reserve":
			all = append(all, func(p *bench.Place) { p.Reserve = bench.Size(n) })
		case "road":
			all = append(all, func(p *bench.Place) { p.Road = value })
		case "loader":
			all = append(all, func(p *bench.Place) { p.Loader, p.Road = value, "" })
		case "also-for":
			all = append(all, func(p *bench.Place) { p.Also = append(append([]string(nil), p.Also...), value) })
		case "covers":
			all = append(all, func(p *bench.Place) { p.NoCovers = value == "no" })
		case "exactly":
			all = append(all, func(p *bench.Place) { p.Exactly = value == "yes" })
		default:
			say := fmt.Sprintf("--what-if: %q cannot be supposed; what can: %s", key, strings.Join(suppositions, ", "))
			if meant := strict.Nearest(key, suppositions); meant != "" {
				say += fmt.Sprintf("; did you mean %q?", meant)
			}
			return nil, errors.New(say)
		}
	}
	return func(p *bench.Place) {
		for _, change := range all {
			change(p)
		}
	}, nil
}

// whatIf prints what would be different if a place were set up otherwise.
func (w *work) whatIf(out io.Writer, b *bench.Bench, all survey.Board, text string, accept bool) error {
	change, err := supposed(text)
	if err != nil {
		return usageError{err}
	}
	at := -1
	for n, s := range all {
		if s == nil {
			continue
		}
		if at >= 0 {
			return usageError{errors.New("--what-if is about one place: say which with --place")}
		}
		at = n
	}
	after, err := all[at].With(b, at, change)
	if err != nil {
		return err
	}
	d := survey.Compare(text, all[at], after)
	if w.asJSON {
		err = printJSON(out, d)
	} else {
		fmt.Fprintf(out, "%s with %s: %s.\n", b.Places[at].Name, text, d.Say())
		for _, c := range d.Changes {
			wanted := ""
			if c.Chosen {
				wanted = "wanted"
			}
			fmt.Fprintf(out, "  %-40s %-10s -> %-10s %s\n", c.Label, c.Was, c.Is, wanted)
		}
	}
	if err != nil || !accept {
		return err
	}
	change(&b.Places[at])
	return w.keep(out, b)
}
