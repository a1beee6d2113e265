// Package fix holds what fixes a finding of the check: small changes of a target, as plain data. They are kept on the
// bench, shown in the tree, and carried out by a run like everything else.
package fix

import (
	"fmt"
	"time"

	"polytome/internal/core/shape"
	"polytome/internal/format/picture"
)

// Do is what a fix does.
type Do string

// The fixes. Rename to Defragment change files of the target; Copy and Remove are choices: that a title is wanted, and
// that a file shall go.
const (
	Rename     Do = "rename"     // give the file or folder another path
	Write      Do = "write"      // write a text, over what is there
	Set        Do = "set"        // set one value in a text, and leave the rest of it
	Fit        Do = "fit"        // bring a picture to size
	Defragment Do = "defragment" // write the file again contiguous
	Bring      Do = "bring"      // copy a file of this computer that is none of a title's, such as a loader's own
	Copy       Do = "copy"       // copy a title here again
	Remove     Do = "remove"     // remove the file
)

// A Fix is one change of a target.
type Fix struct {
	Do Do `toml:"do" json:"do"`
	// of what is changed, as the target spells it; of Copy, "" where nothing of the title is there
	Path string `toml:"path" json:"path"`
	To   string `toml:"to,omitempty" json:"to,omitempty"` // the new path of Rename and Fit
	// Text is what Write writes, as [Text] has it: a TOML file holds no other bytes than those of UTF-8.
	Text string `toml:"text,omitempty" json:"text,omitempty"`
	// Syntax, Section, Key and Value are what Set sets.
	Syntax  string `toml:"syntax,omitempty" json:"syntax,omitempty"`
	Section string `toml:"section,omitempty" json:"section,omitempty"`
	Key     string `toml:"key,omitempty" json:"key,omitempty"`
	Value   string `toml:"value,omitempty" json:"value,omitempty"`
	// Picture is how Fit wants the picture.
	Picture *picture.Rule `toml:"picture,omitempty" json:"picture,omitempty"`
	// Source is the file that Bring copies, Entry its name where that is an archive, Bytes its size, and Dated its
	// date: another one is not copied.
	Source string     `toml:"source,omitempty" json:"source,omitempty"`
	Entry  string     `toml:"entry,omitempty" json:"entry,omitempty"`
	Bytes  int64      `toml:"bytes,omitempty" json:"bytes,omitempty"`
	Dated  *time.Time `toml:"dated,omitempty" json:"dated,omitempty"`
	// Seen is what the file was when it was found: a fix is not made when it is something else by then.
	Seen  string `toml:"seen,omitempty" json:"seen,omitempty"`
	Title string `toml:"title,omitempty" json:"title,omitempty"` // of Copy: the title's key
	Why   string `toml:"why,omitempty" json:"why,omitempty"`
}

// Text is the content of a file as a fix has it: a text as it is, other bytes written down.
func Text(content []byte) string {
	b, _ := shape.Text(content).MarshalText() // which cannot fail
	return string(b)
}

// Content is what Write writes.
func (m *Fix) Content() (string, error) {
	var t shape.Text
	err := t.UnmarshalText([]byte(m.Text))
	return string(t), err
}

// Seen is a file as it is, by its size in bytes and the time of its last change.
func Seen(size int64, modified time.Time) string {
	return fmt.Sprintf("%d %d", size, modified.Unix())
}

// clockSteps is how far two dates of one file may lie apart, in seconds: FAT keeps every other one.
const clockSteps = 2

// Changed reports whether a file is not what it was when the fix was found.
func (m *Fix) Changed(size int64, modified time.Time) bool {
	var was, at int64
	if n, _ := fmt.Sscanf(m.Seen, "%d %d", &was, &at); n < 2 {
		return false
	}
	return size != was || max(at-modified.Unix(), modified.Unix()-at) > clockSteps
}

// Choice reports whether the fix is a choice of the bench, and no change of a file that is there.
func (m *Fix) Choice() bool { return m.Do == Copy || m.Do == Remove }

// Same reports whether two fixes change the same thing.
func (m *Fix) Same(o *Fix) bool {
	return m.Do == o.Do && m.Path == o.Path && m.Section == o.Section && m.Key == o.Key && m.Title == o.Title
}

// Words say what the fix does, in a clause.
func (m *Fix) Words() string {
	switch m.Do {
	case Rename:
		return "rename it to " + m.To
	case Write:
		return "write " + m.Path + " again"
	case Set:
		return fmt.Sprintf("set %s=%s in %s", m.Key, m.Value, m.Path)
	case Fit:
		if m.To != m.Path {
			return fmt.Sprintf("resize it to %d x %d pixels, as %s", m.Picture.Width, m.Picture.Height, m.To)
		}
		return fmt.Sprintf("resize it to %d x %d pixels", m.Picture.Width, m.Picture.Height)
	case Defragment:
		return "defragment it"
	case Bring:
		return "copy it from " + m.Source
	case Copy:
		return "copy it here again from your games"
	case Remove:
		return "have " + m.Path + " leave"
	}
	return string(m.Do)
}
