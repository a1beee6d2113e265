package nbd_test

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"math/rand"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/medium"
	"polytome/internal/nbd"
	"polytome/internal/testkit/judge"
	"polytome/internal/testkit/volumetest"
)

// noise is bytes that tell themselves apart.
func noise(seed int64, n int) []byte {
	b := make([]byte, n)
	_, _ = rand.New(rand.NewSource(seed)).Read(b)
	return b
}

// serve has our server serve exports on the loopback, and returns its address.
func serve(t testing.TB, s *nbd.Server) string {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(context.Background())
	ended := make(chan error, 1)
	go func() { ended <- s.Serve(ctx, l) }()
	t.Cleanup(func() {
		cancel()
		require.NoError(t, <-ended)
	})
	return l.Addr().String()
}

// disk is a medium in a file with some noise in it, and holes.
func disk(t testing.TB, size int64, data []byte) *medium.File {
	m := volumetest.NewFile(t, size)
	_, err := m.WriteAt(data, 1<<20)
	require.NoError(t, err)
	return m
}

func dial(t testing.TB, address, export string) *nbd.Client {
	c, err := nbd.Dial(t.Context(), address, export, nbd.Options{})
	require.NoError(t, err)
	t.Cleanup(func() { _ = c.Close() })
	return c
}

// exercise reads and writes as a volume does, and compares with what must be there.
func exercise(t *testing.T, c *nbd.Client, model []byte) {
	r := rand.New(rand.NewSource(7))
	for range 60 {
		off, n := r.Intn(len(model)), r.Intn(300_000)
		n = min(n, len(model)-off)
		switch r.Intn(4) {
		case 0:
			b := noise(r.Int63(), n)
			k, err := c.WriteAt(b, int64(off))
			require.NoError(t, err)
			require.Equal(t, n, k)
			copy(model[off:], b)
		case 1:
			require.NoError(t, c.Zero(int64(off), int64(n)))
			clear(model[off : off+n])
		case 2:
			require.NoError(t, c.Sync())
		default:
			b := make([]byte, n)
			k, err := c.ReadAt(b, int64(off))
			require.NoError(t, err)
			require.Equal(t, n, k)
			require.True(t, bytes.Equal(b, model[off:off+n]), "%d bytes at %d", n, off)
		}
	}
	whole := make([]byte, len(model)+10)
	n, err := c.ReadAt(whole, 0)
	assert.Equal(t, io.EOF, err)
	assert.True(t, bytes.Equal(model, whole[:n]))
	_, err = c.WriteAt([]byte("x"), c.Size())
	assert.Error(t, err)
	_, err = c.ReadAt(whole, c.Size())
	assert.Equal(t, io.EOF, err)
}

