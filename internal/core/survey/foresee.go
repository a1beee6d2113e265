package survey

import (
	"context"
	"slices"

	"polytome/internal/core/check"
	"polytome/internal/core/loader"
	"polytome/internal/core/plan"
	"polytome/internal/target"
)

// foreseen are the kinds of findings that no title that is written changes.
var foreseen = []check.Kind{check.Via, check.Filesystem, check.Table, check.Label, check.Setting, check.Kit,
	check.System}

// Foresee finds what will keep the console from listing or starting anything, whatever is written: the wrong label or
// partition table, missing files of the loader, settings. What the plan writes itself is left out. So hours of writing
// do not end with a list of nothing. It looks at the listing of the survey, and reads no more than the loader's own
// files.
func (s *Survey) Foresee(ctx context.Context, p *plan.Plan) ([]check.Finding, error) {
	if s.carries != nil || s.Away != nil {
		return nil, nil
	}
	to, err := s.Open(ctx)
	if err != nil {
		return nil, err
	}
	defer to.Close()
	var at target.Target = known{to, s.There}
	if t, ok := to.(tabled); ok {
		at = knownDrive{known{to, s.There}, t}
	}
	r, err := check.Audit(ctx, at, s.Profiles, s.set, check.Options{
		Via: s.Config.Via, Volume: s.volume(s.Profile), Depth: check.Names, NoCovers: true,
		Promises: func(*loader.Profile) []check.Promise { return nil },
	})
	if err != nil {
		return nil, err
	}
	written := map[string]bool{}
	for i := range p.Steps {
		if p.Steps[i].Writes() {
			written[s.Facts.Filesystem.Fold(p.Steps[i].Path)] = true
		}
	}
	return slices.DeleteFunc(r.Findings, func(f check.Finding) bool {
		return f.Grade == check.Remark || !slices.Contains(foreseen, f.Kind) || written[s.Facts.Filesystem.Fold(f.Path)]
	}), nil
}

// known is a target whose listing is known.
type known struct {
	target.Target
	there []target.Entry
}

func (k known) List(context.Context, func(string, error)) ([]target.Entry, error) {
	return k.there, nil
}

// tabled is a target that knows its partition table.
type tabled interface{ PartitionTable() string }

type knownDrive struct {
	known
	tabled
}
