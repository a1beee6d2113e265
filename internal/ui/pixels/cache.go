package pixels

import (
	"fmt"
	"image"

	"polytome/internal/ui/style"
)

// mostDrawn is how many drawn pictures a cache keeps.
const mostDrawn = 400

// A Cache keeps pictures as they were drawn, so that a sheet of them costs nothing to draw again. The zero value is
// empty.
type Cache struct {
	drawn map[string][]string
}

// Draw is [Draw] for a picture with a name of its own: another picture must have another name. The picture may be a
// small one of another, which is so large; that is what a card says.
func (c *Cache) Draw(t *style.Theme, name string, im image.Image, of image.Point, w, h int) []string {
	if t.Plain || t.ASCII {
		return Card(t, []string{"cover", fmt.Sprintf("%d x %d", of.X, of.Y)}, w, h)
	}
	key := fmt.Sprintf("%p %d %d %s", t, w, h, name)
	if lines, ok := c.drawn[key]; ok {
		return lines
	}
	if c.drawn == nil || len(c.drawn) >= mostDrawn {
		c.drawn = map[string][]string{}
	}
	lines := Draw(t, im, w, h)
	c.drawn[key] = lines
	return lines
}
