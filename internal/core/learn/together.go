package learn

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"polytome/internal/core/loader"
	"polytome/internal/core/scan"
	"polytome/internal/size"
)

// Together learns from several targets of one console: the draft is that of the one whose rules explain the most of all
// of them. It says which of the others agree, and what contradicts it; and what differs between them is free.
func Together(ctx context.Context, looks []Look, set *loader.Set) (*Draft, error) {
	if len(looks) == 1 {
		return Learn(ctx, looks[0], set)
	}
	var drafts []*Draft
	var failed []error
	for _, l := range looks {
		d, err := Learn(ctx, l, set)
		if err != nil {
			failed = append(failed, err)
			d = nil
		}
		drafts = append(drafts, d)
	}
	var best *Draft
	var agree []comparison
	most, from := -1, 0
	for i, d := range drafts {
		if d == nil {
			continue
		}
		same := 0
		of := make([]comparison, len(looks))
		for k, l := range looks {
			c, err := by(ctx, l, d, set)
			if err != nil {
				return nil, err
			}
			of[k] = c
			same += c.same
		}
		if same > most {
			best, agree, most, from = d, of, same, i
		}
	}
	if best == nil {
		return nil, errors.Join(failed...)
	}
	for k, l := range looks {
		if k != from {
			best.refine(l, agree[k])
		}
	}
	return best, nil
}

// by is how what lies on a target differs from what a draft that was learnt elsewhere makes of it.
func by(ctx context.Context, l Look, d *Draft, set *loader.Set) (comparison, error) {
	set = With(set, d.Taught)
	r, err := scan.Scan(ctx, []string{l.Dir}, scan.Options{Set: set})
	if err != nil {
		return comparison{}, err
	}
	copied := *d
	s := &student{look: l, set: set, d: &copied, used: map[string]Part{}, by: map[string]string{}}
	s.letterCaseOf(d)
	s.samples(r.Titles)
	c, _ := s.compare()
	return c, nil
}

// letterCaseOf has names be equal as they are where the draft was learnt.
func (s *student) letterCaseOf(d *Draft) {
	switch d.Case {
	case "upper":
		s.fold = strings.ToUpper
	case "lower":
		s.fold = strings.ToLower
	}
}

// refine takes in how another target agrees.
func (d *Draft) refine(l Look, c comparison) {
	say := fmt.Sprintf("%d of %s", c.same, size.Count(c.all, "title or list"))
	if c.all == 0 {
		d.Findings = append(d.Findings, Finding{Say: l.Name + " has no game that is known by this",
			Evidence: "nothing on it is one", Confidence: Guess})
		return
	}
	whole := c.same == c.all
	f := Finding{Say: l.Name + " is as by these rules", Evidence: say + " on it are where and as they would be made",
		Confidence: Certain}
	if !whole {
		f.Say, f.Confidence = l.Name+" is not all as by these rules", Likely
	}
	d.Findings = append(d.Findings, f)
	for i := range d.Findings {
		switch x := &d.Findings[i]; {
		case !strings.Contains(x.Say, " go to ") && !strings.HasPrefix(x.Say, "titles are listed"):
		case whole && x.Confidence == Likely && c.all >= enough:
			x.Confidence = Certain
			x.Evidence += "; " + l.Name + " agrees"
		case !whole && x.Confidence == Certain:
			x.Confidence = Likely
		}
	}
	for _, platform := range slices.Sorted(maps.Keys(c.astray)) {
		d.Against = append(d.Against, l.Name+": "+c.astray[platform])
	}
	for _, say := range slices.Concat(c.lists, slices.Sorted(maps.Values(c.texts))) {
		d.Against = append(d.Against, l.Name+": "+say)
	}
	if f := l.Facts.Filesystem.Name; len(d.Filesystems) > 0 && d.Filesystems[0] != "any" &&
		!slices.Contains(d.Filesystems, f) {
		d.Filesystems = append(d.Filesystems, f)
	}
	if l.Label != d.Label && d.Label != "" {
		d.Findings = append(d.Findings, Finding{Say: "the volume's label is free", Confidence: Certain,
			Evidence: fmt.Sprintf("one is named %s, and another %s", d.Label, l.Label)})
		d.Label = ""
	}
	if l.Label != "" && d.Label == "" {
		d.Open = slices.DeleteFunc(d.Open, func(q Question) bool { return q.Key == "label" })
	}
}
