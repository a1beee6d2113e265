package judge

import (
	"fmt"
	"net"
	"sync"
	"testing"
	"time"
)

// Far is a way to a server of the loopback on which everything takes half of so long in each direction, and no more than rate bytes a second pass. It returns the port at which it begins.
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
		free := time.Now() // when the line has room for more
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
