package ftp_test

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"net"
	"runtime"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/target/ftp"
	"polytome/internal/target/remote"
	"polytome/internal/testkit/judge"
)

// hostile is a server that answers commands as a function says; an answer may go on for ever.
func hostile(t *testing.T, banner func(w io.Writer), answer func(c net.Conn, command string,
	data func() net.Conn)) remote.Address {
	port := judge.Listen(t, func(c net.Conn) {
		defer c.Close()
		var passive net.Listener
		banner(c)
		for in := bufio.NewScanner(c); in.Scan(); {
			verb, _, _ := strings.Cut(in.Text(), " ")
			switch verb {
			case "USER":
				fmt.Fprint(c, "230 come in\r\n")
			case "TYPE", "OPTS":
				fmt.Fprint(c, "200 yes\r\n")
			case "FEAT":
				fmt.Fprint(c, "500 no\r\n")
			case "EPSV":
				var err error
				if passive, err = net.Listen("tcp", "127.0.0.1:0"); err != nil {
					return
				}
				fmt.Fprintf(c, "229 there (|||%d|)\r\n", passive.Addr().(*net.TCPAddr).Port)
			default:
				answer(c, in.Text(), func() net.Conn {
					d, err := passive.Accept()
					_ = passive.Close()
					if err != nil {
						return nil
					}
					return d
				})
			}
		}
	})
	return remote.Address{Host: "127.0.0.1", Port: port}
}

func welcome(w io.Writer) { fmt.Fprint(w, "220 hello\r\n") }

// no says nothing.
func no(net.Conn, string, func() net.Conn) {}

// endless writes for as long as someone reads.
func endless(w io.Writer, text string) {
	for {
		if _, err := io.WriteString(w, text); err != nil {
			return
		}
	}
}

// listing answers LIST with what a function writes, and everything else with a refusal.
func listing(write func(d io.Writer, dir string)) func(net.Conn, string, func() net.Conn) {
	return func(c net.Conn, command string, data func() net.Conn) {
		dir, is := strings.CutPrefix(command, "LIST ")
		if !is {
			fmt.Fprint(c, "502 no\r\n")
			return
		}
		fmt.Fprint(c, "150 here it comes\r\n")
		d := data()
		if d == nil {
			return
		}
		write(d, dir)
		_ = d.Close()
		fmt.Fprint(c, "226 that was it\r\n")
	}
}

// taken is how much memory is taken beyond what was, while something goes on.
func taken(do func()) int64 {
	var before, now runtime.MemStats
	runtime.GC()
	runtime.ReadMemStats(&before)
	var most atomic.Int64
	stop, ended := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(ended)
		for {
			runtime.ReadMemStats(&now)
			most.Store(max(most.Load(), int64(now.HeapInuse)-int64(before.HeapInuse)))
			select {
			case <-stop:
				return
			case <-time.After(5 * time.Millisecond):
			}
		}
	}()
	do()
	close(stop)
	<-ended
	return most.Load()
}

func TestServersThatNeverEnd(t *testing.T) {
	for _, x := range []struct {
		name   string
		banner func(io.Writer)
		answer func(net.Conn, string, func() net.Conn)
		say    string
	}{
		{"a banner", func(w io.Writer) { endless(w, "220-"+strings.Repeat("hello ", 50)+"\r\n") }, no,
			"the server's answer does not end"},
		{"a line", func(w io.Writer) { endless(w, strings.Repeat("220", 1000)) }, no,
			"the server's answer does not end"},
		{"an answer", welcome, func(c net.Conn, _ string, _ func() net.Conn) { endless(c, "250-and more\r\n") },
			"the server's answer does not end"},
		{"a listing", welcome, listing(func(d io.Writer, _ string) {
			endless(d, strings.Repeat("-rw-r--r-- 1 a a 100 Jan 1 2020 a long name of a file.iso\r\n", 1000))
		}), "the listing of one folder does not end"},
		{"a line of a listing", welcome,
			listing(func(d io.Writer, _ string) { endless(d, strings.Repeat("-rw-r--r--", 1000)) }),
			"a line of more than 16384 bytes"},
	} {
		t.Run(x.name, func(t *testing.T) {
			at := hostile(t, x.banner, x.answer)
			var err error
			most := taken(func() {
				var p *ftp.Target
				if p, err = ftp.Open(t.Context(), at, remote.Settings{}); err == nil {
					_, err = p.List(t.Context(), nil)
					_ = p.Close()
				}
			})
			require.Error(t, err)
			assert.Contains(t, err.Error(), x.say)
			assert.NotContains(t, err.Error(), "bufio")
			assert.Less(t, most, int64(700<<20))
		})
	}
}

// TestAServerWithFoldersInFoldersForEver: it is left where no console has folders any longer, and the rest is listed.
func TestAServerWithFoldersInFoldersForEver(t *testing.T) {
	at := hostile(t, welcome, listing(func(d io.Writer, dir string) {
		fmt.Fprint(d, "drwxr-xr-x 1 a a 0 Jan 1 2020 deep\r\n")
		if !strings.Contains(dir, "deep") {
			fmt.Fprint(d, "-rw-r--r-- 1 a a 100 Jan 1 2020 game.iso\r\n")
		}
	}))
	p, err := ftp.Open(t.Context(), at, remote.Settings{})
	require.NoError(t, err)
	defer p.Close()
	var problems []string
	all, err := p.List(t.Context(), func(_ string, err error) { problems = append(problems, err.Error()) })
	require.NoError(t, err)
	require.Len(t, problems, 1)
	assert.Contains(t, problems[0], "folders deep, so it is not read")
	assert.Less(t, len(all), 100)
	assert.Equal(t, "game.iso", all[len(all)-1].Path)
}

// TestWaitingForASilentServerCanBeStopped: wherever it falls silent, stopping takes no second.
func TestWaitingForASilentServerCanBeStopped(t *testing.T) {
	silent := func(io.Writer) {}
	quiet := make(chan struct{})
	t.Cleanup(func() { close(quiet) })
	for _, x := range []struct {
		name   string
		banner func(io.Writer)
		answer func(net.Conn, string, func() net.Conn)
	}{
		{"at the beginning", silent, no},
		{"when it is asked", welcome, no},
		{"in a listing", welcome, listing(func(d io.Writer, _ string) { fmt.Fprint(d, "-rw-r--r-- 1 a a "); <-quiet })},
		{"at closing", welcome, listing(func(io.Writer, string) {})},
	} {
		t.Run(x.name, func(t *testing.T) {
			at := hostile(t, x.banner, x.answer)
			ctx, cancel := context.WithCancel(t.Context())
			ended := make(chan time.Time)
			go func() {
				if p, err := ftp.Open(ctx, at, remote.Settings{Timeout: 10 * time.Minute}); err == nil {
					_, _ = p.List(ctx, nil)
					_ = p.Close()
				}
				ended <- time.Now()
			}()
			time.AfterFunc(200*time.Millisecond, cancel)
			select {
			case <-ended:
			case <-time.After(time.Minute):
				t.Fatal("it waits on")
			}
		})
	}
}
