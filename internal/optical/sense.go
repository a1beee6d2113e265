package optical

import (
	"encoding/binary"
	"fmt"
)

// A Sense is why a drive did not do what it was asked to (SPC-4, 4.5).
type Sense struct {
	Key       Key
	ASC, ASCQ byte   // additional sense code, and its qualifier
	Info      uint64 // a block, where the drive names one
	HasInfo   bool
}

// Key is the kind of a sense (SPC-4, table 48).
type Key byte

// The keys that matter to a reader or writer of discs.
const (
	Recovered      Key = 1 // it was done, with effort
	NotReady       Key = 2
	MediumError    Key = 3
	HardwareError  Key = 4
	IllegalRequest Key = 5
	UnitAttention  Key = 6 // something else has changed, such as the disc; the command is to be sent again
	DataProtect    Key = 7
	BlankCheck     Key = 8 // there is nothing there
	Aborted        Key = 11
)

// ParseSense reads sense data of the fixed (70h, 71h) and of the descriptor format (72h, 73h); ok is false for others.
func ParseSense(b []byte) (s *Sense, ok bool) {
	if len(b) < 8 {
		return nil, false
	}
	switch b[0] & 0x7F {
	case 0x70, 0x71:
		s = &Sense{Key: Key(b[2] & 0x0F), HasInfo: b[0]&0x80 != 0, Info: uint64(binary.BigEndian.Uint32(b[3:]))}
		if len(b) >= 14 {
			s.ASC, s.ASCQ = b[12], b[13]
		}
	case 0x72, 0x73:
		s = &Sense{Key: Key(b[1] & 0x0F), ASC: b[2], ASCQ: b[3]}
		for rest := b[8:min(len(b), 8+int(b[7]))]; len(rest) >= 2 && len(rest) >= 2+int(rest[1]); {
			if rest[0] == 0 && rest[1] >= 10 { // the information descriptor
				s.HasInfo, s.Info = rest[2]&0x80 != 0, binary.BigEndian.Uint64(rest[4:])
			}
			rest = rest[2+int(rest[1]):]
		}
	default:
		return nil, false
	}
	return s, true
}

// says are sentences for what drives answer: by key, additional sense code and qualifier; a qualifier of -1 holds for
// those that are not listed.
var says = []struct {
	key       Key
	asc, ascq int
	say       string
}{
	{NotReady, 0x04, 0x01, "the drive is still looking at the disc"},
	{NotReady, 0x04, 0x04, "the disc is being formatted"},
	{NotReady, 0x04, 0x07, "the drive is still busy with what it was asked before"},
	{NotReady, 0x04, 0x08, "the drive is still writing"},
	{NotReady, 0x04, -1, "the drive is not ready"},
	{NotReady, 0x30, -1, "the disc is of a kind that the drive does not read"},
	{NotReady, 0x3A, 0x01, "there is no disc in the drive"},
	{NotReady, 0x3A, 0x02, "the tray is open"},
	{NotReady, 0x3A, -1, "there is no disc in the drive"},
	{NotReady, 0x3E, -1, "the drive has not started yet"},
	{MediumError, 0x02, -1, "the drive does not find the spot: the disc is dirty, scratched or was not finished"},
	{MediumError, 0x03, -1, "the drive could not write there"},
	{MediumError, 0x0C, 0x09, "the data came too slowly, and the drive could not pause"},
	{MediumError, 0x0C, -1, "the drive could not write there"},
	{MediumError, 0x11, -1, "the drive cannot read that spot"},
	{MediumError, 0x15, -1, "the drive does not find the spot: the disc is dirty, scratched or was not finished"},
	{MediumError, 0x57, -1, "the drive cannot read the table of contents: the disc is damaged or was not finished"},
	{MediumError, 0x72, -1, "the session could not be finished"},
	{MediumError, 0x73, 0x03, "the laser could not be adjusted to this disc: try one of another make"},
	{MediumError, 0x73, -1, "the disc could not be written to: try one of another make"},
	{HardwareError, 0x09, -1, "the laser does not follow the track: the drive or the disc is at fault"},
	{HardwareError, 0x15, -1, "the drive does not find the spot"},
	{HardwareError, -1, -1, "the drive itself has failed"},
	{IllegalRequest, 0x20, -1, "the drive does not know this command"},
	{IllegalRequest, 0x21, -1, "that lies behind the end of the disc"},
	{IllegalRequest, 0x24, -1, "the drive does not know this form of the command"},
	{IllegalRequest, 0x26, -1, "the drive does not take this setting"},
	{IllegalRequest, 0x2C, -1, "the drive expects other commands first"},
	{IllegalRequest, 0x30, 0x05, "this disc cannot be written to"},
	{IllegalRequest, 0x30, 0x10, "this disc cannot be written to: it was finished"},
	{IllegalRequest, 0x30, -1, "the disc is of the wrong kind for that"},
	{IllegalRequest, 0x53, 0x02, "the tray is locked by another program"},
	{IllegalRequest, 0x55, -1, "the drive has no room for that now"},
	{IllegalRequest, 0x63, -1, "the disc is full"},
	{IllegalRequest, 0x64, -1, "that track is of another kind"},
	{IllegalRequest, 0x6F, -1, "the disc is protected, and the drive does not give that"},
	{IllegalRequest, 0x72, -1, "the disc takes no further session"},
	{UnitAttention, 0x28, -1, "another disc was put in"},
	{UnitAttention, 0x29, -1, "the drive was reset"},
	{UnitAttention, 0x2E, -1, "the drive was about to be switched off"},
	{UnitAttention, -1, -1, "something at the drive has changed"},
	{DataProtect, -1, -1, "the disc is protected against writing"},
	{BlankCheck, -1, -1, "there is nothing on this part of the disc"},
	{Aborted, -1, -1, "the drive gave up"},
	{Recovered, -1, -1, "the drive needed several tries"},
}

// Error says in a clause what is the matter.
func (s *Sense) Error() string {
	for _, x := range says {
		if x.key == s.Key && (x.asc < 0 || x.asc == int(s.ASC)) && (x.ascq < 0 || x.ascq == int(s.ASCQ)) {
			if s.Key == MediumError && s.HasInfo {
				return fmt.Sprintf("%s (block %d)", x.say, s.Info)
			}
			return x.say
		}
	}
	return fmt.Sprintf("the drive answers with sense %X/%02X/%02X", byte(s.Key), s.ASC, s.ASCQ)
}

// NoDisc reports whether there is none in the drive, or the tray is open.
func (s *Sense) NoDisc() bool { return s.Key == NotReady && s.ASC == 0x3A }

// Soon reports whether the drive will be ready after a while.
func (s *Sense) Soon() bool {
	return s.Key == NotReady && (s.ASC == 0x04 && s.ASCQ != 0x02 && s.ASCQ != 0x03 || s.ASC == 0x3E)
}

// Unread reports whether a spot of the disc could not be read: others can be.
func (s *Sense) Unread() bool {
	return s.Key == MediumError || s.Key == BlankCheck || s.Key == HardwareError && (s.ASC == 0x09 || s.ASC == 0x15) ||
		s.Key == IllegalRequest && s.ASC == 0x64
}

// Unknown reports whether the drive lacks the command, or this form of it: it may be asked otherwise.
func (s *Sense) Unknown() bool {
	return s.Key == IllegalRequest && (s.ASC == 0x20 || s.ASC == 0x24 || s.ASC == 0x26)
}
