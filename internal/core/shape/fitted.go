package shape

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"strconv"
	"strings"

	"polytome/internal/format/picture"
	"polytome/internal/target"
)

// fitted is a picture, brought to the size and format that the loader shows.
var fitted = Kind{
	Name: Fitted, Word: "fit",
	Reported: "resized from %s",
	Says:     func(l, _ string) string { return l + " needs pictures of another size" },
	Rate:     func(*Spec) int64 { return 1 << 20 },
	Open: func(ctx context.Context, w SourceOpener, s *Spec) (target.Content, error) {
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

// Made reports what a picture on a target was made of, and how many bytes it has there: whoever finds it with as many
// bytes, and something else wanted, can make it again. It is kept where texts are remembered that were written.
func Made(s *Spec, bytes int64) string {
	return fmt.Sprintf("%s\n%d", MadeOf(s), bytes)
}

// MadeOf reports what a picture is made of: its source, as it is, and the rule.
func MadeOf(s *Spec) string {
	b, err := json.Marshal(s.With.Picture)
	if err != nil {
		return ""
	}
	return fmt.Sprintf("picture of %s, %d bytes, %d, as %s", s.Source.Called(), s.Source.Size,
		s.Source.Modified.UnixNano(), b)
}

// Remade reports whether a picture that is on a target with so many bytes was made by a run, of something else than
// is wanted now.
func Remade(made string, s *Spec, bytes int64) bool {
	of, size, ok := strings.Cut(made, "\n")
	return ok && size == strconv.FormatInt(bytes, 10) && of != MadeOf(s)
}
