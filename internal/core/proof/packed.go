package proof

import (
	"errors"
	"fmt"
	"strconv"

	"polytome/internal/core/intake"
	"polytome/internal/core/loader"
	"polytome/internal/format/packed"
	"polytome/internal/place"
)

// further reports whether a file is the second or a later part of one that is cut without a list of parts. One
// whose first part is missing is told.
func (a *audit) further(e place.Entry) bool {
	for _, rule := range a.rules() {
		v, ok := rule.TooLarge.Parts.Match(e.Path)
		if !ok || !rule.TooLarge.Manifest.Empty() {
			continue
		}
		index, err := strconv.Atoi(v[loader.FieldIndex])
		if err != nil || index < 2 {
			continue
		}
		if parts := a.partsOf(rule, &v); len(parts) == 0 {
			a.find(Fault, e.Path, fmt.Sprintf("%s passes it over: it goes on with a file whose first part is missing", a.profile.Shown), "take it off, and let Polytome put the title here again")
		} else if index > len(parts) {
			a.find(Remark, e.Path, "a part before it is missing, so it is of no use", "take it off, and let Polytome put the title here again")
		}
		return true
	}
	return false
}

// packed looks into a packed image, over all its parts.
func (a *audit) packed(e place.Entry, rule *loader.Accept, v *loader.Values, l *Listed) {
	again := "take the title off, and let Polytome put it here again"
	wrong := func(say string) {
		l.Starts = false
		a.find(Fault, e.Path, "it is listed, but does not start: "+say, again)
	}
	parts := []place.Entry{e}
	if !rule.TooLarge.Parts.Empty() {
		parts = a.partsOf(rule, v)
	}
	l.Size = 0
	for _, p := range parts {
		l.Size += p.Size
	}
	j, err := a.join(parts)
	if err != nil {
		wrong(err.Error())
		return
	}
	defer j.Close()
	im, err := packed.Open(j, j.Size())
	var damage *packed.FormatError
	switch {
	case errors.As(err, &damage):
		wrong(damage.What)
	case err != nil:
		wrong(err.Error())
	default:
		defer im.Close()
		t, err := intake.Identify(im, im.Size(), e.Path, a.set)
		a.judge(e, rule, v, l, t, err)
	}
}
