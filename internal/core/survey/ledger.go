package survey

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"hash/fnv"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"polytome/internal/core/check"
	"polytome/internal/core/ledger"
	"polytome/internal/core/plan"
	"polytome/internal/core/saves"
	"polytome/internal/target"
	"polytome/internal/target/protocols"
)

// VolumeID is what the ledger knows the target by: the volume that is in it, or its address where nothing is plugged
// in; "" for one that cannot be distinguished from others in its place.
func (s *Survey) VolumeID() (id string, kind ledger.Kind) {
	switch {
	case s.Facts.Plugged():
		return ledger.OfStick(s.Facts.Volume), ledger.Drive
	case s.Facts.Volume == "":
		return "", ledger.Drive
	case s.Facts.Volume != target.Fixed:
		return addressed(s.Facts.Volume), ledger.Folder
	}
	at, kind := s.dir, ledger.Folder
	if protocol, _, _ := protocols.Parse(at); protocol != nil {
		kind = ledger.Server
	} else if abs, err := filepath.Abs(at); err == nil {
		at = abs
	}
	return addressed(at), kind
}

// addressed is what the ledger knows something by that has an address.
func addressed(at string) string {
	sum := sha256.Sum256([]byte(at))
	return "at-" + hex.EncodeToString(sum[:8])
}

// A Noted is what else is known of a target that a ledger shall remember.
type Noted struct {
	// Done is a plan that was carried out since the look, nil for none; Ours says that what the look found is as
	// Polytome has left it.
	Done *plan.Plan
	// Foreseen is the check of the target as that plan leaves it, from [Survey.Foresee]; nil where it is to be made.
	Foreseen *check.Report
	Ours     bool
	// Stale says that Polytome has written to it since the look, which is noted already: only the check is new.
	Stale bool
	// Check is a check of it, nil for none.
	Check *check.Report
}

// Note has a ledger remember the target: what its loaders list by names and sizes, and what players have there. A
// target that is away, or was not read whole, is left as it was.
func (s *Survey) Note(ctx context.Context, store ledger.Store, n Noted) error {
	id, kind := s.VolumeID()
	if id == "" || store.Dir == "" || s.Away != nil || !s.Fresh || s.carries != nil || len(s.Problems) > 0 {
		return nil
	}
	v := ledger.Volume{ID: id, Kind: kind, Label: s.Facts.Label, Filesystem: s.Facts.Filesystem.Name,
		Capacity: s.Facts.Capacity, Free: s.Facts.Free, Address: s.dir, Console: s.Profile.Console,
		Model: s.Config.Model, Target: s.Config.Name, Seen: s.Taken.UTC().Truncate(time.Second), Print: s.print()}
	for _, p := range s.Profiles {
		v.Loaders = append(v.Loaders, p.Name)
	}
	if n.Done != nil { // how long all is by now is known to the next look
		v.Print, v.Seen = "", time.Now().UTC().Truncate(time.Second)
		for i := range n.Done.Steps {
			v.Free -= n.Done.Steps[i].Space
		}
		v.Free = max(0, v.Free)
	}
	if s.Facts.Unknown {
		v.Capacity, v.Free = 0, 0
	}
	was, err := store.Volume(id)
	if n.Stale && err != nil { // nothing was noted yet that a check could be of
		return nil
	}
	if n.Stale {
		v.Print, v.Titles, v.Free = "", was.Titles, was.Free
	} else if err == nil && v.Print != "" && was.Print == v.Print && slices.Equal(was.Loaders, v.Loaders) {
		v.Titles = was.Titles
	} else if v.Titles, err = s.titlesOf(ctx, n); err != nil {
		return err
	}
	for _, x := range s.Saves() {
		var of []string
		for _, i := range x.Titles {
			of = append(of, s.Titles[i].Label())
		}
		v.Saves = append(v.Saves, ledger.Save{Path: x.Path, Of: strings.Join(of, ", "), Changed: x.Modified.UTC(),
			Kept: x.State == saves.IsKept})
	}
	if n.Check != nil {
		v.Check = checked(n.Check)
	}
	return store.Note(v, n.Ours || n.Stale || n.Done != nil)
}

// titlesOf are the titles that the loaders list: as the target is, or will be when a plan was carried out.
func (s *Survey) titlesOf(ctx context.Context, n Noted) (out []ledger.Title, err error) {
	p, now := n.Done, n.Foreseen
	if p == nil {
		p = &plan.Plan{}
	}
	if now == nil {
		if now, err = s.CheckPlanned(ctx, p, check.Names); err != nil {
			return nil, err
		}
	}
	titles, byID := s.listedTitles(), map[string]int{}
	for i := range s.Titles {
		if t := &s.Titles[i]; t.ID != "" {
			byID[t.Platform+"\x00"+strings.ToUpper(t.ID)] = i
		}
	}
	for i := range now.Listed {
		l := &now.Listed[i]
		if l.BuiltIn {
			continue
		}
		x := ledger.Title{ID: l.ID, Name: l.Name, Platform: l.Platform, Loader: l.Loader, Path: l.Path, Size: l.Size,
			Starts: l.Starts}
		k, is := titles[l.Loader+"\x00"+s.Facts.Filesystem.Fold(l.Path)]
		if !is {
			k, is = byID[l.Platform+"\x00"+strings.ToUpper(l.ID)]
		}
		if is {
			x.Key, x.ID, x.Name = s.Titles[k].Key, s.Titles[k].ID, s.Titles[k].Name
		}
		out = append(out, x)
	}
	return out, nil
}

// checked is what the ledger remembers of a check.
func checked(r *check.Report) *ledger.Check {
	c := &ledger.Check{Taken: r.Taken.UTC().Truncate(time.Second), Depth: string(r.Depth),
		Listed: len(r.Listed) - r.BuiltIn(), Starts: r.Starts() - r.BuiltIn()}
	for _, f := range r.Findings {
		if f.Grade != check.Remark {
			c.Problems++
		}
		if f.Kind == check.Kit && c.Kit == "" {
			c.Kit = f.Path
		}
	}
	return c
}

// print is a fingerprint of what is on the target. Dates are left out, as every system rounds them otherwise.
func (s *Survey) print() string {
	h := fnv.New64a()
	for i := range s.There {
		if e := &s.There[i]; !target.OfSystem(e.Path) && !e.Folder {
			fmt.Fprintf(h, "%s\x00%d\x00", e.Path, e.Size)
		}
	}
	return fmt.Sprintf("%016x", h.Sum64())
}
