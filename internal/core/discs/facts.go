package discs

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"polytome/internal/core/discburn"
	"polytome/internal/core/discread"
	"polytome/internal/core/filter"
	"polytome/internal/core/loader"
	"polytome/internal/core/title"
	"polytome/internal/optical"
	"polytome/internal/size"
)

// Facts are what is in a drive.
type Facts struct {
	At     string           `json:"at"`
	Drive  string           `json:"drive"`
	Medium string           `json:"medium,omitempty"`
	Blank  bool             `json:"blank,omitempty"`
	Room   int64            `json:"room,omitempty"` // bytes that can be written to it
	Speeds []string         `json:"write-speeds,omitempty"`
	Writes []string         `json:"writes,omitempty"` // kinds of discs that the drive writes
	Blocks int64            `json:"blocks,omitempty"`
	Size   int64            `json:"block-size,omitempty"` // bytes
	Tracks []discread.Track `json:"tracks,omitempty"`
	Most   int64            `json:"bytes-per-second,omitempty"` // that the drive reads at most
	Title  string           `json:"title,omitempty"`
	ID     string           `json:"id,omitempty"`
	Disc   string           `json:"disc,omitempty"` // 1/2 of a title with several
	Say    string           `json:"say,omitempty"`  // what keeps it from being read or written
	Empty  bool             `json:"empty,omitempty"`
}

// Bytes is how long the disc's image is.
func (f *Facts) Bytes() int64 { return f.Blocks * f.Size }

// FactsOf looks at a drive, and waits until a disc that was just put in can be read.
func FactsOf(ctx context.Context, at string, d *optical.Drive, set *loader.Set) (f Facts, err error) {
	f.At = at
	m, err := d.Model(ctx)
	if err != nil {
		return f, err
	}
	f.Drive = strings.TrimSpace(m.Vendor + " " + m.Product)
	_, f.Most, _ = d.Speeds(ctx)
	if _, kinds, err := d.Medium(ctx); err == nil {
		for _, k := range kinds {
			if k.Writable() {
				f.Writes = append(f.Writes, k.String())
			}
		}
	}
	disc, err := discread.Look(ctx, d)
	var s *optical.Sense
	if errors.As(err, &s) && s.NoDisc() {
		f.Say, f.Empty = s.Error(), true
		return f, nil
	}
	if err != nil {
		return f, err
	}
	f.Medium, f.Blank, f.Blocks, f.Size, f.Tracks = disc.Medium.String(), disc.Blank, disc.Blocks, disc.Size,
		disc.Tracks
	if tray, err := discburn.Look(ctx, d); err == nil && tray.Blank {
		f.Room = tray.Room * 2048
		for _, s := range tray.Speeds {
			f.Speeds = append(f.Speeds, tray.Times(s).String())
		}
	}
	if disc.Blank {
		return f, nil
	}
	if t, _ := Identify(ctx, d, disc, set); t != nil {
		f.Title, f.ID = t.Name, t.ID
		if t.Of > 1 {
			f.Disc = fmt.Sprintf("%d/%d", t.Discs[0].Number, t.Of)
		}
	}
	return f, nil
}

// Words say what lies in the tray, in a clause.
func (f *Facts) Words() string {
	switch {
	case f.Say != "":
		return f.Say
	case f.Blank:
		return fmt.Sprintf("an empty %s with room for %s", f.Medium, size.Format(f.Room))
	}
	what := f.Medium + ", " + size.Format(f.Bytes())
	if name := strings.TrimSpace(f.ID + " " + f.Title); name != "" {
		what += ": " + name
		if f.Disc != "" {
			what += ", disc " + strings.Replace(f.Disc, "/", " of ", 1)
		}
	}
	return what
}

// ErrAmbiguous reports words that several titles have.
var ErrAmbiguous = errors.New("several titles match")

// Find is the title that is meant by an ID, a name, or words that it alone has.
func Find(all []title.Title, words string) (*title.Title, error) {
	var found []*title.Title
	f := filter.Parse(words)
	for i := range all {
		t := &all[i]
		if strings.EqualFold(t.ID, words) || strings.EqualFold(t.Name, words) {
			return t, nil
		}
		if f.Trouble == "" && f.MatchAt(t, filter.Text(t), filter.Placed{}) {
			found = append(found, t)
		}
	}
	switch len(found) {
	case 0:
		return nil, fmt.Errorf("there is no title %s in your folders", words)
	case 1:
		return found[0], nil
	}
	var names []string
	for _, t := range found[:min(len(found), 5)] {
		names = append(names, TitleWords(t))
	}
	return nil, fmt.Errorf("%w: %s may be one of %s: %s", ErrAmbiguous, words, size.Count(len(found), "title"),
		strings.Join(names, "; "))
}

// TitleWords are a title's ID, name and discs.
func TitleWords(t *title.Title) string {
	words := strings.TrimSpace(t.ID + " " + t.Name)
	if n := t.Discs[0].Number; t.Of > 1 {
		words += fmt.Sprintf(", disc %d of %d", n, t.Of)
	}
	return words
}

// Rules are what a loader's console takes of burnt discs with a title; with none, of any that it plays.
func Rules(p *loader.Profile, t *title.Title) (out []loader.DiscRule, err error) {
	if len(p.Discs) == 0 {
		return nil, fmt.Errorf("nothing is known of the discs that %s reads: its profile has no [[disc]]", p.Shown)
	}
	for _, r := range p.Discs {
		if t == nil || t.Platform == "" || slices.Contains(r.Platforms, t.Platform) {
			out = append(out, r)
		}
	}
	if len(out) == 0 {
		return nil, fmt.Errorf("%s plays no burnt discs of %s", p.Shown, t.Platform)
	}
	return out, nil
}

// A Taker is a console's drive, and what it makes of a burnt disc.
type Taker struct {
	Console string   `json:"console"`
	Drive   string   `json:"drive,omitempty"` // as its label calls it; "" for all
	Media   []string `json:"media"`
	Writes  []string `json:"writable-here"` // of them, those that the burner writes
	Best    string   `json:"best-speed,omitempty"`
	// Fits is set where the empty disc in the burner is one that the console reads.
	Fits bool `json:"fits"`
}

// Takers are what the consoles of a set read, and which of that a burner writes.
func Takers(set *loader.Set, f *Facts) (out []Taker) {
	for _, p := range set.Profiles {
		for i := range p.Discs {
			r := &p.Discs[i]
			t := Taker{Console: p.Console, Drive: r.Drive, Media: r.Media, Fits: f.Room > 0 && slices.Contains(r.Media,
				f.Medium)}
			if r.Best > 0 {
				t.Best = r.Best.String()
			}
			for _, m := range r.Media {
				if slices.Contains(f.Writes, m) {
					t.Writes = append(t.Writes, m)
				}
			}
			out = append(out, t)
		}
	}
	return out
}

// Words say it in a clause.
func (t *Taker) Words() string {
	words := "reads " + strings.Join(t.Media, " and ")
	if t.Best != "" {
		words += ", best at " + t.Best
	}
	switch {
	case t.Fits:
		return words + ": the disc in this drive fits"
	case len(t.Writes) == 0:
		return words + ": this drive writes none of them"
	}
	return words + ": this drive writes " + strings.Join(t.Writes, " and ")
}

// Who is the console, with its drive where there are several.
func (t *Taker) Who() string {
	if t.Drive == "" {
		return t.Console
	}
	return t.Console + " (" + t.Drive + ")"
}
