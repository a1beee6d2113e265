package loader

import (
	"slices"
	"strconv"
	"strings"
)

// Here is a target as rules can ask for it: the attachment, the connection, and the volume.
type Here struct {
	Attachment, Via string
	Filesystem      string // by its name
	Volume          string // one of the attachment's volumes, by its name; "" for none that is known
	Capacity        int64  // of the volume, in bytes; 0 where it is not known
}

// Put sets the fields of the target.
func (h Here) Put(v *Values) {
	v[FieldVia], v[FieldFilesystem], v[FieldVolume] = h.Via, h.Filesystem, h.Volume
	if h.Capacity > 0 {
		v[FieldCapacity] = strconv.FormatInt(h.Capacity, 10)
	}
}

// Holds reports whether a condition on the target alone holds there.
func (h Here) Holds(c Condition) bool {
	var v Values
	h.Put(&v)
	return c.Holds(&v)
}

func (h Here) among(on []string) bool { return len(on) == 0 || slices.Contains(on, h.Attachment) }

// HasKit reports whether the kit lies there.
func (h Here) HasKit(k *Kit) bool { return h.among(k.On) }

// Needs reports whether a file of the kit belongs there.
func (h Here) Needs(f *KitFile) bool { return h.among(f.On) && h.Holds(f.When) }

// Wants reports whether a setting must be so there.
func (h Here) Wants(s *Setting) bool { return h.among(s.On) && h.Holds(s.When) }

// VolumeNamed is the first of the attachment's volumes that one of the names is of, such as that of its folder on a
// server or its label; nil for none.
func (a *Attachment) VolumeNamed(names ...string) *Volume {
	for _, name := range names {
		i := slices.IndexFunc(a.Volumes, func(v Volume) bool { return name != "" && strings.EqualFold(v.Name, name) })
		if i >= 0 {
			return &a.Volumes[i]
		}
	}
	return nil
}
