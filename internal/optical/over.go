package optical

import (
	"context"
	"errors"
)

// An Answerer answers commands at once, such as a simulated drive: in is filled with what it sends, n bytes of it, and
// sense says what went wrong, nil for nothing.
type Answerer interface {
	Command(cdb, in, out []byte) (n int, sense []byte)
}

// Over is the transport to a drive that answers at once.
func Over(a Answerer) Transport { return over{a} }

type over struct{ a Answerer }

func (o over) Do(ctx context.Context, c Command) (int, error) {
	if err := ctx.Err(); err != nil {
		return 0, err
	}
	n, sense := o.a.Command(c.CDB, c.In, c.Out)
	if sense == nil {
		return n, nil
	}
	s, ok := ParseSense(sense)
	if !ok {
		return n, errors.New("the drive answers with a sense of an unknown kind")
	}
	return n, s
}

func (o over) Close() error { return nil }
