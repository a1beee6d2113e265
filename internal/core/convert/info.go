package convert

import (
	"errors"
	"fmt"
	"path/filepath"
	"strings"

	"polytome/internal/core/loader"
	"polytome/internal/core/scan"
	"polytome/internal/core/shape"
	"polytome/internal/core/source"
	"polytome/internal/core/title"
	"polytome/internal/format/container"
	"polytome/internal/format/packed"
	"polytome/internal/target"
)

// Info is what the headers of a file tell.
type Info struct {
	What     string       `json:"what"`
	Bytes    int64        `json:"bytes"`
	Game     *title.Title `json:"game,omitempty"`
	Volumes  []VolumeInfo `json:"volumes,omitempty"`
	Packed   *PackedInfo  `json:"packed,omitempty"`
	Tracks   []TrackInfo  `json:"tracks,omitempty"`
	Parts    []Part       `json:"parts,omitempty"`
	Problems []string     `json:"problems,omitempty"`
}

// VolumeInfo is a filesystem in an image.
type VolumeInfo struct {
	Kind   string `json:"kind"`
	Label  string `json:"label"`
	Bytes  int64  `json:"bytes"` // that it says it has
	Damage string `json:"damage,omitempty"`
}

// PackedInfo is how an image is packed.
type PackedInfo struct {
	Image int64  `json:"image"` // bytes, unpacked
	Sum   uint32 `json:"crc32"`
	Lost  int64  `json:"lost"`
	packed.Stats
}

// TrackInfo is a track of a disc.
type TrackInfo struct {
	Number int    `json:"number"`
	Mode   string `json:"mode"`
	File   string `json:"file"`
	Bytes  int64  `json:"bytes"`
}

// InfoOf reads the headers of a file.
func InfoOf(file string, set *loader.Set, o container.Options) (*Info, error) {
	switch strings.ToLower(filepath.Ext(file)) {
	case ".toml":
		m, err := ReadManifest(file)
		if err != nil {
			return nil, err
		}
		i := &Info{What: "a list of parts", Parts: m.Parts}
		for _, p := range m.Parts {
			i.Bytes += p.Length
		}
		if p, err := m.Open(); err != nil {
			i.Problems = append(i.Problems, err.Error())
		} else {
			_ = p.Close()
		}
		return i, nil
	case ".cue":
		return discInfo(file)
	}
	c, err := open(file)
	if err != nil {
		return nil, err
	}
	defer c.Close()
	i := &Info{What: "a file with no known contents", Bytes: c.Size()}
	p, err := packed.OpenFile(file)
	switch {
	case err == nil:
		defer p.Close()
		i.What, i.Packed = "a packed image", &PackedInfo{p.Size(), p.Sum(), p.Lost(), p.Stats()}
		if len(p.Names) > 1 {
			i.What = fmt.Sprintf("a packed image in %d files", len(p.Names))
		}
		return i, i.look(p, file, set)
	case !errors.Is(err, packed.ErrNotPacked):
		return nil, &shape.SourceError{Path: file, Err: err}
	}
	if err := i.look(c, file, set); err != nil {
		return nil, err
	}
	if len(i.Volumes) == 0 && i.Game == nil {
		a, err := container.Open(file, o)
		if err != nil && !errors.Is(err, container.ErrUnknownFormat) {
			return nil, &shape.SourceError{Path: file, Err: err}
		}
		if err == nil {
			defer a.Close()
			i.What = "an archive, " + strings.TrimPrefix(a.Kind, ".")
		}
	}
	return i, nil
}

// look looks into an image.
func (i *Info) look(c target.Content, file string, set *loader.Set) error {
	im, err := container.OpenImage(c, c.Size())
	if err != nil && !container.Damaged(err) {
		return &shape.SourceError{Path: file, Err: err}
	}
	if err != nil {
		i.Problems = append(i.Problems, err.Error())
	}
	for _, v := range im.Volumes {
		info := VolumeInfo{Kind: v.Kind, Label: v.Identifier, Bytes: v.Declared}
		if v.Declared > im.Size {
			info.Damage = fmt.Sprintf("it is cut short: the volume has %d bytes, and the file only %d", v.Declared,
				im.Size)
		}
		i.Volumes = append(i.Volumes, info)
	}
	if i.Packed == nil && len(im.Volumes) > 0 {
		i.What = "a disc image"
		if im.Raw {
			i.What = "a disc image of raw sectors"
		}
	}
	t, err := scan.Identify(c, c.Size(), file, set)
	if err == nil && t != nil && t.Platform != "" {
		i.Game = t
		if i.Packed == nil && len(im.Volumes) == 0 {
			i.What = fmt.Sprintf("a game, in the form %s", t.Form)
		}
		for _, f := range t.Findings {
			i.Problems = append(i.Problems, f.Say)
		}
	}
	return nil
}

func discInfo(file string) (*Info, error) {
	i := &Info{What: "a disc in tracks"}
	sheet, parts, err := sheetOf(file)
	if err != nil {
		return nil, err
	}
	o := &source.Opener{}
	defer o.Close()
	d, err := shape.OpenDisc(o, sheet, parts)
	if err != nil {
		return nil, err
	}
	defer d.Close()
	i.Bytes = d.Size()
	for _, t := range d.Tracks() {
		i.Tracks = append(i.Tracks, TrackInfo{t.Number, t.Mode, parts[t.File].Name, t.Length})
	}
	return i, nil
}
