package ftpd

import (
	"crypto/tls"
	"errors"
	"io"
	"net"
	"os"
	"time"
)

// passive takes up another target to listen for data, and gives the last one up.
func (c *client) passive(l net.Listener) {
	if c.data != nil {
		_ = c.data.Close()
	}
	c.data = l
}

func (c *client) listen(extended bool) bool {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		c.say("425 no port is free")
		return true
	}
	c.passive(l)
	if c.s.habits.Blocked {
		_ = l.Close()
	}
	port := l.Addr().(*net.TCPAddr).Port
	if extended {
		c.say("229 here (|||%d|)", port)
		return true
	}
	host := "127,0,0,1"
	if c.s.habits.Lying {
		host = "10,9,8,7"
	}
	c.say("227 here (%s,%d,%d)", host, port>>8, port&255)
	return true
}

// transfer opens the data connection and does something with it. What is sent or taken is answered when it is done.
func (c *client) transfer(do func(data net.Conn) error) bool {
	defer func() { c.at = 0 }()
	l := c.data
	if l == nil {
		c.say("425 where to?")
		return true
	}
	defer c.passive(nil)
	c.s.mu.Lock()
	full := c.s.habits.OneTransfer && c.s.moving > 0
	if !full {
		c.s.moving++
	}
	c.s.mu.Unlock()
	if full {
		c.say("425 one at a time")
		return true
	}
	defer func() {
		c.s.mu.Lock()
		c.s.moving--
		c.s.mu.Unlock()
	}()
	c.say("150 coming")
	_ = l.(*net.TCPListener).SetDeadline(time.Now().Add(10 * time.Second))
	data, err := l.Accept()
	if err != nil {
		c.say("425 nobody came")
		return true
	}
	if !c.s.keep(data) {
		return false
	}
	stream := data
	if c.secure {
		secret := tls.Server(data, c.s.habits.Secure)
		stream, err = secret, secret.Handshake()
		if err == nil && c.s.habits.WantsSession && !secret.ConnectionState().DidResume {
			c.s.let(data)
			c.say("522 SSL connection failed; session reuse required")
			return true
		}
	}
	if err == nil {
		err = do(stream)
	}
	if secret, ok := stream.(*tls.Conn); ok && err == nil {
		_ = secret.CloseWrite() // says that it ends here
		_ = data.SetReadDeadline(time.Now().Add(time.Second))
		_, _ = io.Copy(io.Discard, data)
	}
	c.s.let(data)
	switch {
	case errors.Is(err, errCut):
		return false
	case errors.Is(err, errFull):
		c.say("552 the volume is full")
	case err != nil:
		c.say("426 it was interrupted")
	default:
		c.say("226 done")
	}
	return true
}

var errCut = errors.New("cut")

// faulty counts what goes through, and does what was switched on.
func (c *client) faulty(b []byte) error {
	f := &c.s.Faults
	for f.Stall.Load() {
		if c.s.isClosed() {
			return errCut
		}
		time.Sleep(10 * time.Millisecond)
	}
	n := c.s.moved.Add(int64(len(b)))
	if after := f.DropAfter.Load(); after > 0 && n >= after && f.DropAfter.CompareAndSwap(after, 0) {
		c.s.Cut()
		return errCut
	}
	return nil
}

// send sends a file.
func (c *client) send(arg string) bool {
	_, file := c.full(arg)
	f, err := os.Open(file)
	if err != nil {
		return c.fail(err)
	}
	defer f.Close()
	if info, err := f.Stat(); err != nil || info.IsDir() {
		return c.fail(os.ErrNotExist)
	}
	if _, err := f.Seek(c.at, io.SeekStart); err != nil {
		return c.fail(err)
	}
	return c.transfer(func(data net.Conn) error {
		b := make([]byte, 64<<10)
		for {
			n, err := f.Read(b)
			if n > 0 {
				if c.s.Faults.Corrupt.CompareAndSwap(true, false) {
					b[n/2] ^= 0x40
				}
				if err := c.faulty(b[:n]); err != nil {
					return err
				}
				if _, err := data.Write(b[:n]); err != nil {
					return err
				}
			}
			if errors.Is(err, io.EOF) {
				return nil
			}
			if err != nil {
				return err
			}
		}
	})
}

// take takes a file.
func (c *client) take(arg string, more bool) bool {
	_, file := c.full(arg)
	at := c.at
	flags := os.O_WRONLY | os.O_CREATE
	switch {
	case more:
		flags |= os.O_APPEND
	case at == 0:
		flags |= os.O_TRUNC
	}
	f, err := os.OpenFile(file, flags, 0o644)
	if err != nil {
		return c.fail(err)
	}
	defer f.Close()
	if !more && at > 0 {
		if _, err := f.Seek(at, io.SeekStart); err != nil {
			return c.fail(err)
		}
	}
	return c.transfer(func(data net.Conn) error {
		left := c.s.free()
		b := make([]byte, 64<<10)
		for {
			n, err := data.Read(b)
			if n > 0 {
				if err := c.faulty(b[:n]); err != nil {
					return err
				}
				if left -= int64(n); left < 0 {
					return errFull
				}
				if _, err := f.Write(b[:n]); err != nil {
					return err
				}
			}
			if errors.Is(err, io.EOF) {
				time.Sleep(c.s.habits.SlowClose)
				return nil
			}
			if err != nil {
				return err
			}
		}
	})
}
