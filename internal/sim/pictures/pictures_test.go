package pictures_test

import (
	"io"
	"net/http"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/sim/pictures"
)

func TestTheServerAnswersAsItIsSetUp(t *testing.T) {
	whole := []byte("\x89PNG\r\n\x1a\n and more of it than is sent before it is interrupted")
	s, err := pictures.Start(map[string]pictures.Item{
		"a.png": {Data: func() []byte { return whole }}, "slow.png": {Data: func() []byte { return whole },
			Slow: 60 * time.Millisecond},
		"busy.png": {Data: func() []byte { return whole }, Busy: 1, After: 7},
		"cut.png":  {Data: func() []byte { return whole }, Cut: 20}, "fails.png": {Status: 500},
		"on.png":   {To: "/a.png"},
		"page.png": {Data: func() []byte { return []byte("x") }, Type: "text/html"},
	})
	require.NoError(t, err)
	get := func(path, tag string) (int, []byte, http.Header, error) {
		req, err := http.NewRequest(http.MethodGet, s.URL()+path, nil)
		require.NoError(t, err)
		if tag != "" {
			req.Header.Set("If-None-Match", tag)
		}
		r, err := http.DefaultTransport.RoundTrip(req)
		if err != nil {
			return 0, nil, nil, err
		}
		defer r.Body.Close()
		b, err := io.ReadAll(r.Body)
		return r.StatusCode, b, r.Header, err
	}
	code, b, head, err := get("a.png", "")
	require.NoError(t, err)
	assert.Equal(t, 200, code)
	assert.Equal(t, whole, b)
	assert.Equal(t, "image/png", head.Get("Content-Type"))
	code, _, _, _ = get("a.png", head.Get("ETag"))
	assert.Equal(t, 304, code)
	begun := time.Now()
	_, _, _, err = get("slow.png", "")
	require.NoError(t, err)
	assert.GreaterOrEqual(t, time.Since(begun), 60*time.Millisecond)
	code, _, head, _ = get("busy.png", "")
	assert.Equal(t, [2]any{503, "7"}, [2]any{code, head.Get("Retry-After")})
	code, _, _, _ = get("busy.png", "")
	assert.Equal(t, 200, code, "once only")
	_, b, _, err = get("cut.png", "")
	assert.Error(t, err)
	assert.Less(t, len(b), len(whole))
	code, _, _, _ = get("fails.png", "")
	assert.Equal(t, 500, code)
	code, _, head, _ = get("on.png", "")
	assert.Equal(t, [2]any{302, "/a.png"}, [2]any{code, head.Get("Location")})
	code, _, _, _ = get("none.png", "")
	assert.Equal(t, 404, code)
	_, _, head, _ = get("page.png", "")
	assert.Equal(t, "text/html", head.Get("Content-Type"))
	asked, same, most := s.Asked()
	assert.Equal(t, []string{"a.png", "a.png", "slow.png", "busy.png", "busy.png", "cut.png", "fails.png", "on.png",
		"none.png", "page.png"}, asked)
	assert.Equal(t, [2]int{1, 1}, [2]int{same, most})
	s.Set("none.png", pictures.Item{Status: 418})
	code, _, _, _ = get("none.png", "")
	assert.Equal(t, 418, code)
	s.Set("none.png", pictures.Item{})
	code, _, _, _ = get("none.png", "")
	assert.Equal(t, 404, code)
	require.NoError(t, s.Close())
	_, _, _, err = get("a.png", "")
	assert.Error(t, err)
}
