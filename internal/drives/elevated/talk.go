// Package elevated has a helper with the rights of an administrator open a drive that this process may not: Polytome
// itself needs no such rights, and the helper does nothing else. They talk over a pipe: a socket in a folder of the
// user's own, or a named pipe of Windows that only the user and administrators reach.
//
// Over each connection goes one request and one answer, both a line of JSON. After an answer to "read" or "open" the
// connection is that of an NBD server with the drive as its only export. Whether it may be written to is decided in
// the helper, by the guard of package drives. What was opened is closed there when that connection ends; "closed" waits
// for it, and reports how it went.
package elevated

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"

	"polytome/internal/drives"
)

// A request is what the helper is to do with its drive.
type request struct {
	Do      string          `json:"do"`           // look, read, open, closed, eject or unmount
	ID      int             `json:"id,omitempty"` // of what was opened, for closed
	Shown   drives.Identity `json:"shown,omitzero"`
	Purpose drives.Purpose  `json:"purpose,omitempty"`
	Consent drives.Consent  `json:"consent,omitzero"`
}

// An answer is what became of it.
type answer struct {
	ID      int                  `json:"id,omitempty"` // of what was opened
	Drive   *drives.Drive        `json:"drive,omitempty"`
	Is      drives.Identity      `json:"is,omitzero"`
	Release *drives.Release      `json:"release,omitempty"`
	Refused *drives.RefusedError `json:"refused,omitempty"`
	Busy    *drives.BusyError    `json:"busy,omitempty"`
	Error   string               `json:"error,omitempty"`
}

// failed takes an error into an answer.
func failed(err error) answer {
	var refused *drives.RefusedError
	var busy *drives.BusyError
	switch {
	case errors.As(err, &refused):
		return answer{Refused: refused}
	case errors.As(err, &busy):
		return answer{Busy: busy}
	}
	return answer{Error: err.Error()}
}

// err is the error that an answer has.
func (a *answer) err() error {
	switch {
	case a.Refused != nil:
		return a.Refused
	case a.Busy != nil:
		return a.Busy
	case a.Error != "":
		return errors.New(a.Error)
	}
	return nil
}

// mostLine is how long a line may be, in bytes.
const mostLine = 128 << 10

// send writes a value as a line.
func send(conn net.Conn, v any) error {
	b, err := json.Marshal(v)
	if err != nil {
		return err
	}
	_, err = conn.Write(append(b, '\n'))
	return err
}

// receive reads a value from a line, and nothing behind it: what follows is another protocol's.
func receive(conn io.Reader, v any) error {
	var line []byte
	var b [1]byte
	for {
		if _, err := io.ReadFull(conn, b[:]); err != nil {
			return err
		}
		if b[0] == '\n' {
			break
		}
		if line = append(line, b[0]); len(line) > mostLine {
			return errors.New("the other side of the helper's pipe does not keep to the protocol")
		}
	}
	if err := json.Unmarshal(line, v); err != nil {
		return fmt.Errorf("the other side of the helper's pipe does not keep to the protocol: %w", err)
	}
	return nil
}
