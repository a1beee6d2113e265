package ftp

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/textproto"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"

	"github.com/jlaffaye/ftp"
)

// traits are what was found out of a server by trying, so that it is tried once. The zero value knows nothing.
type traits struct {
	noRestart   atomic.Bool  // it does not begin in the middle of a file when reading (REST, RETR)
	noOverwrite atomic.Bool  // nor when writing (REST, STOR)
	noAppend    atomic.Bool  // nor does it write behind what is there (APPE)
	noSize      atomic.Bool  // it does not tell the length of a file (SIZE)
	noAllocate  atomic.Bool  // it is not reported beforehand how long a file gets (ALLO)
	noSpace     atomic.Bool  // it does not report how much space is left (AVBL)
	noRename    atomic.Bool  // files do not get other names (RNFR, RNTO)
	renames     atomic.Bool  // they do
	inOneGo     atomic.Bool  // commands may be given before the last one was answered
	noSetTime   atomic.Bool  // the date of a file is not set by MFMT
	trying      sync.Mutex   // held while that is found out
	connections atomic.Int32 // how many it bears; 0 for not known
}

var (
	knownMu sync.Mutex
	known   = map[string]*traits{}
)

// traitsOf are those of a server, also from other targets on it.
func traitsOf(host string, port int) *traits {
	knownMu.Lock()
	defer knownMu.Unlock()
	key := net.JoinHostPort(host, strconv.Itoa(port))
	t := known[key]
	if t == nil {
		t = &traits{}
		known[key] = t
	}
	return t
}

// Forget forgets what was found out of servers, as when another console has an address.
func Forget() {
	knownMu.Lock()
	clear(known)
	knownMu.Unlock()
}

// unknown reports whether a server says that it does not know a command, or not so (RFC 959, 4.2).
func unknown(err error) bool {
	var te *textproto.Error
	return errors.As(err, &te) && (te.Code == ftp.StatusBadCommand || te.Code == ftp.StatusNotImplemented ||
		te.Code == ftp.StatusBadArguments || te.Code == ftp.StatusNotImplementedParameter)
}

// space is how much is left on the volume, where the server tells (AVBL,
// draft-peterson-streamlined-ftp-command-extensions).
func (p *Target) space(ctx context.Context) (left int64, reported bool, err error) {
	if p.traits.noSpace.Load() || p.secure() {
		return 0, false, nil
	}
	err = p.do(ctx, "asking for the space of", ".", true, func(s *session) error {
		code, say, err := s.ask("AVBL " + p.full("."))
		if err != nil {
			return err
		}
		n, bad := strconv.ParseInt(strings.TrimSpace(say), 10, 64)
		left, reported = n, code == ftp.StatusFile && bad == nil
		return nil
	})
	if err == nil && !reported {
		p.traits.noSpace.Store(true)
	}
	return left, reported, err
}

// allocate tells a server how long a file gets (ALLO, RFC 959, 4.1.3), so that one without space for it says so before
// it is sent.
func (p *Target) allocate(s *session, size int64) error {
	if size == 0 || p.traits.noAllocate.Load() || !s.plain {
		return nil
	}
	code, say, err := s.ask(fmt.Sprintf("ALLO %d", size))
	switch {
	case err != nil:
		return err
	case code == ftp.StatusExceededStorage || code == 452:
		return &textproto.Error{Code: code, Msg: say}
	case code >= 500:
		p.traits.noAllocate.Store(true)
	}
	return nil
}
