package smb

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"os"

	smb2 "github.com/cloudsoda/go-smb2"

	"polytome/internal/target"
	"polytome/internal/target/remote"
)

// Statuses of servers on which something is decided ([MS-ERREF] 2.3.1).
const (
	statusSharing        = 0xC0000043 // someone else has the file open
	statusNameInvalid    = 0xC0000033
	statusLogon          = 0xC000006D
	statusRestricted     = 0xC000006E
	statusExpired        = 0xC0000071
	statusDisabled       = 0xC0000072
	statusFull           = 0xC000007F
	statusWriteProtected = 0xC00000A2
	statusPathNotFound   = 0xC000003A
	statusNoShare        = 0xC00000CC
	statusShareGone      = 0xC00000C9
	statusQuota          = 0xC0000044
	statusNotEmpty       = 0xC0000101
	statusDirectory      = 0xC00000BA
	statusLocked         = 0xC0000234
	statusSessionGone    = 0xC0000203
	statusSessionOld     = 0xC000035C
	statusFileClosed     = 0xC0000128
	statusDeletePending  = 0xC0000056
	statusResources      = 0xC000009A
)

// denials say that the name or the password is wrong, or may not be used.
var denials = []uint32{statusLogon, statusRestricted, statusExpired, statusDisabled, statusLocked}

// words are what the statuses mean.
var words = map[uint32]string{
	statusSharing: "another program has it open", statusNameInvalid: "the share does not allow that name",
	statusLogon:      "the name or the password is wrong",
	statusRestricted: "the account may not log in like this", statusExpired: "the password has expired",
	statusDisabled: "the account is disabled", statusLocked: "the account is locked",
	statusFull: "there is no space left on it", statusQuota: "there is no space left for this user",
	statusWriteProtected: "it is write-protected", statusNoShare: "no such share",
	statusShareGone: "the share is gone", statusNotEmpty: "the folder is not empty", statusDirectory: "it is a folder",
	statusSessionGone: "the server has ended the session", statusSessionOld: "the server has ended the session",
	statusFileClosed: "the server has closed the file", statusDeletePending: "it is being deleted",
	statusResources: "the server is overloaded",
}

// wordy puts a status into words.
func wordy(err error) error {
	var re *smb2.ResponseError
	if errors.As(err, &re) {
		if say, ok := words[re.Code]; ok {
			return errors.New(say)
		}
		return re
	}
	return err
}

// Classify adds the typed error that a run decides on to what a server said.
func (s *server) Classify(err error) error {
	var pe *fs.PathError
	var le *os.LinkError
	if errors.As(err, &pe) {
		err = pe.Err // the path is said once, whole
	} else if errors.As(err, &le) {
		err = le.Err
	}
	var re *smb2.ResponseError
	var te *smb2.TransportError
	var ne net.Error
	if errors.As(err, &re) {
		kind := error(nil)
		switch re.Code {
		case statusFull, statusQuota:
			kind = target.ErrNoSpace
		case statusWriteProtected:
			kind = target.ErrReadOnly
		case statusShareGone, statusSessionGone, statusSessionOld, statusFileClosed, statusNoShare:
			kind = target.ErrGone
		case statusSharing, statusDeletePending, statusResources:
			kind = target.ErrBusy
		case statusPathNotFound:
			return fs.ErrNotExist
		}
		if kind != nil {
			return fmt.Errorf("%w: %w", kind, wordy(err))
		}
		return wordy(err)
	}
	if wrong := s.frames.wrong.Load(); wrong != nil {
		return fmt.Errorf("%s is not a usable SMB server: %w", s.addr.Host, wrong)
	}
	switch {
	case errors.Is(err, context.Canceled), errors.Is(err, target.ErrExists), errors.Is(err, target.ErrGone),
		errors.Is(err, target.ErrReadOnly), errors.Is(err, target.ErrNoSpace):
		return err
	case errors.Is(err, os.ErrPermission):
		return fmt.Errorf("%w: this user has no permission", target.ErrReadOnly)
	case errors.Is(err, os.ErrExist):
		return fmt.Errorf("%w (%w)", target.ErrExists, err)
	case s.conn.Stalled():
		return fmt.Errorf("%w: %s does not respond any more", target.ErrGone, s.addr.Host)
	case errors.As(err, &te), errors.As(err, &ne), errors.Is(err, net.ErrClosed), errors.Is(err, io.EOF),
		errors.Is(err, io.ErrUnexpectedEOF):
		return fmt.Errorf("%w: the connection to %s was interrupted%s", target.ErrGone, s.addr.Host, remote.Said(err))
	}
	return err
}
