package serve

import (
	"net"
	"net/netip"
	"slices"

	"polytome/internal/core/bench"
	"polytome/internal/nbd"
	"polytome/internal/netcards"
	"polytome/internal/target/protocols"
)

// Carriers are the targets of a bench that carry lists and covers of target number n to where the console reads them.
func Carriers(b *bench.Bench, n int) (out []int) {
	for i := range b.Targets {
		if of, ok := b.Carried(i); ok && of == n {
			out = append(out, i)
		}
	}
	return out
}

// Address is the address of this computer at which the console finds it: what the bench says, its end of the console's
// cable, or the one from which the console is reached over FTP; why is which of them, "" where it is the loopback, for
// lack of any.
func Address(b *bench.Bench, n int, cards []netcards.Card) (at, why string) {
	if at := b.Targets[n].Listen; at != "" {
		return WithPort(at), "as the bench says"
	}
	at, why = own(b, n, cards)
	return WithPort(at), why
}

// WithPort is an address with the usual port where it has none.
func WithPort(at string) string {
	if _, _, err := net.SplitHostPort(at); err != nil {
		return net.JoinHostPort(at, nbd.Port)
	}
	return at
}

func own(b *bench.Bench, n int, cards []netcards.Card) (at, why string) {
	carriers := Carriers(b, n)
	for _, i := range slices.Concat([]int{n}, carriers) {
		if c := b.Targets[i].Cable; c != nil {
			if p, err := netip.ParsePrefix(c.Computer); err == nil {
				return p.Addr().String(), "this computer's end of the cable"
			}
		}
	}
	for _, i := range carriers {
		_, a, err := protocols.Parse(b.Targets[i].At)
		if err != nil {
			continue
		}
		ip, err := netip.ParseAddr(a.Host)
		if err != nil {
			continue
		}
		if card, local, direct := netcards.Behind(cards, ip); card != nil && direct {
			return local.String(), "from where the console is reached"
		}
	}
	return "127.0.0.1", ""
}

// Card is how this computer reaches an address, with how many megabits a second its cable carries; for [Options].
func Card(a netip.Addr) (name string, megabits int) {
	cards, err := netcards.Here.Cards()
	if err != nil {
		return "", 0
	}
	card, _, _ := netcards.Behind(cards, a)
	if card == nil {
		return "", 0
	}
	return card.Name, card.Megabits
}
