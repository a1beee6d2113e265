package smb_test

import (
	"context"
	"net"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/target/remote"
	"polytome/internal/target/smb"
	"polytome/internal/testkit/judge"
)

// speaker is what takes connections and says something, whatever it is reported.
func speaker(t *testing.T, say func(net.Conn)) remote.Address {
	port := judge.Listen(t, func(c net.Conn) {
		defer c.Close()
		say(c)
	})
	return remote.Address{Host: "127.0.0.1", Port: port, Root: "games"}
}

func TestServersThatSendNonsense(t *testing.T) {
	for _, x := range []struct {
		name, bytes, say string
	}{
		{"empty messages", "\x00\x00\x00\x00", "it sends an invalid message of 0 bytes"},
		{"a huge message", "\x00\xff\xff\xff", "it sends a message of 16.00 MiB"},
		{"something else", "220 hello\r\n", "it does not speak SMB"},
	} {
		t.Run(x.name, func(t *testing.T) {
			at := speaker(t, func(c net.Conn) {
				for {
					if _, err := c.Write([]byte(x.bytes)); err != nil {
						return
					}
				}
			})
			_, err := smb.Open(t.Context(), at, remote.Settings{Timeout: 10 * time.Minute})
			require.Error(t, err)
			assert.Contains(t, err.Error(), x.say)
			assert.NotContains(t, err.Error(), "use of closed")
		})
	}
}

func TestWaitingForASilentServerCanBeStopped(t *testing.T) {
	quiet := make(chan struct{})
	t.Cleanup(func() { close(quiet) })
	for name, say := range map[string]string{"at the beginning": "", "in a message": "\x00\x00\x10\x00\xfeSMB"} {
		t.Run(name, func(t *testing.T) {
			at := speaker(t, func(c net.Conn) { _, _ = c.Write([]byte(say)); <-quiet })
			ctx, cancel := context.WithCancel(t.Context())
			ended := make(chan error)
			go func() {
				_, err := smb.Open(ctx, at, remote.Settings{Timeout: 10 * time.Minute})
				ended <- err
			}()
			time.AfterFunc(200*time.Millisecond, cancel)
			select {
			case err := <-ended:
				assert.ErrorIs(t, err, context.Canceled)
			case <-time.After(time.Minute):
				t.Fatal("it waits on")
			}
		})
	}
}
