package convert

import (
	"context"
	"fmt"
	"io/fs"
	"path/filepath"
	"strings"

	"polytome/internal/core/layout"
	"polytome/internal/core/loader"
	"polytome/internal/core/shape"
	"polytome/internal/target"
)

// Pieces takes a file that a loader's rules have joined apart again, in a target: every piece is a file of its own,
// named as the header says, or by its number. It returns the names of what was written.
func Pieces(ctx context.Context, file string, p *loader.Profile, to target.Target, emit Emit) (names []string,
	err error) {
	c, err := open(file)
	if err != nil {
		return nil, err
	}
	defer c.Close()
	found, err := piecesOf(c, p)
	if err != nil {
		return nil, &shape.SourceError{Path: file, Err: err}
	}
	base := strings.TrimSuffix(filepath.Base(file), filepath.Ext(file))
	facts, err := to.Facts(ctx, nil)
	if err != nil {
		return nil, err
	}
	taken := map[string]bool{}
	for i, piece := range found {
		name := strings.ReplaceAll(piece.Name, `\`, "/")
		if !fs.ValidPath(name) || name == "." || badName(&facts.Filesystem, name) ||
			taken[facts.Filesystem.Fold(name)] {
			name = fmt.Sprintf("%s %d.bin", base, i+1)
		}
		taken[facts.Filesystem.Fold(name)] = true
		if _, err := Write(ctx, to, name, shape.Window(c, &shape.Spec{Offset: piece.Offset, Size: piece.Size}), nil,
			emit); err != nil {
			return names, err
		}
		names = append(names, name)
	}
	return names, nil
}

func badName(fs *target.Filesystem, name string) bool {
	for part := range strings.SplitSeq(name, "/") {
		if fs.CheckName(part) != "" {
			return true
		}
	}
	return false
}

// piecesOf finds the pieces by the first rule whose header it is.
func piecesOf(c target.Content, p *loader.Profile) (found []layout.Piece, err error) {
	err = fmt.Errorf("%s joins no files: no rule of it has an [accept.join]", p.Shown)
	for i := range p.Accepts {
		if rule := &p.Accepts[i]; rule.Joins() {
			if found, err = layout.Pieces(&rule.Join, c, c.Size()); err == nil {
				return found, nil
			}
		}
	}
	return nil, err
}