// TestOurClientWithTheirServers: qemu-nbd and nbdkit, slow, failing and in pieces.
func TestOurClientWithTheirServers(t *testing.T) {
	const size = 8 << 20
	start := func(t *testing.T, ready string, program string, args ...string) {
		cmd := exec.Command(program, args...)
		cmd.Stderr = os.Stderr
		require.NoError(t, cmd.Start())
		t.Cleanup(func() { _ = cmd.Process.Kill(); _ = cmd.Wait() })
		require.Eventually(t, func() bool {
			conn, err := net.Dial("tcp", ready)
			if err == nil {
				_ = conn.Close()
			}
			return err == nil
		}, time.Minute, 10*time.Millisecond)
	}
	port := func(t *testing.T) (string, string) {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		require.NoError(t, err)
		defer l.Close()
		_, p, _ := net.SplitHostPort(l.Addr().String())
		return l.Addr().String(), p
	}
	file := func(t *testing.T) string {
		name := filepath.Join(t.TempDir(), "disk.img")
		require.NoError(t, os.WriteFile(name, make([]byte, size), 0o600))
		return name
	}
	t.Run("qemu-nbd", func(t *testing.T) {
		address, p := port(t)
		start(t, address, "qemu-nbd", "--persistent", "--shared=4", "--format=raw", "--bind=127.0.0.1", "--port="+p,
			"--export-name=disk", file(t))
		names, err := nbd.List(t.Context(), address)
		require.NoError(t, err)
		assert.Equal(t, []string{"disk"}, names)
		_, err = nbd.Dial(t.Context(), address, "another", nbd.Options{})
		assert.ErrorIs(t, err, nbd.ErrNoExport)
		exercise(t, dial(t, address, "disk"), make([]byte, size))
	})
	t.Run("nbdkit", func(t *testing.T) {
		address, p := port(t)
		start(t, address, "nbdkit", "-f", "--ipaddr=127.0.0.1", "--port="+p, "--filter=delay", "memory",
			fmt.Sprint(size), "rdelay=1ms",
			"wdelay=1ms")
		exercise(t, dial(t, address, ""), make([]byte, size))
	})
	t.Run("nbdkit with simple replies and no zeroes", func(t *testing.T) {
		address, p := port(t)
		start(t, address, "nbdkit", "-f", "--ipaddr=127.0.0.1", "--port="+p, "--no-sr", "--filter=nozero", "memory",
			fmt.Sprint(size),
			"zeromode=none")
		exercise(t, dial(t, address, ""), make([]byte, size))
	})
	t.Run("read-only", func(t *testing.T) {
		address, p := port(t)
		start(t, address, "nbdkit", "-f", "-r", "--ipaddr=127.0.0.1", "--port="+p, "pattern", "64M")
		c := dial(t, address, "")
		assert.True(t, c.ReadOnly())
		_, err := c.WriteAt([]byte("x"), 0)
		assert.ErrorIs(t, err, nbd.ErrReadOnly)
		b := make([]byte, 5<<20)
		_, err = c.ReadAt(b, 1<<20)
		require.NoError(t, err)
		for at := 0; at < len(b); at += 8 {
			want := uint64(1<<20 + at)
			got := uint64(0)
			for _, x := range b[at : at+8] {
				got = got<<8 | uint64(x)
			}
			require.Equal(t, want, got)
		}
	})
	t.Run("errors", func(t *testing.T) {
		address, p := port(t)
		start(t, address, "nbdkit", "-f", "--ipaddr=127.0.0.1", "--port="+p, "--filter=error", "memory",
			fmt.Sprint(size), "error=EIO",
			"error-rate=100%")
		c := dial(t, address, "")
		_, err := c.ReadAt(make([]byte, 10), 0)
		assert.ErrorIs(t, err, nbd.EIO)
		_, err = c.ReadAt(make([]byte, 10), 5)
		assert.ErrorIs(t, err, nbd.EIO, "the connection is still there")
	})
}

// TestOurServerWithTheirClients: nbdinfo, nbdcopy both ways, and qemu.
func TestOurServerWithTheirClients(t *testing.T) {
	const size = 16 << 20
	data := noise(1, 3<<20)
	m := disk(t, size, data)
	address := serve(t, &nbd.Server{Exports: []*nbd.Export{
		{Name: "vesper-disk", Description: "the disk of a console", Size: size, Backend: m},
		{Name: "games", Size: size, ReadOnly: true, Backend: m}}})
	uri := "nbd://" + address + "/"
	var info struct {
		Exports []struct {
			Name     string `json:"export-name"`
			Size     int64  `json:"export-size"`
			ReadOnly bool   `json:"is_read_only"`
			Flush    bool   `json:"can_flush"`
			Zero     bool   `json:"can_zero"`
			Contexts []string
		}
	}
	require.NoError(t, json.Unmarshal([]byte(judge.Run(t, "nbdinfo", "--json", "--list", uri)), &info))
	require.Len(t, info.Exports, 2)
	assert.Equal(t, "vesper-disk", info.Exports[0].Name)
	assert.Equal(t, int64(size), info.Exports[0].Size)
	assert.True(t, info.Exports[0].Flush && info.Exports[0].Zero && !info.Exports[0].ReadOnly)
	assert.True(t, info.Exports[1].ReadOnly)
	assert.Equal(t, []string{"base:allocation"}, info.Exports[0].Contexts)
	runs := judge.Run(t, "nbdinfo", "--map", uri+"games")
	assert.Contains(t, runs, "hole,zero")

	dir := t.TempDir()
	judge.Run(t, "nbdcopy", uri+"games", filepath.Join(dir, "out.img"))
	want := make([]byte, size)
	copy(want[1<<20:], data)
	got, err := os.ReadFile(filepath.Join(dir, "out.img"))
	require.NoError(t, err)
	assert.True(t, bytes.Equal(want, got))
	other := noise(2, size)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "in.img"), other, 0o600))
	judge.Run(t, "nbdcopy", "--flush", filepath.Join(dir, "in.img"), uri+"vesper-disk")
	got = make([]byte, size)
	_, err = m.ReadAt(got, 0)
	require.NoError(t, err)
	assert.True(t, bytes.Equal(other, got))
	assert.Contains(t, judge.Run(t, "qemu-img", "compare", "-f", "raw", "-F", "raw", filepath.Join(dir, "in.img"),
		uri+"games"),
		"identical")
	assert.Contains(t, judge.Run(t, "qemu-io", "-f", "raw", "-c", "write -P 7 4096 65536", "-c", "flush", "-c",
		"write -z 8192 4096", "-c",
		"read -P 0 8192 4096", "-c", "discard 1M 1M", uri+"vesper-disk"), "65536/65536")
	out, err := judge.Try(t, "qemu-io", "-f", "raw", "-c", "write 0 512", uri+"games")
	assert.True(t, err != nil || strings.Contains(out, "read-only") || strings.Contains(out, "not permitted"), out)
}

