package run

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"polytome/internal/nearest"
	"polytome/internal/target"
)

// Verify is how a file is checked before it gets its name.
type Verify string

const (
	VerifyNone Verify = "none" // not at all
	VerifySize Verify = "size" // the target has as many bytes as were sent
	VerifyFull Verify = "full" // every byte is read back from the medium, and compared
)

// Verifies are all levels.
var Verifies = []Verify{VerifyNone, VerifySize, VerifyFull}

// ParseVerify reads a level.
func ParseVerify(s string) (Verify, error) {
	if v := Verify(s); slices.Contains(Verifies, v) {
		return v, nil
	}
	return "", nearest.Unknown("verify mode", s, []string{string(VerifyNone), string(VerifySize), string(VerifyFull)})
}

// Words are what was done to a file, in words.
func (v Verify) Words() string {
	switch v {
	case VerifyNone:
		return "not verified"
	case VerifySize:
		return "sizes compared"
	case VerifyFull:
	}
	return "read back"
}

// A ReadBackError reports a file that reads back differently from what was written.
type ReadBackError struct {
	Path   string
	Offset int64 // of the first byte of the block of 512 KiB that differs
	Short  string
}

func (e *ReadBackError) Error() string {
	if e.Short != "" {
		return fmt.Sprintf("%s is %s on the target, so it is incomplete; it was not kept under that name", e.Path,
			e.Short)
	}
	return fmt.Sprintf("%s reads back differently from byte %d on; it was not kept under that name. The medium or "+
		"its cable is probably failing: try another one", e.Path, e.Offset)
}

// errDiffers ends a comparison.
var errDiffers = errors.New("it differs")

// verify checks a file as the run wants it.
func (t *task) verify(ctx context.Context, f *written) error {
	// what was resumed is at least as long as it should be: another program may have written there too
	if t.l.job.Verify == VerifyNone && t.resumed == 0 {
		return nil
	}
	return t.check(ctx, f, t.l.job.Verify == VerifyFull)
}

// short fails where the target has another number of bytes than were written.
func (t *task) short(f *written, n int64) error {
	if n == f.length {
		return nil
	}
	return &ReadBackError{Path: t.s.Path, Short: fmt.Sprintf("%d bytes instead of %d", n, f.length)}
}

// check reads a file back and compares, or compares only its length.
func (t *task) check(ctx context.Context, f *written, whole bool) error {
	if whole {
		t.l.emit(Event{Kind: Checking}, t.i)
	}
	if m, ok := f.w.(target.Measured); ok && !whole {
		n, err := m.Length()
		if err != nil {
			return err
		}
		return t.short(f, n)
	}
	back, err := f.w.ReadBack()
	if err != nil {
		return err
	}
	defer back.Close()
	if err := t.short(f, back.Size()); err != nil || !whole {
		return err
	}
	var read int64
	got, err := eachBlock(ctx, back, nil, func(b block) error {
		read += b.n
		t.progress(Checking, read)
		if err := t.l.gate(ctx); err != nil {
			return err
		}
		k := b.off / blockSize
		h, err := b.sum()
		if err != nil {
			return err
		}
		if k >= int64(len(f.sums)) || f.sums[k] != h {
			return errDiffers
		}
		return nil
	})
	switch {
	case errors.Is(err, errDiffers), err == nil && len(got) != len(f.sums):
		return &ReadBackError{Path: t.s.Path, Offset: int64(len(got)) * blockSize}
	case err != nil:
		return fmt.Errorf("reading %s back: %w", t.s.Path, err)
	}
	return nil
}
