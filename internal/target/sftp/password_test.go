package sftp_test

import (
	"crypto/ed25519"
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"

	pkgsftp "github.com/pkg/sftp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"polytome/internal/target"
	"polytome/internal/target/remote"
	"polytome/internal/target/sftp"
	"polytome/internal/testkit/judge"
	"polytome/internal/testkit/targettest"
)

const user, password = "odile", "harbour-light"

// plainServer is an SSH server that asks for a password, in one of two ways. Without files it has no SFTP.
func plainServer(t *testing.T, interactive, files bool) remote.Address {
	_, private, err := ed25519.GenerateKey(nil)
	require.NoError(t, err)
	key, err := ssh.NewSignerFromKey(private)
	require.NoError(t, err)
	right := func(name, word string) (*ssh.Permissions, error) {
		if name != user || word != password {
			return nil, errors.New("wrong")
		}
		return nil, nil
	}
	c := &ssh.ServerConfig{}
	if interactive {
		c.KeyboardInteractiveCallback = func(m ssh.ConnMetadata, ask ssh.KeyboardInteractiveChallenge) (*ssh.Permissions,
			error) {
			answers, err := ask("", "", []string{"Word: "}, []bool{false})
			if err != nil || len(answers) != 1 {
				return nil, errors.New("no answer")
			}
			return right(m.User(), answers[0])
		}
	} else {
		c.PasswordCallback = func(m ssh.ConnMetadata, word []byte) (*ssh.Permissions, error) {
			return right(m.User(), string(word))
		}
	}
	c.AddHostKey(key)
	port := judge.Listen(t, func(conn net.Conn) {
		defer conn.Close()
		_, channels, requests, err := ssh.NewServerConn(conn, c)
		if err != nil {
			return
		}
		go ssh.DiscardRequests(requests)
		for channel := range channels {
			ch, requests, err := channel.Accept()
			if err != nil {
				return
			}
			go func() {
				for r := range requests {
					ok := files && r.Type == "subsystem" && strings.HasSuffix(string(r.Payload), "sftp")
					_ = r.Reply(ok, nil)
					if !ok {
						continue
					}
					s, err := pkgsftp.NewServer(ch)
					if err == nil {
						_ = s.Serve()
					}
					_ = ch.Close()
				}
			}()
		}
	})
	return remote.Address{Scheme: "sftp", Host: "127.0.0.1", Port: port, User: user}
}

// onlyTheDraft has servers of this process know no extensions.
func onlyTheDraft(t *testing.T) {
	require.NoError(t, pkgsftp.SetSFTPExtensions())
	t.Cleanup(func() {
		require.NoError(t, pkgsftp.SetSFTPExtensions("hardlink@openssh.com", "posix-rename@openssh.com",
			"statvfs@openssh.com"))
	})
}

func TestConformanceWithoutExtensions(t *testing.T) {
	onlyTheDraft(t)
	at := plainServer(t, false, true)
	o := accepted(t, at)
	o.Password = password
	targettest.Run(t, func(t *testing.T) target.Target {
		a := at
		a.Root = strings.Trim(t.TempDir(), "/")
		p, err := sftp.Open(ctx, a, o)
		require.NoError(t, err)
		return p
	})
	a := at
	a.Root = strings.Trim(t.TempDir(), "/")
	p, err := sftp.Open(ctx, a, o)
	require.NoError(t, err)
	defer p.Close()
	f, err := p.Facts(ctx, nil)
	require.NoError(t, err)
	assert.True(t, f.Unknown, "nobody reports how much space there is")
	assert.Equal(t, "not reported", f.Space(f.Free))
	r, err := p.Try(ctx)
	require.NoError(t, err)
	assert.False(t, r.Flushes)
	assert.Zero(t, r.Capacity)
	assert.True(t, r.Resumes)
}

func TestPasswords(t *testing.T) {
	t.Setenv("HOME", t.TempDir())
	t.Setenv("SSH_AUTH_SOCK", "")
	for _, interactive := range []bool{false, true} {
		t.Run(fmt.Sprintf("interactive %t", interactive), func(t *testing.T) {
			at := plainServer(t, interactive, true)
			o := accepted(t, at)
			_, err := sftp.Open(ctx, at, o)
			var denied *remote.LoginError
			require.ErrorAs(t, err, &denied)
			assert.False(t, denied.Given)
			assert.EqualError(t, err, "127.0.0.1 needs the password of odile")
			o.Password = "secret-word"
			_, err = sftp.Open(ctx, at, o)
			require.ErrorAs(t, err, &denied)
			assert.True(t, denied.Given)
			assert.EqualError(t, err, "127.0.0.1 refuses odile: the user name or the password is wrong")
			o.Password = password
			p, err := sftp.Open(ctx, at, o)
			require.NoError(t, err)
			assert.NoError(t, p.Close())
		})
	}
	none := plainServer(t, false, false)
	o := accepted(t, none)
	o.Password = password
	_, err := sftp.Open(ctx, none, o)
	assert.ErrorContains(t, err, "lets odile in over SSH, but has no SFTP")
	assert.ErrorIs(t, err, target.ErrReadOnly)
}

// TestAFullDisk has a server that says nothing but that writing failed.
func TestAFullDisk(t *testing.T) {
	small := judge.Mount(t, "size=4m")
	at := plainServer(t, false, true)
	at.Root = strings.Trim(small, "/")
	o := accepted(t, at)
	o.Password = password
	p, err := sftp.Open(ctx, at, o)
	require.NoError(t, err)
	defer p.Close()
	w, err := p.Create(ctx, "a.iso", 8<<20)
	require.NoError(t, err)
	_, err = w.Write(make([]byte, 8<<20))
	if err == nil {
		err = w.Flush()
	}
	assert.ErrorIs(t, err, target.ErrNoSpace)
	require.NoError(t, w.Abort())
	left, err := os.ReadDir(small)
	require.NoError(t, err)
	assert.Empty(t, left)
	w, err = p.Create(ctx, "b.iso", 1<<20)
	require.NoError(t, err)
	_, err = w.Write(make([]byte, 1<<20))
	require.NoError(t, err)
	require.NoError(t, w.Commit())
	assert.FileExists(t, filepath.Join(small, "b.iso"))
}
