package remote_test

import (
	"context"
	"errors"
	"net"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/target"
	"polytome/internal/target/remote"
)

func TestLoginErrorsNameNoPassword(t *testing.T) {
	a := remote.Address{Scheme: "smb", Host: "box", Root: "games"}
	nobody := &remote.LoginError{Address: a, Err: errors.New("no")}
	assert.ErrorContains(t, nobody, "as in smb://user@box/games")
	assert.ErrorIs(t, nobody, target.ErrReadOnly)
	assert.ErrorContains(t, &remote.LoginError{Address: a, User: "odile", Given: true, Err: errors.New("no")},
		"box refuses odile: the")
	assert.EqualError(t, &remote.LoginError{Address: a, User: "odile", Err: errors.New("no")},
		"box needs the password of odile", "none was given that could be wrong")
}

// pair are both ends of a connection on the loopback.
func pair(t *testing.T) (a, b net.Conn) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	a, err = net.Dial("tcp", l.Addr().String())
	require.NoError(t, err)
	b, err = l.Accept()
	require.NoError(t, err)
	t.Cleanup(func() { a.Close(); b.Close() })
	return a, b
}

func TestConnectionsDoNotStall(t *testing.T) {
	a, _ := pair(t)
	d := &remote.Deadlined{Conn: a, Limit: 30 * time.Millisecond}
	_, err := d.Read(make([]byte, 1))
	var ne net.Error
	require.ErrorAs(t, err, &ne)
	assert.True(t, ne.Timeout())

	a, b := pair(t)
	w := remote.Watch(t.Context(), a, 60*time.Millisecond)
	read := make(chan error, 1)
	go func() {
		for {
			if _, err := w.Read(make([]byte, 1)); err != nil {
				read <- err
				return
			}
		}
	}()
	time.Sleep(200 * time.Millisecond)
	assert.False(t, w.Stalled(), "nothing is waited for")
	done := w.Wait()
	for range 6 { // what comes slowly comes all the same
		time.Sleep(25 * time.Millisecond)
		_, err := b.Write([]byte("x"))
		require.NoError(t, err)
	}
	assert.False(t, w.Stalled())
	done()
	w.Wait()
	assert.Error(t, <-read)
	assert.True(t, w.Stalled())

	a, _ = pair(t)
	ctx, cancel := context.WithCancel(t.Context())
	w = remote.Watch(ctx, a, 10*time.Millisecond)
	cancel()
	w.Wait()
	time.Sleep(50 * time.Millisecond)
	assert.False(t, w.Stalled(), "nobody watches any more")
}

func TestUnreachable(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	port := l.Addr().(*net.TCPAddr).Port
	l.Close()
	_, err = net.Dial("tcp", l.Addr().String())
	say := remote.Unreachable("127.0.0.1", port, "SMB server", err)
	assert.ErrorIs(t, say, target.ErrGone)
	assert.ErrorContains(t, say, "127.0.0.1 is on, but no SMB server answers on port")
	assert.ErrorContains(t, remote.Unreachable("box", 21, "FTP server", &net.DNSError{}),
		"no computer or console is named box")
	assert.NoError(t, remote.Unreachable("box", 21, "FTP server", errors.New("other")))
}

func TestTheStampReportsWhatChanged(t *testing.T) {
	now := time.Now()
	there := []target.Entry{{Path: "a", Folder: true, Modified: now}, {Path: "b.iso", Size: 5, Modified: now}}
	list := func(dir string) ([]target.Entry, error) {
		if dir == "a" {
			return []target.Entry{{Path: "a/c", Size: 1, Modified: now}}, nil
		}
		return []target.Entry{there[1], there[0]}, nil // in any order
	}
	stamp := func() string {
		s, err := remote.Stamp(there, list)
		require.NoError(t, err)
		return s
	}
	first := stamp()
	there[0].Modified = now.Add(time.Hour)
	assert.Equal(t, first, stamp(), "the date of a folder says nothing")
	there[1].Size++
	assert.NotEqual(t, first, stamp())
	there[1].Size--
	there[1].Modified = now.Add(time.Hour)
	assert.NotEqual(t, first, stamp())
	_, err := remote.Stamp(there, func(string) ([]target.Entry, error) { return nil, target.ErrGone })
	assert.ErrorIs(t, err, target.ErrGone)
}
