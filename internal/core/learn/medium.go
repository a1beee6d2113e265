package learn

import (
	"errors"
	"fmt"

	"polytome/internal/size"
	"polytome/internal/target"
)

// volume takes over what the target itself is.
func (s *student) volume() {
	f := s.look.Facts.Filesystem
	s.d.Filesystems = []string{f.Name}
	if _, err := target.FilesystemNamed(f.Name); err != nil || f.Name == "ext4" {
		s.d.Filesystems = []string{"any"}
		s.ask(Question{Key: "filesystems", Usual: "any",
			Say: "which filesystems does the loader read? The target is a " +
				"folder on this computer, so its own filesystem shows nothing"}, s.takeFilesystems)
	} else {
		how := "the target is"
		if s.look.Facts.Declared {
			how = "the target was declared as"
		}
		s.find(Likely, "it reads "+f.Shown, "%s %s; it may read others too", how, f.Shown)
	}
	if s.look.Label != "" {
		s.find(Guess, "its volume is named "+s.look.Label,
			"the label of this one; whether the loader needs it is unknown")
	} else {
		s.ask(Question{Key: "label", Say: "does the volume need a certain label? A folder has no label"},
			func(label string) error {
				if len([]rune(label)) > 11 {
					return errors.New("a label has at most 11 characters")
				}
				s.d.Label = label
				return nil
			})
	}
	s.pieces()
	if c := s.look.Facts.Cluster; c > 0 && s.look.Pieces != nil {
		s.find(Guess, "its clusters have "+size.Format(c), "those of this volume have; whether the loader needs it is "+
			"unknown")
	}
	var largest target.Entry
	for _, e := range s.look.Entries {
		if e.Size > largest.Size {
			largest = e
		}
	}
	if largest.Size > 0 {
		s.find(Certain, "it allows files of "+size.Format(largest.Size)+" at least", "the largest file there is %s",
			largest.Path)
	}
}

// pieces finds out whether games lie contiguous. One that does not, on a stick that works, shows that they need not.
func (s *student) pieces() {
	whole := 0
	for _, x := range s.all {
		switch n := s.look.Pieces[x.path]; {
		case n > 1:
			s.find(Certain, "games need not lie contiguous", "%s lies in %d pieces", x.path, n)
			return
		case n == 1:
			whole++
		}
	}
	if whole < fewNames {
		return
	}
	s.find(Guess, "games may have to lie contiguous",
		"all %s that were looked at do, as on any volume that was filled "+
			"once", size.Count(whole, "game"))
	s.ask(Question{Key: "contiguous", Usual: "no", Choices: []string{"no", "yes"}, Say: fmt.Sprintf(
		"must every game lie contiguous? All %d that are there do, which may be by chance", whole)},
		func(answer string) error {
			s.d.Contiguous = answer == "yes"
			return nil
		})
}
