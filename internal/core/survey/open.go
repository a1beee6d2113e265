package survey

import (
	"context"
	"fmt"
	"path"
	"slices"
	"strings"
	"time"

	"polytome/internal/core/bench"
	"polytome/internal/core/loader"
	"polytome/internal/core/source"
	"polytome/internal/drives"
	"polytome/internal/secret"
	"polytome/internal/target"
	"polytome/internal/target/drive"
	"polytome/internal/target/folder"
	"polytome/internal/target/protocols"
	"polytome/internal/target/remote"
	"polytome/internal/target/served"
)

// At is the address of the target.
func (s *Survey) At() string { return s.dir }

// Open opens the target itself. The caller closes it. It is of use as long as the context lasts.
func (s *Survey) Open(ctx context.Context) (target.Target, error) {
	return OpenTarget(ctx, s.dir, s.Config, s.Profile, s.contiguous())
}

// contiguous reports whether one of the loaders wants files contiguous where the target is.
func (s *Survey) contiguous() bool { return wantsContiguous(s.Profiles, s.Config.Via) }

func wantsContiguous(all []*loader.Profile, via string) bool {
	return slices.ContainsFunc(all, func(p *loader.Profile) bool {
		return slices.ContainsFunc(p.Attachments,
			func(a loader.Attachment) bool { return a.Via == via && a.Contiguous })
	})
}

// OpenTarget opens the target at an address as the bench has it set up: a folder, a drive, or a folder of another
// machine. What a console's server is like and who may log in stands in the profile of the loader, which may be
// nil. The target is of use as long as the context lasts: when it ends, connections are closed.
func OpenTarget(ctx context.Context, at string, c bench.Target, p *loader.Profile, contiguous bool) (target.Target,
	error) {
	if a, ok := drive.ParseAddress(at); ok {
		return drive.Open(ctx, drives.Here, a, drive.Options{Contiguous: contiguous})
	}
	if served.Is(at) {
		return served.Open(at, ServedAs(c))
	}
	protocol, a, err := protocols.Parse(at)
	switch {
	case err != nil:
		return nil, err
	case protocol == nil:
		return openFolder(ctx, at, c)
	}
	o, err := Settings(protocol, a, c, p)
	if err != nil {
		return nil, err
	}
	return protocol.Open(ctx, a, o)
}

// openFolder opens a folder of this computer. One that is a stick which is known is opened where that is mounted now,
// and no other one is taken for it.
func openFolder(ctx context.Context, at string, c bench.Target) (target.Target, error) {
	if c.Stick != "" {
		if now, ok := folder.Plugged(c.Stick, at); ok {
			at = now
		}
	}
	t, err := folder.Open(at, folder.Options{Filesystem: c.As, Capacity: int64(c.Capacity), Cluster: int64(c.Cluster)})
	if err != nil || c.Stick == "" {
		return t, err
	}
	f, err := t.Facts(ctx, []target.Entry{})
	if err == nil {
		err = otherStick(c, f)
	}
	if err != nil {
		_ = t.Close()
		return nil, err
	}
	return t, nil
}

// otherStick says that something is not the stick that a target is; nil where it is.
func otherStick(c bench.Target, f target.Facts) error {
	if c.Stick == "" || f.Volume == c.Stick {
		return nil
	}
	return fmt.Errorf("its stick (%s) is not plugged in: %w", c.Stick, target.ErrGone)
}

// ServedAs is how an export of this computer is made that a bench declares.
func ServedAs(c bench.Target) served.Options {
	return served.Options{Filesystem: c.As, Capacity: int64(c.Capacity), Cluster: int64(c.Cluster),
		Make: source.Referred}
}

// Settings are what is known of a server: from the bench, from the profile, and its password from the keyring.
func Settings(protocol *remote.Protocol, a remote.Address, c bench.Target, p *loader.Profile) (remote.Settings, error) {
	o := remote.Settings{Capacity: int64(c.Capacity), Cluster: int64(c.Cluster), Unchecked: c.Unchecked}
	if at := attachment(protocol, c.As, p); at != nil {
		o.User, o.Password, o.Port = at.Login.User, at.Login.Password, at.Login.Port
		o.NoListing = strings.HasPrefix(at.Server.Listing, "unix") || strings.HasPrefix(at.Server.Listing, "dos")
		o.Connections, o.Encoding = at.Server.Connections, at.Server.Names
		if at.Server.Idle != "" {
			idle, err := time.ParseDuration(at.Server.Idle)
			if err != nil {
				return o, fmt.Errorf("the profile of %s: idle: %w", p.Shown, err)
			}
			o.Idle = idle
		}
		if o.Cluster == 0 {
			o.Cluster = int64(at.Cluster)
		}
		o.FoldsCase = at.Case == "ignored"
		if v := at.VolumeNamed(c.Volume, path.Base(a.Root)); v != nil && o.Capacity == 0 {
			o.Capacity = int64(v.Size)
		}
	}
	if a.User != "" && a.User != o.User {
		o.User, o.Password = a.User, ""
	}
	if c.Encoding != "" {
		o.Encoding = c.Encoding
	}
	if c.Connections > 0 {
		o.Connections = c.Connections
	}
	if o.User != "" || !protocol.Elsewhere {
		if kept, err := secret.Find(a.Host, o.User); err == nil {
			o.Password = kept
		}
	}
	if c.As != "" {
		declared, err := target.FilesystemNamed(c.As)
		if err != nil {
			return o, err
		}
		o.Filesystem = &declared
	}
	return o, nil
}

// attachment is how a loader describes the server of a protocol; nil where it does not.
func attachment(protocol *remote.Protocol, as string, p *loader.Profile) *loader.Attachment {
	if p == nil {
		return nil
	}
	return p.Attachment(protocol.Name, as)
}
