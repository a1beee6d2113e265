package archive

import (
	"io"

	"polytome/internal/format/lha"
)

// lhaEntries lists an LHA archive.
func lhaEntries(r io.ReaderAt, size int64) (out []Entry, damage, err error) {
	a, err := lha.Open(r, size)
	if err != nil {
		return nil, nil, err
	}
	for i := range a.Members {
		m := &a.Members[i]
		e := Entry{Name: m.Name, Size: m.Size, Modified: m.Modified}
		if m.Dir {
			e.Name += "/"
		}
		e.open = func() (io.ReadCloser, error) {
			r, err := m.Open()
			return io.NopCloser(r), err
		}
		e.direct = m.ReaderAt
		out = append(out, e)
	}
	return out, a.Damage, nil
}
