package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"polytome/internal/core/bench"
	"polytome/internal/core/survey"
)

// whatIf prints what would be different if a target were set up otherwise, taken away, or had a second one
// beside it.
func (w *work) whatIf(ctx context.Context, out io.Writer, b *bench.Bench, all survey.Board, text string,
	accept bool) error {
	at := -1
	for n, s := range all {
		if s == nil || w.picked >= 0 && n != w.picked {
			continue
		}
		if at >= 0 {
			return usageError{errors.New("--what-if needs one target: choose it with --target")}
		}
		at = n
	}
	name := b.Targets[at].Name
	what := "with " + text
	var take func()
	var d *survey.Difference
	switch second, isSecond := strings.CutPrefix(text, "second="); {
	case text == "without":
		d, _ = all.Without(at)
		what = "removed from the bench"
		take = func() {
			b.Targets = slices.Delete(b.Targets, at, at+1)
		}
	case isSecond && second != "":
		diff, after, err := all[at].Second(ctx, b, at)
		if err != nil {
			return err
		}
		d, what = diff, "with a second one like it at "+second
		take = func() {
			p := after.Config
			p.Name, p.At = b.FreeName(name), second
			b.Targets = append(b.Targets, p)
		}
	default:
		change, err := survey.Supposition(text)
		if err != nil {
			return usageError{fmt.Errorf("--what-if: %w", err)}
		}
		after, err := all[at].With(ctx, b, at, change)
		if err != nil {
			return err
		}
		d = survey.Compare(text, all[at], after)
		take = func() {
			change(&b.Targets[at])
		}
	}
	var err error
	if w.asJSON {
		err = printJSON(out, d)
	} else {
		fmt.Fprintf(out, "%s %s: %s.\n", name, what, d.Say())
		for _, c := range d.Changes {
			wanted := ""
			if c.Chosen {
				wanted = "selected"
			}
			fmt.Fprintf(out, "  %-40s %-10s -> %-10s %s\n", c.Label, c.Was, c.Is, wanted)
		}
	}
	if err != nil || !accept {
		return err
	}
	take()
	return w.keep(out, b)
}
