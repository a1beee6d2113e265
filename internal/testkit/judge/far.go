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

// Far is a way to a server of the loopback on which everything takes half of so long in each direction, and no more
// than rate bytes a second pass. It returns the port at which it begins.
func Far(t testing.TB, port int, roundTrip time.Duration, rate int) int {
	t.Helper()
	return Listen(t, func(near net.Conn) {
		far, err := net.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", port))
		if err != nil {
			return
		}
		var both sync.WaitGroup
		both.Go(func() { carry(far, near, roundTrip/2, rate) })
		both.Go(func() { carry(near, far, roundTrip/2, rate) })
		both.Wait()
	})
}

// passive is a server's reply with the port of a data connection: RFC 959, 4.2.2 (227) and RFC 2428, 3 (229).
var passive = regexp.MustCompile(
	`^(?:(227 [^(]*\(\d+,\d+,\d+,\d+,)(\d+),(\d+)(\).*)|(229 [^(]*\(\|\|\|)(\d+)(\|\).*))$`)

// FarFTP is Far for an FTP server without TLS: the data connections go the long way too.
func FarFTP(t testing.TB, port int, roundTrip time.Duration, rate int) int {
	t.Helper()
	replies := Listen(t, func(near net.Conn) {
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
					data := Far(t, number(m[2])<<8|number(m[3]), roundTrip, rate)
					line = fmt.Sprintf("%s%d,%d%s", m[1], data>>8, data&255, m[4])
				} else {
					line = fmt.Sprintf("%s%d%s", m[5], Far(t, number(m[6]), roundTrip, rate), m[7])
				}
			}
			if _, err := io.WriteString(near, line+"\r\n"); err != nil {
				break
			}
		}
		_ = near.Close()
		_ = far.Close()
	})
	return Far(t, replies, roundTrip, rate)
}

// piece is what comes out at the other end at some time.
type piece struct {
	data []byte
	at   time.Time
}

// carry brings bytes from one connection to another, late and no faster than a rate. When one ends, the other does.
func carry(to, from net.Conn, delay time.Duration, rate int) {
	under := make(chan piece, 1024)
	go func() {
		defer close(under)
		free := time.Now() // when the line has space for more
		for {
			b := make([]byte, 16<<10)
			n, err := from.Read(b)
			if n > 0 {
				if now := time.Now(); free.Before(now) {
					free = now
				}
				free = free.Add(time.Duration(n) * time.Second / time.Duration(rate))
				under <- piece{b[:n], free.Add(delay)}
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
