package serve

import (
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"strings"
	"time"

	"polytome/internal/nbd"
	"polytome/internal/size"
)

// A Status is how an export is served now.
type Status struct {
	Name    string     `json:"export"`
	At      string     `json:"at"` // the address at which it is served, "" before it is
	Since   time.Time  `json:"since"`
	Bytes   int64      `json:"bytes"` // that were read by all
	Speeds  []float64  `json:"-"`     // bytes a second of the last minutes, one for each second
	Speed   float64    `json:"bytes-a-second"`
	Clients []Client   `json:"clients"`
	Failing []Failing  `json:"failing"`
	Slow    []SlowRead `json:"slow-reads"` // the newest is the first
}

// A Client is a console that is connected.
type Client struct {
	From    string    `json:"from"` // its address
	Since   time.Time `json:"since"`
	Plays   string    `json:"plays"`           // the file that it has read of last; "" for none
	Played  time.Time `json:"played,omitzero"` // since when
	Bytes   int64     `json:"bytes"`           // that it has read
	Speed   float64   `json:"bytes-a-second"`  // in the last seconds
	Reads   int       `json:"reads"`
	Slow    int       `json:"slow-reads"` // that took longer than 50 ms
	Slowest float64   `json:"slowest-seconds"`
}

// A Failing is a file that could not be read the last time.
type Failing struct {
	Path  string    `json:"path"`
	Say   string    `json:"say"`
	Since time.Time `json:"since"`
}

// A SlowRead is one that a player may have noticed, with its cause as far as it is known.
type SlowRead struct {
	At    time.Time     `json:"at"`
	From  string        `json:"from"`
	Path  string        `json:"path"` // "" for folders and tables
	Bytes int           `json:"bytes"`
	Took  time.Duration `json:"took"`
	Why   string        `json:"why"`
}

// slow is how long a read may take before it counts as slow: consoles give up after some seconds, and stutter long
// before.
const slow = 50 * time.Millisecond

// client is a console as it is counted.
type client struct {
	since, played time.Time
	plays         string
	asked         time.Time // when it was asked for last
	bytes         int64
	reads, slow   int
	slowest       time.Duration
	speeds        *history
	connections   int
}

func (c *client) took(now time.Time, r *nbd.Reading) {
	c.bytes += int64(r.Bytes)
	c.reads++
	c.speeds.add(now, int64(r.Bytes))
	if took := r.Took + r.Sent; took > slow {
		c.slow++
		c.slowest = max(c.slowest, took)
	}
}

// mostSlow is how many slow reads are remembered.
const mostSlow = 100

// slowly notes a read that took long, and why.
func (s *Server) slowly(now time.Time, from, file string, r *nbd.Reading) {
	took := r.Took + r.Sent
	why := ""
	if r.Sent > r.Took {
		why = s.slowToSend(from, r)
	} else {
		why = s.slowToRead(file, r)
	}
	s.slow = append(s.slow, SlowRead{now, from, file, r.Bytes, took, why})
	if len(s.slow) > mostSlow {
		s.slow = slices.Delete(s.slow, 0, len(s.slow)-mostSlow)
	}
}

// asleep is how long nothing was read of a file before its disk may have gone to sleep, and woke how long waking takes.
const (
	asleep = 4 * time.Minute
	woke   = time.Second
)

func (s *Server) slowToRead(file string, r *nbd.Reading) string {
	was, known := s.last[file]
	switch {
	case r.Err != nil:
		return "it could not be read"
	case r.Took > woke && (!known || r.Asked.Sub(was) > asleep):
		return "its disk was asleep: it took a moment to start"
	case s.pace != nil:
		return fmt.Sprintf("reading is limited to %s a second", size.Format(s.o.Rate))
	}
	return "its disk is busy or slow"
}

// fullCable is how much of a cable's speed counts as all of it.
const fullCable = 0.6

func (s *Server) slowToSend(from string, r *nbd.Reading) string {
	if s.o.Card != nil {
		if a, err := netip.ParseAddr(from); err == nil {
			card, megabits := s.o.Card(a.Unmap())
			if speed := float64(r.Bytes) * 8 / 1e6 / r.Sent.Seconds(); megabits > 0 && megabits < 100 &&
				speed > fullCable*float64(megabits) {
				return fmt.Sprintf("the cable at %s carries only %d megabits a second: try another cable or socket",
					card,
					megabits)
			}
		}
	}
	return "the console, or the network to it, was busy"
}

// Status is how the export is served now.
func (s *Server) Status() Status {
	s.mu.Lock()
	defer s.mu.Unlock()
	now := time.Now()
	out := Status{Name: s.o.Name, At: s.at, Since: s.begun, Bytes: s.bytes, Speeds: s.speeds.each(now),
		Speed: s.speeds.now(now), Clients: []Client{}, Slow: slices.Clone(s.slow),
		Failing: slices.SortedFunc(maps.Values(s.failing), func(a, b Failing) int {
			return strings.Compare(a.Path,
				b.Path)
		})}
	slices.Reverse(out.Slow)
	for from, c := range s.clients {
		out.Clients = append(out.Clients, Client{From: from, Since: c.since, Plays: c.plays, Played: c.played,
			Bytes: c.bytes, Speed: c.speeds.now(now), Reads: c.reads, Slow: c.slow, Slowest: c.slowest.Seconds()})
	}
	slices.SortFunc(out.Clients, func(a, b Client) int { return a.Since.Compare(b.Since) })
	return out
}

// historySeconds is for how long it is remembered how fast things were.
const historySeconds = 240

// history is how many bytes there were in each of the last seconds.
type history struct {
	at    int64 // second of the last one
	bytes [historySeconds]int64
}

func (h *history) turn(now time.Time) {
	for sec := now.Unix(); h.at < sec; {
		h.at = max(h.at+1, sec-historySeconds)
		h.bytes[h.at%historySeconds] = 0
	}
}

func (h *history) add(now time.Time, n int64) {
	h.turn(now)
	h.bytes[h.at%historySeconds] += n
}

// each is how fast it was in each whole second that is remembered.
func (h *history) each(now time.Time) []float64 {
	h.turn(now)
	out := make([]float64, 0, historySeconds-1)
	for sec := h.at - historySeconds + 1; sec < h.at; sec++ {
		if sec >= 0 {
			out = append(out, float64(h.bytes[sec%historySeconds]))
		}
	}
	return out
}

// nowSeconds are over how many seconds the speed is counted.
const nowSeconds = 3

// now is how fast it was in the last seconds.
func (h *history) now(now time.Time) float64 {
	all := h.each(now)
	sum := 0.0
	for _, n := range all[max(0, len(all)-nowSeconds):] {
		sum += n
	}
	return sum / nowSeconds
}
