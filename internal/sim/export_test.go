package sim

import "io"

// MountExFAT reads where the files of a volume lie.
func MountExFAT(r io.ReaderAt) { _, _ = mountExFAT(r) }
