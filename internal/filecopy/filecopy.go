// Package filecopy copies runs of bytes from one file to another without bringing them into the program, where the
// system can.
package filecopy

import "os"

// A Sectioned is content whose bytes lie in files as they are.
type Sectioned interface {
	// Section reports where the bytes from off on lie: in which file, at which byte, and how many of them one behind
	// the other. ok is false where they have to be read through the content.
	Section(off int64) (f *os.File, at, n int64, ok bool)
}

// A Taker takes bytes straight out of a file.
type Taker interface {
	// CopyFrom appends n bytes of a file, from a byte on. The error is errors.ErrUnsupported, and nothing was taken,
	// where that is not possible.
	CopyFrom(f *os.File, at, n int64) (int64, error)
}
