package survey

import (
	"fmt"
	"strings"

	"polytome/internal/core/fix"
	"polytome/internal/core/kit"
	"polytome/internal/core/loader"
)

// KitFixes are what brings the loaders' own files to the target, and files of the console's that games need: from a
// folder or an archive of this computer where they are. What is there with its size stays. The notes say what is
// missing, and of what it is not sure; it is an error where nothing is found.
func (s *Survey) KitFixes(at string, editions []string) (fixes []fix.Fix, notes []string, err error) {
	found := 0
	for _, p := range s.Profiles {
		here := loader.Here{Via: s.Config.Via, Filesystem: s.Facts.Filesystem.Name, Volume: s.volume(p)}
		if a := p.Attachment(s.Config.Via, s.Facts.Filesystem.Name); a != nil {
			here.Attachment = a.Name
		}
		if !s.Facts.Unknown {
			here.Capacity = s.Facts.Capacity
		}
		if !here.HasKit(&p.Kit) {
			continue
		}
		chosen := editions
		if m, err := p.Model(s.Config.Model); err == nil && m != nil && len(chosen) == 0 {
			chosen = m.Editions
		}
		if len(p.Kit.Editions) > 0 && len(chosen) == 0 {
			return nil, nil, fmt.Errorf("%s comes in editions: put one in front, as in %s %s", p.Kit.Shown,
				p.Kit.Editions[0].Name, at)
		}
		search := kit.Search{Profile: p, Here: here, Editions: chosen}
		k, err := search.Find(at)
		if err != nil {
			return nil, nil, err
		}
		found += len(k.Files)
		notes = append(notes, k.Notes...)
		for _, f := range k.Lacks {
			notes = append(notes, fmt.Sprintf("%s lacks %s: %s.", at, f.To, f.Why))
		}
		for _, f := range k.Files {
			if e, there := s.Sheet.At(f.To); there && e.Size == f.From.Size {
				continue
			}
			m := fix.Fix{Do: fix.Bring, Path: f.To, Source: f.From.Path, Entry: f.From.Entry, Bytes: f.From.Size,
				Why: "it is one of " + p.Shown + "'s own files"}
			if !f.From.Modified.IsZero() {
				dated := f.From.Modified
				m.Dated = &dated
			}
			fixes = append(fixes, m)
		}
	}
	if found == 0 {
		var names []string
		for _, p := range s.Profiles {
			names = append(names, p.Shown)
		}
		return nil, notes, fmt.Errorf("%s: nothing of %s itself is there", at, strings.Join(names, " or "))
	}
	return fixes, notes, nil
}
