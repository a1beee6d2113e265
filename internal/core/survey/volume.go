package survey

import (
	"path"
	"path/filepath"

	"polytome/internal/core/loader"
	"polytome/internal/target/protocols"
)

// volume is which of the console's volumes the target is, as a profile names them: what the bench says, or the one that
// is named like its folder on the server, or like its label; "" for none that is known.
func (s *Survey) volume(p *loader.Profile) string {
	if s.Config.Volume != "" {
		return s.Config.Volume
	}
	if v := s.volumeOf(p); v != nil {
		return v.Name
	}
	return ""
}

func (s *Survey) volumeOf(p *loader.Profile) *loader.Volume {
	at := p.Attachment(s.Config.Via, s.Facts.Filesystem.Name)
	if at == nil {
		return nil
	}
	if s.Config.Volume != "" {
		return at.VolumeNamed(s.Config.Volume)
	}
	folder := filepath.Base(s.dir)
	if protocol, a, err := protocols.Parse(s.dir); protocol != nil && err == nil {
		folder = path.Base(a.Root)
	}
	return at.VolumeNamed(folder, s.Facts.Label)
}

// capacity is what the volume has for files, in bytes; 0 where it is not known.
func (s *Survey) capacity() int64 {
	if s.Facts.Unknown {
		return 0
	}
	return s.Facts.Capacity
}

// reserve is what stays free on the volume, in bytes: as much as the user or one of the loaders wants.
func (s *Survey) reserve() int64 {
	most := int64(s.Config.Reserve)
	for _, p := range s.Profiles {
		if at := p.Attachment(s.Config.Via, s.Facts.Filesystem.Name); at != nil {
			most = max(most, int64(at.Reserve))
		}
		if v := s.volumeOf(p); v != nil {
			most = max(most, int64(v.Reserve))
		}
	}
	if m := s.Model(); m != nil && m.Room > 0 { // what of it is taken already counts
		most = max(most, s.Facts.Free-max(0, int64(m.Room)-s.Facts.Used(s.There)))
	}
	return most
}