// TestOneClientAtATime: a second one is refused until the first has gone, with that reason.
func TestOneClientAtATime(t *testing.T) {
	var mu sync.Mutex
	joined, left := 0, make(chan bool, 10)
	e := &nbd.Export{Name: "vesper-disk", Size: 1 << 20, Backend: &volumetest.Disk{B: make([]byte, 1<<20)}, Clients: 1}
	address := serve(t, &nbd.Server{Exports: []*nbd.Export{e}, Joined: func(net.Addr,
		*nbd.Export) {
		mu.Lock()
		joined++
		mu.Unlock()
	},
		Left: func(net.Addr, *nbd.Export) { left <- true }})
	c := dial(t, address, "vesper-disk")
	_, err := nbd.Dial(t.Context(), address, "vesper-disk", nbd.Options{})
	assert.ErrorIs(t, err, nbd.ErrBusy)
	require.NoError(t, c.Close())
	<-left
	c = dial(t, address, "vesper-disk")
	_, err = c.WriteAt([]byte("abc"), 100)
	require.NoError(t, err)
	b := make([]byte, 3)
	_, err = c.ReadAt(b, 100)
	require.NoError(t, err)
	assert.Equal(t, "abc", string(b))
	require.NoError(t, c.Close())
	_, err = c.ReadAt(b, 0)
	assert.ErrorIs(t, err, nbd.ErrGone)
	mu.Lock()
	defer mu.Unlock()
	assert.Equal(t, 2, joined)
}

// TestSeveralConnections: where a server takes several as one, pieces go over all of them, and each sees what went over
// the others; where it does not, there is one.
func TestSeveralConnections(t *testing.T) {
	var joined atomic.Int64
	const size = 12 << 20
	m := disk(t, size, noise(1, 3<<20))
	model := make([]byte, size)
	_, err := m.ReadAt(model, 0)
	require.NoError(t, err)
	at := serve(t, &nbd.Server{Exports: []*nbd.Export{{Name: "many", Size: size, Backend: m}, {Name: "one", Size: size,
		Backend: m, Clients: 1}}, Joined: func(net.Addr, *nbd.Export) { joined.Add(1) }})
	c, err := nbd.Open(t.Context(), "nbd://"+at+"/many", nbd.Options{})
	require.NoError(t, err)
	assert.Eventually(t, func() bool { return joined.Load() == 4 }, time.Minute, time.Millisecond)
	for range 3 {
		exercise(t, c, model)
		b := noise(9, 9<<20)
		_, err = c.WriteAt(b, 1<<20)
		require.NoError(t, err)
		copy(model[1<<20:], b)
		require.NoError(t, c.Sync())
	}
	require.NoError(t, c.Close())
	joined.Store(0)
	c, err = nbd.Open(t.Context(), "nbd://"+at+"/one", nbd.Options{})
	require.NoError(t, err)
	exercise(t, c, model)
	assert.EqualValues(t, 1, joined.Load())
	require.NoError(t, c.Close())

	port := judge.Port(t)
	cmd := exec.Command("nbdkit", "-f", "--ipaddr=127.0.0.1", fmt.Sprintf("--port=%d", port), "memory",
		fmt.Sprint(size))
	require.NoError(t, cmd.Start())
	t.Cleanup(func() { _ = cmd.Process.Kill(); _ = cmd.Wait() })
	require.Eventually(t, func() bool {
		c, err = nbd.Open(t.Context(), fmt.Sprintf("nbd://127.0.0.1:%d/", port), nbd.Options{})
		return err == nil
	}, time.Minute, 10*time.Millisecond)
	exercise(t, c, make([]byte, size))
	require.NoError(t, c.Close())
}

