package loader

import "slices"

// Here is where a loader finds its own files: an attachment, the connection, and the filesystem by its name.
type Here struct{ Attachment, Via, Filesystem string }

func (h Here) holds(c Condition) bool {
	return c.Holds(&Values{FieldVia: h.Via, FieldFilesystem: h.Filesystem})
}

func (h Here) among(on []string) bool { return len(on) == 0 || slices.Contains(on, h.Attachment) }

// HasKit reports whether the kit lies there.
func (h Here) HasKit(k *Kit) bool { return h.among(k.On) }

// Needs reports whether a file of the kit belongs there.
func (h Here) Needs(f *KitFile) bool { return h.among(f.On) && h.holds(f.When) }

// Wants reports whether a setting must be so there.
func (h Here) Wants(s *Setting) bool { return h.among(s.On) && h.holds(s.When) }
