package title

import (
	"slices"
)

// An Edit is what the user has set by hand for the title of one file. Empty values leave the
// title as it was read.
type Edit struct {
	File string `toml:"file"` // see [Title.Where]; relative to the bench
	// Sign finds the file again when it was moved; see [Disc.Sign].
	Sign      string `toml:"sign,omitempty"`
	Platform  string `toml:"platform,omitempty"`
	Name      string `toml:"name,omitempty"`
	ID        string `toml:"id,omitempty"`
	Region    string `toml:"region,omitempty"`
	Year      string `toml:"year,omitempty"`
	Players   string `toml:"players,omitempty"`
	Publisher string `toml:"publisher,omitempty"`
	Text      string `toml:"text,omitempty"`
	// Pictures are those that were chosen for it.
	Pictures []Chosen `toml:"pictures,omitempty"`
	// Disc and Set join discs to one title: those with the same set belong together.
	Disc int    `toml:"disc,omitempty"`
	Set  string `toml:"set,omitempty"`
	// Alone takes a disc out of the title that it was found to belong to.
	Alone bool `toml:"alone,omitempty"`
	// Drop leaves the file out.
	Drop bool `toml:"drop,omitempty"`
	// Allow has an archive opened that is much larger inside than outside.
	Allow bool `toml:"allow,omitempty"`
	// Locked are fields that nothing but the user changes any longer.
	Locked []string `toml:"locked,omitempty"`
}

// Editable are the fields that can be set by hand, in the order in which they are shown.
var Editable = []string{"name", "ID", "region", "platform", "year", "players", "publisher", "text"}

// Value is the place of an editable field's value in the edit; nil for other fields.
func (e *Edit) Value(field string) *string {
	switch field {
	case "name":
		return &e.Name
	case "ID":
		return &e.ID
	case "region":
		return &e.Region
	case "platform":
		return &e.Platform
	case "year":
		return &e.Year
	case "players":
		return &e.Players
	case "publisher":
		return &e.Publisher
	case "text":
		return &e.Text
	}
	return nil
}

// Value is the place of an editable field's value in the title; nil for other fields.
func (t *Title) Value(field string) *string {
	switch field {
	case "name":
		return &t.Name
	case "ID":
		return &t.ID
	case "region":
		return &t.Region
	case "platform":
		return &t.Platform
	case "year":
		return &t.Year
	case "players":
		return &t.Players
	case "publisher":
		return &t.Publisher
	case "text":
		return &t.Text
	}
	return nil
}

// Empty reports whether the edit says nothing.
func (e *Edit) Empty() bool {
	for _, f := range Editable {
		if *e.Value(f) != "" {
			return false
		}
	}
	return e.Disc == 0 && e.Set == "" && !e.Alone && !e.Drop && !e.Allow && len(e.Locked) == 0 && len(e.Pictures) == 0
}

// Choose sets the picture of a kind; one that says nothing gives the choice up.
func (e *Edit) Choose(c Chosen) {
	e.Pictures = slices.DeleteFunc(slices.Clone(e.Pictures), func(p Chosen) bool { return p.Of == c.Of })
	if c.File != "" || c.None || c.Crop != [4]int{} {
		e.Pictures = append(e.Pictures, c)
		slices.SortFunc(e.Pictures, func(a,
			b Chosen) int {
			return slices.Index(PictureKinds, a.Of) - slices.Index(PictureKinds, b.Of)
		})
	}
}

// Lock locks or unlocks a field.
func (e *Edit) Lock(field string, locked bool) {
	e.Locked = slices.DeleteFunc(slices.Clone(e.Locked), func(f string) bool { return f == field })
	if locked {
		e.Locked = append(e.Locked, field)
	}
}
