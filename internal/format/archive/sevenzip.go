package archive

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"path/filepath"

	"github.com/bodgit/sevenzip"
)

// sevenEntries lists a 7z archive. Where the list itself is encrypted, the passwords are
// tried on it.
func sevenEntries(r io.ReaderAt, size int64, passwords []string) ([]Entry, error) {
	// The signature header reports how long the archive is: where its list ends.
	head := make([]byte, 32)
	if n, err := r.ReadAt(head, 0); n == len(head) {
		end := 32 + binary.LittleEndian.Uint64(head[12:]) + binary.LittleEndian.Uint64(head[20:])
		if end > uint64(size) {
			return nil, &cutShort{int64(min(end, 1<<62)), size}
		}
	} else if err == io.EOF {
		return nil, &cutShort{32, size}
	}
	open, secret, err := unlock(r, size, passwords)
	if err != nil {
		return nil, err
	}
	var out []Entry
	for _, f := range open.File {
		if f.FileInfo().Mode()&^0o7777 != 0 && !f.FileInfo().IsDir() {
			continue // links and the like
		}
		e := Entry{Name: filepath.ToSlash(f.Name), Size: int64(min(f.UncompressedSize, 1<<62)), Modified: f.Modified,
			CRC: f.CRC32, Encrypted: secret}
		e.HasCRC = f.CRC32 != 0
		if f.FileInfo().IsDir() {
			e.Name += "/"
		}
		e.open = func() (io.ReadCloser, error) {
			rc, err := f.Open()
			if err != nil {
				return nil, locked(err)
			}
			return &sevenReader{rc}, nil
		}
		out = append(out, e)
	}
	return out, nil
}

// cutShort is an archive with fewer bytes than it tells.
type cutShort struct{ want, have int64 }

func (e *cutShort) Error() string {
	return fmt.Sprintf("the archive should have %d bytes, and has %d: its end is missing", e.want, e.have)
}

// unlock opens an archive with the password that fits, if it has one.
func unlock(r io.ReaderAt, size int64, passwords []string) (z *sevenzip.Reader, secret bool, err error) {
	var re *sevenzip.ReadError
	plain, err := sevenzip.NewReaderWithPassword(r, size, "")
	if err != nil {
		if !errors.As(err, &re) || !re.Encrypted {
			return nil, false, err
		}
	} else if err = firstByte(plain); err == nil {
		return plain, false, nil
	} else if !errors.As(err, &re) || !re.Encrypted {
		// Nonsense that changes with the password is encrypted; nonsense that does
		// not is damage.
		other, otherErr := sevenzip.NewReaderWithPassword(r, size, "another")
		if otherErr == nil {
			otherErr = firstByte(other)
		}
		if otherErr != nil && otherErr.Error() == err.Error() {
			return plain, false, nil
		}
	}
	for _, p := range passwords {
		if z, err := sevenzip.NewReaderWithPassword(r, size, p); err == nil && firstByte(z) == nil {
			return z, true, nil
		}
	}
	if plain == nil {
		return nil, true, ErrPassword
	}
	return plain, true, nil
}

// candidates is among how many of the first files one is looked for that shows quickly
// whether a password is right.
const candidates = 5

func firstByte(z *sevenzip.Reader) (err error) {
	defer recovered(&err)
	var best *sevenzip.File
	seen := 0
	for _, f := range z.File {
		if f.UncompressedSize == 0 || f.FileInfo().IsDir() {
			continue
		}
		if best == nil || f.UncompressedSize < best.UncompressedSize {
			best = f
		}
		if seen++; seen == candidates {
			break
		}
	}
	if best == nil {
		return nil
	}
	r, err := best.Open()
	if err != nil {
		return err
	}
	defer r.Close()
	if best.UncompressedSize > maxProbe { // a wrong password shows itself by nonsense soon
		_, err = io.ReadFull(r, make([]byte, probe))
		return err
	}
	e := Entry{Name: best.Name, Size: int64(best.UncompressedSize), CRC: best.CRC32, HasCRC: best.CRC32 != 0}
	_, err = io.Copy(io.Discard, &bounded{r: r, a: &Archive{allow: true}, e: &e, crc: newCRC(&e)})
	return err
}

// maxProbe is the length up to which a file is read whole to try a password.
const maxProbe = 16 << 20

// probe is how many bytes are unpacked to try a password.
const probe = 64 << 10

// sevenReader tells damage from a missing password.
type sevenReader struct{ io.ReadCloser }

func (r *sevenReader) Read(b []byte) (int, error) {
	n, err := r.ReadCloser.Read(b)
	return n, locked(err)
}

func locked(err error) error {
	var re *sevenzip.ReadError
	if errors.As(err, &re) && re.Encrypted {
		return ErrPassword
	}
	return err
}
