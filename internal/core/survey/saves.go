package survey

import (
	"context"
	"fmt"
	"strings"
	"sync"

	"polytome/internal/core/loader"
	"polytome/internal/core/plan"
	"polytome/internal/core/saves"
	"polytome/internal/target"
)

// reached are the saves that were there when a target was looked at, found once.
type reached struct {
	once sync.Once
	all  []saves.Save
}

// saves are what players have reached on the target, as it was looked at.
func (s *Survey) saves() []saves.Save {
	s.reached.once.Do(func() { s.reached.all = s.savesIn(s.There) })
	return s.reached.all
}

// savesIn finds the saves of all of the target's loaders in a listing.
func (s *Survey) savesIn(entries []target.Entry) []saves.Save {
	return saves.FindAll(s.Profiles, func(p *loader.Profile) string {
		if a := p.Attachment(s.Config.Via, s.Facts.Filesystem.Name); a != nil {
			return a.Name
		}
		return ""
	}, entries)
}

// disturbs reports whether a plan removes, replaces or renames something that is there: what belongs to the player is
// kept before.
func disturbs(p *plan.Plan) bool {
	if p.Loses() > 0 {
		return true
	}
	for i := range p.Steps {
		if p.Steps[i].Kind == plan.Move {
			return true
		}
	}
	return false
}

// keepsFirst keeps the saves that are on the target before a plan is carried out that disturbs it; nil for one that
// does not, and where no saves were seen.
func (s *Survey) keepsFirst(p *plan.Plan) func(ctx context.Context, to target.Target) error {
	if !disturbs(p) || len(s.saves()) == 0 {
		return nil
	}
	seen := s.saves()
	place := saves.Place{Name: s.Config.Name, ID: absolute(s.dir),
		Why: "before a run removed, replaced or renamed something"}
	return func(ctx context.Context, to target.Target) error {
		var bad error
		entries, err := to.List(ctx, func(path string, err error) {
			for i := range seen { // what cannot be read elsewhere is none of theirs
				if strings.HasPrefix(seen[i].Path+"/", path+"/") {
					bad = fmt.Errorf("%s: %w", path, err)
				}
			}
		})
		if err == nil {
			err = bad
		}
		if err == nil {
			place.Target = to
			_, _, err = saves.Usual().Keep(ctx, place, s.savesIn(entries))
		}
		if err != nil {
			return fmt.Errorf("the saves on it cannot be kept: %w", err)
		}
		return nil
	}
}
