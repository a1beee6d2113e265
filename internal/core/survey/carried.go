package survey

import (
	"fmt"

	"polytome/internal/core/bench"
	"polytome/internal/core/loader"
	"polytome/internal/target"
	"polytome/internal/target/served"
)

// carried is the target whose covers alone are put on another one.
type carried struct {
	name       string
	via        string
	filesystem target.Filesystem
	held       map[string]string // names of its titles
	apart      bool              // its lists are carried too
}

// carry finds the target whose covers are carried, and takes over what decides how they are named there.
func (s *Survey) carry(b *bench.Bench) error {
	s.carries = nil
	n := -1
	for i := range b.Targets {
		if b.Targets[i].Name == s.Config.Carries && s.Config.Carries != "" {
			n = i
		}
	}
	if n < 0 {
		return nil
	}
	of := &b.Targets[n]
	s.Config.Loader, s.Config.Also, s.Config.Rules = of.Loader, of.Also, of.Rules
	name := of.Loader
	if loader.IsFile(name) {
		name = b.Resolve(name)
	}
	p, err := s.set.Profile(name)
	if err != nil {
		return fmt.Errorf("the target %s: %w", of.Name, err)
	}
	c := &carried{name: of.Name, via: of.Via, held: of.Names}
	if c.via == "" {
		c.via = WayTo(b.Resolve(of.At), p, of.As)
	}
	as, at := of.As, p.Attachment(c.via, of.As)
	if served.Is(of.At) {
		at = p.NetworkDisk(as)
	}
	if as == "" && at != nil {
		as = at.DefaultFilesystem()
	}
	c.apart = at != nil && at.Apart
	if as == "" {
		as = "ext4"
	}
	if c.filesystem, err = target.FilesystemNamed(as); err != nil {
		return fmt.Errorf("the target %s: %w", of.Name, err)
	}
	s.carries = c
	return nil
}

// Carries is the name of the target whose covers this one carries, "" for one that is filled for itself.
func (s *Survey) Carries() string {
	if s.carries == nil {
		return ""
	}
	return s.carries.name
}
