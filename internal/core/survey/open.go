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
	"polytome/internal/drives"
	"polytome/internal/secret"
	"polytome/internal/size"
	"polytome/internal/target"
	"polytome/internal/target/drive"
	"polytome/internal/target/folder"
	"polytome/internal/target/ftp"
	"polytome/internal/target/remote"
	"polytome/internal/target/smb"
)

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

// OpenTarget opens the target at an address as the bench has it set up: a folder, a drive, a console over FTP, or a
// share over SMB. What a console's server is like and who may log in stands in the profile of the loader, which may be
// nil. The target is of use as long as the context lasts: when it ends, connections are closed.
func OpenTarget(ctx context.Context, at string, c bench.Target, p *loader.Profile, contiguous bool) (target.Target,
	error) {
	if a, ok := drive.ParseAddress(at); ok {
		return drive.Open(ctx, drives.Here, a, drive.Options{Contiguous: contiguous})
	}
	a, isRemote, err := remote.Parse(at, remote.FTP, remote.FTPS, remote.SMB)
	switch {
	case err != nil:
		return nil, err
	case isRemote && a.Scheme == remote.SMB:
		o, err := Share(a, c, p)
		if err != nil {
			return nil, err
		}
		return smb.Open(ctx, a, o)
	case isRemote:
		o, err := Console(a, c, p)
		if err != nil {
			return nil, err
		}
		return ftp.Open(ctx, a, o)
	}
	return folder.Open(at, folder.Options{Filesystem: c.As, Capacity: int64(c.Capacity), Cluster: int64(c.Cluster)})
}

// Console is what is known of a console's server: from the bench, from the profile, and its password from the keyring.
func Console(a ftp.Address, c bench.Target, p *loader.Profile) (ftp.Options, error) {
	o := ftp.Options{Capacity: int64(c.Capacity), Cluster: int64(c.Cluster)}
	fs := target.UnknownFilesystem("own")
	fs.Shown = "its own"
	var at *loader.Attachment
	if p != nil {
		at = p.Attachment("ftp", c.As)
	}
	if at != nil {
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
		fs.CaseSensitive = at.Case != "ignored"
		for _, v := range at.Volumes {
			if v.Name == path.Base(a.Root) && o.Capacity == 0 {
				o.Capacity = int64(v.Size)
			}
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
	o.Unchecked = c.Unchecked
	if kept, err := secret.Find(a.Host, o.User); err == nil {
		o.Password = kept
	}
	if c.As != "" {
		declared, err := target.FilesystemNamed(c.As)
		if err != nil {
			return o, err
		}
		fs = declared
	}
	if fs.Spelling = o.Encoding; strings.EqualFold(fs.Spelling, "utf-8") || strings.EqualFold(fs.Spelling, "utf8") {
		fs.Spelling = ""
	}
	if o.Cluster == 0 {
		o.Cluster = 16 * size.KiB
	}
	o.Filesystem = fs
	return o, nil
}

// Share is what is known of a share: from the bench, from the profile, and its password from the keyring.
func Share(a smb.Address, c bench.Target, p *loader.Profile) (smb.Options, error) {
	o := smb.Options{User: a.User, Capacity: int64(c.Capacity), Cluster: int64(c.Cluster)}
	if p != nil {
		if at := p.Attachment("smb", c.As); at != nil && o.User == "" {
			o.User, o.Password = at.Login.User, at.Login.Password
		}
	}
	if o.User != "" {
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
