package learn

import (
	"errors"
	"fmt"
	"os"
	"strings"

	"polytome/internal/core/loader"
	"polytome/internal/wholefile"
)

// ErrNothingToAdd reports a draft that has no rules for a profile.
var ErrNothingToAdd = errors.New("nothing was learnt that could be added to the profile")

// Additions are the draft's rules for lists and for files beside games, to be put into a profile.
func (d *Draft) Additions() string {
	w := &writer{}
	for _, c := range d.Companions {
		w.companion(&c)
	}
	for _, l := range d.Lists {
		w.listFile(&l)
	}
	return strings.TrimLeft(w.b.String(), "\n")
}

// AddTo puts the draft's rules behind those of a profile, and returns its file. Of a profile that is shipped, the user
// gets a copy of their own below a folder. A profile that would not work with the rules stays as it is.
func (d *Draft) AddTo(p *loader.Profile, own string, set *loader.Set) (file string, err error) {
	more := d.Additions()
	if more == "" {
		return "", ErrNothingToAdd
	}
	text, err := p.Text()
	if err != nil {
		return "", err
	}
	whole := strings.TrimRight(string(text), "\n") + "\n\n# Learnt from a target that the console has used.\n" + more
	with, err := loader.ParseProfile(p.File, []byte(whole))
	if err == nil {
		err = set.Check(with)
	}
	if err != nil {
		return "", fmt.Errorf("with these rules %s cannot work, so it stays as it is: %w", p.Shown, err)
	}
	if !p.Own {
		file = loader.OwnFile(own, p.Name)
		return file, loader.WriteNew(file, whole)
	}
	if _, err := os.Stat(p.File); err != nil {
		return "", err
	}
	return p.File, wholefile.Write(p.File, []byte(whole), 0o644)
}
