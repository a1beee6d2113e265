package drives

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"sync"

	"polytome/internal/medium"
	"polytome/internal/size"
)

// A RefusedError reports that the guard does not allow a drive to be written.
type RefusedError struct {
	Drive string
	Say   string
	Do    string // what to do about it
}

func (e *RefusedError) Error() string {
	s := fmt.Sprintf("nothing is written to %s: %s", e.Drive, e.Say)
	if e.Do != "" {
		s += "; " + e.Do
	}
	return s
}

// Purpose is what a drive is opened for.
type Purpose int

// The purposes. Filling writes into a volume that is there; erasing makes new ones, and wants consent.
const (
	Filling Purpose = iota
	Erasing
)

// Consent is what the user said to losing what is on a drive.
type Consent struct {
	// Typed is the drive's name or serial number, as it was typed.
	Typed string
	// Fixed is the further consent that a built-in disk needs.
	Fixed bool
}

// Refusal says why a drive is not written to, whatever anybody agrees to. nil where it can be.
func (d *Drive) Refusal() *RefusedError {
	refuse := func(say, do string) *RefusedError { return &RefusedError{d.Name(), say, do} }
	for _, kind := range []UseKind{OfSystem, Swap, Member, Mounted, Looped, Opened} {
		for _, u := range d.Uses {
			if u.Kind != kind {
				continue
			}
			switch kind {
			case Mounted:
				return refuse(u.Say, "unmount it first: polytome drives eject --unmount "+d.Path)
			case Looped:
				return refuse(u.Say, "detach it first, or use the device")
			case Opened:
				return refuse(u.Say, "close it there first: two programs writing at once would destroy it")
			case OfSystem, Swap:
				return refuse(u.Say, "")
			}
			return refuse(u.Say, "release it where it is used")
		}
	}
	switch {
	case d.ReadOnly:
		return refuse("it cannot be written to", "unlock its write-protect switch, if it has one")
	case d.Trouble != "" && !d.denied:
		return refuse(d.Trouble, "")
	case d.Size < 1<<20:
		return refuse("it has only "+size.Format(d.Size), "")
	}
	return nil
}

// Agreed reports whether a consent is to this drive. Letter case does not matter.
func (d *Drive) Agreed(c Consent) error {
	typed := strings.TrimSpace(c.Typed)
	if typed == "" || !strings.EqualFold(typed, d.Name()) && !strings.EqualFold(typed, d.Serial) {
		return &RefusedError{d.Name(), "that is not its name",
			fmt.Sprintf("type %q or its serial number %q to confirm that everything on it is lost", d.Name(), d.Serial)}
	}
	if d.Fixed() && !c.Fixed {
		return &RefusedError{d.Name(), "it is a disk that is built into this computer",
			"confirm that too (--fixed-disk) if you mean it"}
	}
	return nil
}

// Open opens a drive for writing, and is the only way to that. The drive is looked at again, and has to be the one that
// was shown: same path, serial number, size and partition table. It must not be in use. It is opened so that no one
// else can use it, and just before the first write its size and table are read once more. The consent is asked for
// erasing only.
func (s System) Open(ctx context.Context, shown *Drive, purpose Purpose, c Consent) (*medium.File, error) {
	now, err := s.Look(ctx, shown.Path)
	if err != nil {
		return nil, fmt.Errorf("looking at %s again: %w", shown.Name(), err)
	}
	is, was := now.Identity(), shown.Identity()
	if now.Denied() || shown.Denied() { // its table could not be read at one of the times: the helper compares it
		is.Table = was.Table
	}
	if is != was {
		return nil, &RefusedError{shown.Name(), "it is not the drive that was shown: " + differs(shown, now),
			"list the drives again"}
	}
	if r := now.Refusal(); r != nil {
		return nil, r
	}
	if purpose == Erasing {
		if err := now.Agreed(c); err != nil {
			return nil, err
		}
	}
	if now.denied && s.Elevate != nil {
		seen := shown
		if seen.helper == nil {
			if seen, err = s.Readable(ctx, now); err != nil {
				return nil, err
			}
		}
		return seen.helper.Open(ctx, seen, purpose, c)
	}
	m, err := now.write(ctx)
	if err != nil {
		return nil, err
	}
	var once sync.Once
	var verdict error
	m.Before(func() error {
		once.Do(func() {
			verdict = s.same(ctx, now, m)
		})
		return verdict
	})
	return m, nil
}

// write opens the drive for writing. An export is opened like for reading: the guard keeps it from being written to.
func (d *Drive) write(ctx context.Context) (*medium.File, error) {
	if d.Network {
		return d.Read(ctx)
	}
	m, err := d.open(true)
	if err != nil {
		return nil, &RefusedError{d.Name(), reason(err), ""}
	}
	return m, nil
}

// same compares an opened drive with what was shown.
func (s System) same(ctx context.Context, shown *Drive, m *medium.File) error {
	changed := func(what string) error {
		return &RefusedError{shown.Name(), "it changed just before the first write: " + what, "list the drives again"}
	}
	if n, err := m.SizeNow(); err != nil {
		return changed(err.Error())
	} else if n != shown.Size {
		return changed(fmt.Sprintf("it had %s and has %s", size.Format(shown.Size), size.Format(n)))
	}
	if _, err := m.ReadAt(make([]byte, 512), 0); err != nil {
		return fmt.Errorf("looking at %s just before the first write: %w", shown.Name(), err)
	}
	if tablePrint(m, shown.Size, shown.Table) != shown.print {
		return changed("its partition table is different")
	}
	if !shown.Image && !shown.Network {
		if now := s.now(ctx, shown); now == nil || now.Serial != shown.Serial ||
			now.Size != shown.Size && now.Size > 0 { // a system may not say it
			return changed("the device is different")
		}
	}
	return nil
}

// differs says in what a drive is not the one that was shown.
func differs(a, b *Drive) string {
	switch {
	case a.Serial != b.Serial:
		return fmt.Sprintf("its serial number was %s and is %s", a.Serial, b.Serial)
	case a.Size != b.Size:
		return fmt.Sprintf("it had %s and has %s", size.Format(a.Size), size.Format(b.Size))
	case a.print != b.print:
		return "its partition table is different"
	}
	return fmt.Sprintf("it was %s and is %s", a.Path, b.Path)
}

// IsRefused reports whether an error is the guard's.
func IsRefused(err error) bool {
	var r *RefusedError
	return errors.As(err, &r)
}