// TestServersThatLie: what greets with something else, answers garbage, says nothing or goes away ends with an error
// that says so, and never waits for ever.
func TestServersThatLie(t *testing.T) {
	listen := func(serve func(net.Conn)) string {
		return fmt.Sprintf("127.0.0.1:%d", judge.Listen(t, serve))
	}
	talk := func(b []byte) func(net.Conn) {
		return func(c net.Conn) {
			defer c.Close()
			_, _ = c.Write(b)
			_, _ = io.Copy(io.Discard, c)
		}
	}
	_, err := nbd.Dial(t.Context(), listen(talk([]byte("220 welcome to another service\r\n"))), "x", nbd.Options{})
	assert.ErrorIs(t, err, nbd.ErrProtocol)
	_, err = nbd.Dial(t.Context(), listen(func(c net.Conn) { _ = c.Close() }), "x", nbd.Options{})
	assert.Error(t, err)
	hello := []byte("NBDMAGICIHAVEOPT\x00\x03")
	_, err = nbd.Dial(t.Context(), listen(talk(append(hello, noise(1, 4000)...))), "x", nbd.Options{})
	assert.ErrorIs(t, err, nbd.ErrProtocol)
	ctx, cancel := context.WithCancel(t.Context())
	silent := listen(func(c net.Conn) { cancel(); _, _ = io.Copy(io.Discard, c) })
	_, err = nbd.Dial(ctx, silent, "x", nbd.Options{})
	assert.Error(t, err, "cancelling ends it")

	// one that goes in the middle of an answer, and one that does not answer at all
	m := &volumetest.Disk{B: noise(3, 4<<20)}
	server := serve(t, &nbd.Server{Exports: []*nbd.Export{{Name: "x", Size: int64(len(m.B)), Backend: m}}})
	for name, after := range map[string]int64{"cut": 300_000, "silent": 200_000} {
		through := listen(func(c net.Conn) {
			defer c.Close()
			to, err := net.Dial("tcp", server)
			if err != nil {
				return
			}
			defer to.Close()
			go func() { _, _ = io.Copy(to, c) }()
			_, _ = io.CopyN(c, to, after)
			if name == "silent" {
				_, _ = io.Copy(io.Discard, to)
			}
		})
		c, err := nbd.Dial(t.Context(), through, "x", nbd.Options{Patience: time.Second})
		require.NoError(t, err)
		_, err = c.ReadAt(make([]byte, 1<<20), 0)
		assert.ErrorIs(t, err, nbd.ErrGone, name)
		_, err = c.WriteAt([]byte("x"), 0)
		assert.ErrorIs(t, err, nbd.ErrGone, name)
		_ = c.Close()
	}
}

// FuzzServer: whatever a client sends, the server ends it or answers, and others are served.
func FuzzServer(f *testing.F) {
	f.Add([]byte("\x00\x00\x00\x03IHAVEOPT\x00\x00\x00\x07\x00\x00\x00\x07\x00\x00\x00\x01x\x00\x00" +
		"\x25\x60\x95\x13\x00\x00\x00\x00cookie!!\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x10"))
	f.Fuzz(func(t *testing.T, said []byte) {
		m := &volumetest.Disk{B: make([]byte, 1<<16)}
		s := &nbd.Server{Exports: []*nbd.Export{{Name: "x", Size: 1 << 16, Backend: m}}}
		l, err := net.Listen("tcp", "127.0.0.1:0")
		require.NoError(t, err)
		ctx, cancel := context.WithCancel(t.Context())
		ended := make(chan error, 1)
		go func() { ended <- s.Serve(ctx, l) }()
		conn, err := net.Dial("tcp", l.Addr().String())
		require.NoError(t, err)
		_, _ = conn.Write(said)
		_ = conn.(*net.TCPConn).CloseWrite()
		_, _ = io.Copy(io.Discard, conn)
		_ = conn.Close()
		c, err := nbd.Dial(t.Context(), l.Addr().String(), "x", nbd.Options{})
		require.NoError(t, err)
		_, err = c.ReadAt(make([]byte, 100), 0)
		require.NoError(t, err)
		require.NoError(t, c.Close())
		cancel()
		require.NoError(t, <-ended)
	})
}
