package state

import (
	"polytome/internal/ui/scroll"
)

// Movement are the keys that move in a list, the same on every screen.
func Movement(l *scroll.List) []Action {
	return []Action{
		Do("up k", "up", Just(func() { l.Move(-1) })),
		Do("down j", "down", Just(func() { l.Move(1) })),
		Do("pgup ctrl+b", "a screen up", Just(func() { l.Page(-1) })),
		Do("pgdown ctrl+f", "a screen down", Just(func() { l.Page(1) })),
		Do("home g", "to the top", Just(func() { l.Home() })),
		Do("end G", "to the bottom", Just(func() { l.End() })),
	}
}
