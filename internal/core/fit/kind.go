// Package fit tells for every title whether it can go to a target, in which shape, what decides
// that, and what space it takes. It is pure: facts in, verdicts out.
package fit

import (
	"fmt"
	"slices"

	"polytome/internal/core/shape"
)

// Kind is what holds for a title at a target.
type Kind uint8

// The verdicts: first those with which a title can be on the target.
const (
	Copy        Kind = iota // can go, unchanged
	Present                 // is there already
	Renamed                 // is there under another name, and is renamed
	Replaced                // something else is there under its path, and is to be replaced
	Parts                   // goes in parts
	Unpacked                // goes unpacked from its archive
	Packed                  // goes as a packed image
	Converted               // goes in another shape, such as the folder that is in its image
	Deleted                 // was there, and was deleted by somebody; it can go again
	NotYet                  // would have to be unpacked, and what is in it is not known
	Bad                     // something is wrong with the files themselves
	NoDisc                  // waits for a disc
	Locked                  // waits for a password
	Unsupported             // the loader does not take it, here or at all
	Foreign                 // no loader of the target has anything to do with such titles
	Clash                   // another chosen title gets the same path
	BadName                 // the filesystem cannot hold the path
	TooBig                  // a file is over the filesystem's limit
	Differs                 // something else is there under its path
	NoSpace                 // what is chosen before it leaves too little
	FullFolder              // its folder can hold no more names
	NoPicture               // only its cover is wanted, and there is none
	NeedsDisk               // there is no space for it on the console's own disk, where it is needed too
)

// words are the verdicts as they are shown and written.
var words = [...]string{
	Copy: "copy", Present: "present", Renamed: "rename", Replaced: "replace", Parts: "split", Unpacked: "unpack",
	Converted: "convert",
	Packed:    "pack", Deleted: "deleted", NotYet: "not yet", Bad: "bad", NoDisc: "no disc", Locked: "password",
	Unsupported: "unsupported",
	Foreign:     "no loader", Clash: "clash",
	BadName: "bad name", TooBig: "too big", Differs: "differs", NoSpace: "no space", FullFolder: "full folder",
	NoPicture: "no cover", NeedsDisk: "needs disk",
}

func (k Kind) String() string { return words[k] }

// MarshalText writes the verdict's word.
func (k Kind) MarshalText() ([]byte, error) { return []byte(words[k]), nil }

// UnmarshalText reads the verdict's word.
func (k *Kind) UnmarshalText(b []byte) error {
	i := slices.Index(words[:], string(b))
	if i < 0 {
		return fmt.Errorf("unknown verdict %q", b)
	}
	*k = Kind(i)
	return nil
}

// Goes reports whether a title with this verdict can be on the target.
func (k Kind) Goes() bool { return k <= Deleted }

// A Verdict is what holds for one title. The numbers are those that decided.
type Verdict struct {
	Kind  Kind  `json:"verdict"`
	Space int64 `json:"space"` // bytes that it takes, or would take, on the target
	Need  int64 `json:"need"`  // those of them that its files still have to get
	// TooBig: bytes over the limit; NoSpace and NeedsDisk: bytes missing; Differs: bytes there; FullFolder: number of
	// the folder
	Number int64 `json:"-"`
	Other  int32 `json:"-"`                 // Clash: index of the title that has the path
	Disc   int32 `json:"-"`                 // index of the disc that decided
	Parts  int32 `json:"parts,omitempty"`   // how many parts it goes in
	AtMost bool  `json:"at-most,omitempty"` // the space is the most that it can take
	// Shape is the one in which it goes.
	Shape shape.Name `json:"shape,omitempty"`
}

// Word is the verdict in one or two words.
func (v Verdict) Word() string {
	switch {
	case v.Kind == Parts:
		return fmt.Sprintf("split %d", v.Parts)
	case v.Kind == Packed && v.Parts > 1:
		return fmt.Sprintf("pack, %d", v.Parts)
	case v.Kind == Converted:
		if k := shape.Of(v.Shape); k != nil {
			return k.Word
		}
	}
	return v.Kind.String()
}
