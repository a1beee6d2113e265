package shape

import (
	"context"
	"io"

	"polytome/internal/format/picture"
	"polytome/internal/place"
)

// fitted is a picture, brought to the size and format that the loader shows.
var fitted = Kind{
	Name: Fitted, Word: "fit",
	Told: "brought to size from %s",
	Says: func(l, _ string) string { return l + " shows pictures of another size" },
	Rate: func(*Spec) int64 { return 1 << 20 },
	Open: func(ctx context.Context, w Whence, s *Spec) (place.Content, error) {
		c, err := fromSource(ctx, w, s)
		if err != nil {
			return nil, err
		}
		defer c.Close()
		b, err := picture.Fit(io.NewSectionReader(c, 0, c.Size()), *s.With.Picture)
		if err != nil {
			return nil, &SourceError{s.Source.Called(), err}
		}
		return Bytes(b), nil
	},
}
