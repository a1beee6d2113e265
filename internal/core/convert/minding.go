package convert

import (
	"errors"
	"os"

	"polytome/internal/filecopy"
)

// minding remembers what a sink said, so that its errors are distinguished from those of the source, and reports after
// each write.
type minding struct {
	Sink
	emit func()
	err  error
}

// mind returns what remembers, and the sink to write to: it takes bytes out of files if to does.
func mind(to Sink, emit func()) (*minding, Sink) {
	m := &minding{Sink: to, emit: emit}
	if t, ok := to.(filecopy.Taker); ok {
		return m, &mindingTaker{m, t}
	}
	return m, m
}

func (m *minding) Write(b []byte) (n int, err error) {
	n, m.err = m.Sink.Write(b)
	m.emit()
	return n, m.err
}

// Skip writes zeros.
func (m *minding) Skip(n int64) error {
	m.err = m.Sink.Skip(n)
	m.emit()
	return m.err
}

// mindingTaker is the same for a sink that takes bytes out of files.
type mindingTaker struct {
	*minding
	t filecopy.Taker
}

// CopyFrom takes bytes out of a file.
func (m *mindingTaker) CopyFrom(f *os.File, at, n int64) (int64, error) {
	k, err := m.t.CopyFrom(f, at, n)
	if !errors.Is(err, errors.ErrUnsupported) {
		m.err = err
		m.emit()
	}
	return k, err
}
