package survey

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"polytome/internal/core/bench"
	"polytome/internal/core/fit"
	"polytome/internal/core/ledger"
	"polytome/internal/core/title"
	"polytome/internal/target/drive"
	"polytome/internal/target/folder"
	"polytome/internal/target/protocols"
	"polytome/internal/target/served"
)

// Missing are the titles that are wanted at the target and can go there, and are not on it.
func (s *Survey) Missing() (titles []int) {
	return s.wantedBut(func(i int) bool { return s.Sheet.Verdict(i).Kind == fit.Present })
}

// Behind are those that are not on a volume of the ledger, which stands for the target, and the names of those that are
// on the volume though everything that is not selected shall go.
func (s *Survey) Behind(v *ledger.Volume) (missing []int, others []string) {
	has := map[string]bool{}
	for i := range v.Titles {
		has[v.Titles[i].Key] = true
	}
	wanted := map[string]bool{}
	missing = s.wantedBut(func(i int) bool {
		wanted[s.Titles[i].Key] = true
		return has[s.Titles[i].Key]
	})
	for i := range v.Titles {
		if s.Config.DeleteOthers && !wanted[v.Titles[i].Key] {
			others = append(others, v.Titles[i].Name)
		}
	}
	return missing, others
}

func (s *Survey) wantedBut(is func(i int) bool) (titles []int) {
	for i := range s.Titles {
		if s.Sheet.Chosen[i] && s.Sheet.Verdict(i).Kind.Goes() && !is(i) {
			titles = append(titles, i)
		}
	}
	return titles
}

// ErrNoStick reports that something cannot be one of several alike sticks.
var ErrNoStick = errors.New("it cannot be recognised when it is plugged in elsewhere")

// AddAlike takes what is at an address onto a bench as one more of the set of target number n, and returns its number:
// a mounted volume, known by its serial number from then on, or a drive, which is addressed by its own. Past are the
// volumes of the ledger: they say which stick the first of the set is, when another one is plugged in at its place.
func AddAlike(ctx context.Context, b *bench.Bench, n int, at string, past []ledger.Volume) (int, error) {
	first := &b.Targets[b.First(n)]
	if first.Carries != "" {
		return 0, fmt.Errorf("%s carries the covers of another target: there are no others like it", first.Name)
	}
	at = b.Resolve(at)
	protocol, _, err := protocols.Parse(at)
	if err != nil {
		return 0, err
	}
	if protocol != nil || served.Is(at) {
		return b.AddLike(n, at, ""), nil
	}
	same := func(i int) error { return fmt.Errorf("%s is %s already", at, b.Targets[i].Name) }
	if a, ok := drive.ParseAddress(at); ok {
		i := slices.IndexFunc(b.Targets, func(t bench.Target) bool { return b.Resolve(t.At) == a.String() })
		if i >= 0 {
			return 0, same(i)
		}
		return b.AddLike(n, at, ""), nil
	}
	stick, err := StickAt(ctx, at)
	if err != nil {
		return 0, err
	}
	if first.Stick == "" {
		first.Stick = stickOf(ctx, b, b.First(n), past)
	}
	for i := range b.Targets {
		t := &b.Targets[i]
		if t.Stick == stick && stick != "" || (t.Stick == "" || stick == "") && b.Resolve(t.At) == at {
			return 0, same(i)
		}
	}
	return b.AddLike(n, at, stick), nil
}

// StickAt is what the volume that is mounted at a folder is known by, "" where this system does not say that;
// [ErrNoStick] for a folder that is no volume of its own.
func StickAt(ctx context.Context, at string) (string, error) {
	t, err := folder.Open(at, folder.Options{})
	if err != nil {
		return "", err
	}
	defer t.Close()
	f, err := t.Facts(ctx, nil)
	if err != nil {
		return "", err
	}
	if f.Volume != "" && !f.Plugged() {
		return "", fmt.Errorf(
			"%s is not a volume that is plugged in: %w; name the folder in which the stick is mounted",
			at,
			ErrNoStick,
		)
	}
	return f.Volume, nil
}

// StickOfLetter is what the volume is known by that has a drive letter of Windows, "" for any other address. A target
// there is found at whatever letter it has the next time, and no other stick is taken for it.
func StickOfLetter(at string) string {
	if filepath.VolumeName(at) == "" {
		return ""
	}
	stick, err := StickAt(context.Background(), at)
	if err != nil {
		return ""
	}
	return stick
}

// stickOf is which stick a target is, as the ledger knows it, or else the one that is plugged in there; "" for none.
func stickOf(ctx context.Context, b *bench.Bench, n int, past []ledger.Volume) string {
	at := b.Resolve(b.Targets[n].At)
	for i := range past { // the newest look first
		v := &past[i]
		if stick, ok := v.Stick(); ok && v.Target == b.Targets[n].Name && v.Address == at {
			return stick
		}
	}
	stick, err := StickAt(ctx, at)
	if err != nil {
		return ""
	}
	return stick
}

// Remembered are the keys of the titles of a volume that are still there, and the names of the others.
func Remembered(v *ledger.Volume, titles []title.Title) (keys bench.Keys, lost []string) {
	by := map[string]string{}
	for i := range titles {
		t := &titles[i]
		by[t.Key] = t.Key
		if t.ID != "" {
			by[t.Platform+"\x00"+strings.ToUpper(t.ID)] = t.Key
		}
	}
	for i := range v.Titles {
		t := &v.Titles[i]
		key, ok := by[t.Key]
		if !ok {
			key, ok = by[t.Platform+"\x00"+strings.ToUpper(t.ID)]
		}
		if !ok {
			lost = append(lost, t.Name)
			continue
		}
		keys = append(keys, key)
	}
	slices.Sort(keys)
	return slices.Compact(keys), lost
}
