package shape

import (
	"context"
	"fmt"
	"io"

	"polytome/internal/core/settings"
	"polytome/internal/target"
)

// set is a text in which some values are set; everything else in it stays as it is.
var set = Kind{
	Name: Set, Word: "set",
	Reported: "set in %s",
	Says:     func(l, _ string) string { return l + " needs other values in it" },
	Open: func(ctx context.Context, w SourceOpener, s *Spec) (target.Content, error) {
		c, err := fromSource(ctx, w, s)
		if err != nil {
			return nil, err
		}
		defer c.Close()
		if c.Size() > longestText {
			return nil, &SourceError{s.Source.Called(), fmt.Errorf("with %d bytes it is too long for a settings file",
				c.Size())}
		}
		b, err := io.ReadAll(io.NewSectionReader(c, 0, c.Size()))
		if err != nil {
			return nil, &SourceError{s.Source.Called(), err}
		}
		text := string(b)
		for _, v := range s.With.Values {
			if text, err = settings.Set(text, settings.Syntax(v.Syntax), v.Section, v.Key, v.Value); err != nil {
				return nil, &SourceError{s.Source.Called(), err}
			}
		}
		return Bytes([]byte(text)), nil
	},
}

// longestText is how many bytes a settings file has at most.
const longestText = 1 << 20
