package judge

import (
	"bufio"
	"fmt"
	"io"
	"net"
	"regexp"
	"strconv"
	"sync"
	"testing"
	"time"
)

// A Line is a way to servers of the loopback on which everything takes half of so long in each direction, and no more
// than rate bytes a second pass in each, of all connections together.
type Line struct {
	t        testing.TB
	away     time.Duration // in one direction
	rate     int
	up, down direction
}

// direction is one of a line's.
type direction struct {
	mu      sync.Mutex
	free    time.Time // when it has space for more
	carried int64
}

// NewLine is a line with a time for there and back, and bytes a second.
func NewLine(t testing.TB, roundTrip time.Duration, rate int) *Line {
	return &Line{t: t, away: roundTrip / 2, rate: rate}
}

// Far is a line to a server's port; it begins at the port that is returned.
func Far(t testing.TB, port int, roundTrip time.Duration, rate int) int {
	t.Helper()
	return NewLine(t, roundTrip, rate).To(port)
}

// Busy is how long the line has carried bytes in one direction or the other.
func (l *Line) Busy() time.Duration {
	l.up.mu.Lock()
	defer l.up.mu.Unlock()
	l.down.mu.Lock()
	defer l.down.mu.Unlock()
	return time.Duration(l.up.carried+l.down.carried) * time.Second / time.Duration(l.rate)
}

// To goes to a server's port; the way begins at the port that is returned.
func (l *Line) To(port int) int {
	return Listen(l.t, func(near net.Conn) {
		far, err := net.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", port))
		if err != nil {
			return
		}
		var both sync.WaitGroup
		both.Go(func() { l.carry(&l.up, far, near) })
		both.Go(func() { l.carry(&l.down, near, far) })
		both.Wait()
	})
}

// passive is a server's reply with the port of a data connection: RFC 959, 4.2.2 (227) and RFC 2428, 3 (229).
var passive = regexp.MustCompile(
	`^(?:(227 [^(]*\(\d+,\d+,\d+,\d+,)(\d+),(\d+)(\).*)|(229 [^(]*\(\|\|\|)(\d+)(\|\).*))$`)

// ToFTP is To for an FTP server without TLS: the data connections go the long way too.
func (l *Line) ToFTP(port int) int {
	replies := Listen(l.t, func(near net.Conn) {
		far, err := net.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", port))
		if err != nil {
			return
		}
		go func() {
			_, _ = io.Copy(far, near)
			_ = far.Close()
		}()
		for lines := bufio.NewScanner(far); lines.Scan(); {
			line := lines.Text()
			if m := passive.FindStringSubmatch(line); m != nil {
				number := func(s string) int { n, _ := strconv.Atoi(s); return n }
				if m[1] != "" {
					data := l.To(number(m[2])<<8 | number(m[3]))
					line = fmt.Sprintf("%s%d,%d%s", m[1], data>>8, data&255, m[4])
				} else {
					line = fmt.Sprintf("%s%d%s", m[5], l.To(number(m[6])), m[7])
				}
			}
			if _, err := io.WriteString(near, line+"\r\n"); err != nil {
				break
			}
		}
		_ = near.Close()
		_ = far.Close()
	})
	return l.To(replies)
}

// piece is what comes out at the other end at some time.
type piece struct {
	data []byte
	at   time.Time
}

// take is when n more bytes have passed.
func (d *direction) take(n, rate int) time.Time {
	d.mu.Lock()
	defer d.mu.Unlock()
	if now := time.Now(); d.free.Before(now) {
		d.free = now
	}
	d.free = d.free.Add(time.Duration(n) * time.Second / time.Duration(rate))
	d.carried += int64(n)
	return d.free
}

// carry brings bytes from one connection to another, late and no faster than the line. When one ends, the other does.
func (l *Line) carry(d *direction, to, from net.Conn) {
	under := make(chan piece, 16) // routers keep little
	go func() {
		defer close(under)
		for {
			b := make([]byte, 16<<10)
			n, err := from.Read(b)
			if n > 0 {
				under <- piece{b[:n], d.take(n, l.rate).Add(l.away)}
			}
			if err != nil {
				return
			}
		}
	}()
	for p := range under {
		time.Sleep(time.Until(p.at))
		if _, err := to.Write(p.data); err != nil {
			_ = from.Close()
			break
		}
	}
	for range under { //nolint:revive // what was under way is lost
	}
	_ = to.Close()
}
