package cover_test

import (
	"bytes"
	"context"
	"encoding/binary"
	"fmt"
	"hash/crc32"
	"image"
	"image/color"
	"image/jpeg"
	"image/png"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/bench"
	"polytome/internal/core/cover"
	"polytome/internal/core/title"
	"polytome/internal/sim/pictures"
	"polytome/internal/testkit/coretest"
	"polytome/internal/testkit/judge"
)

// drawn is a PNG of a colour.
func drawn(w, h int, c color.Color) []byte {
	var b bytes.Buffer
	_ = png.Encode(&b, image.NewPaletted(image.Rect(0, 0, w, h), color.Palette{c}))
	return b.Bytes()
}

func photo(w, h int) []byte {
	m := image.NewRGBA(image.Rect(0, 0, w, h))
	for i := range m.Pix {
		m.Pix[i] = uint8(i * 7)
	}
	var b bytes.Buffer
	_ = jpeg.Encode(&b, m, nil)
	return b.Bytes()
}

func has(data []byte) pictures.Item { return pictures.Item{Data: func() []byte { return data }} }

// huge is a PNG whose header says 30,000 x 30,000.
func huge() []byte {
	ihdr := binary.BigEndian.AppendUint32(binary.BigEndian.AppendUint32([]byte("IHDR"), 30000), 30000)
	ihdr = append(ihdr, 8, 2, 0, 0, 0)
	out := append([]byte("\x89PNG\r\n\x1a\n\x00\x00\x00\x0d"), ihdr...)
	return binary.BigEndian.AppendUint32(out, crc32.ChecksumIEEE(ihdr))
}

func vesper(n int, name string) title.Title {
	t := coretest.Vesper(n, name, "full", 1<<20)
	t.Key = t.ID
	return t
}

// desk is a bench with a server of pictures, a store and some titles.
type state struct {
	t      *testing.T
	server *pictures.Server
	bench  *bench.Bench
	store  *cover.Store
	titles []title.Title
}

func newState(t *testing.T, items map[string]pictures.Item, names ...string) *state {
	s, err := pictures.Start(items)
	require.NoError(t, err)
	t.Cleanup(func() { _ = s.Close() })
	store, err := cover.OpenStore(filepath.Join(t.TempDir(), "covers"))
	require.NoError(t, err)
	t.Cleanup(func() { _ = store.Close() })
	d := &state{t: t, server: s, bench: bench.New(""), store: store}
	d.bench.Covers.Servers = []bench.CoverServer{{Name: "shelf", URL: s.URL(),
		Paths: []string{"{platform}/{kind}/{id}.png", "{platform}/{kind}/{name}.png"}}}
	for i, n := range names {
		d.titles = append(d.titles, vesper(i+1, n))
	}
	return d
}

func (d *state) finder() *cover.Finder { return cover.NewFinder(d.bench, coretest.Set(d.t), d.store) }

var quick = cover.Patience{First: 5 * time.Millisecond, Timeout: 2 * time.Second}

func (d *state) all() []int {
	var out []int
	for i := range d.titles {
		out = append(out, i)
	}
	return out
}

// fetch fetches and dresses.
func (d *state) fetch(o cover.FetchOptions, kinds ...string) *cover.Report {
	if len(kinds) == 0 {
		kinds = []string{"front"}
	}
	if o.Patience == (cover.Patience{}) {
		o.Patience = quick
	}
	f := d.finder()
	r := f.Fetch(context.Background(), d.titles, cover.Needs(d.titles, d.all(), cover.Only(kinds...)), o)
	f.Dress(d.titles)
	return r
}

// states are the outcomes by the titles' names.
func states(r *cover.Report) map[string]string {
	out := map[string]string{}
	for _, o := range r.Outcomes {
		out[o.Label] = o.State
		if o.Say != "" {
			out[o.Label] += ": " + o.Say
		}
	}
	return out
}

func TestCoversAreFetchedOnceAndKept(t *testing.T) {
	red := drawn(40, 60, color.RGBA{255, 0, 0, 255})
	d := newState(t, map[string]pictures.Item{
		"vesper/front/VSP-00001.png":    has(red),
		"vesper/front/Paper & Glue.png": has(photo(30, 50)), // its extension lies
	}, "Copper Tide", "Paper & Glue", "Mosswick")
	r := d.fetch(cover.FetchOptions{})
	assert.Equal(t, map[string]string{"Copper Tide": "found", "Paper & Glue": "found", "Mosswick": "missing"},
		states(r))
	assert.Equal(t, []int{2, 0, 5}, []int{r.Fetched, r.Same, r.Asked}, "two paths are tried where the first has none")
	assert.Equal(t, "Pictures: 2 found, 1 missing.", r.Say())
	p := d.titles[0].Picture("front", 0)
	require.NotNil(t, p)
	assert.Equal(t, "from shelf", p.From)
	b, err := os.ReadFile(p.File.Path)
	require.NoError(t, err)
	assert.Equal(t, red, b)
	assert.Equal(t, ".jpg", filepath.Ext(d.titles[1].Picture("front", 0).File.Path), "it is named what it is")
	assert.Nil(t, d.titles[2].Picture("front", 0))
	d.server.Asked()

	r = d.fetch(cover.FetchOptions{})
	assert.Zero(t, r.Asked, "also what the server had not is not asked for again so soon")
	assert.Equal(t, 2, r.Found)

	d.server.Set("vesper/front/VSP-00001.png", has(drawn(41, 60, color.Black)))
	r = d.fetch(cover.FetchOptions{Again: true})
	_, same, _ := d.server.Asked()
	assert.Equal(t, []int{1, 1, 1}, []int{r.Fetched, r.Same, same}, "only what has changed is sent")

	d.server.Set("vesper/front/VSP-00001.png", pictures.Item{})
	r = d.fetch(cover.FetchOptions{Again: true})
	assert.Equal(t, 2, r.Found, "what the server has no more is kept")

	again, err := cover.OpenStore(filepath.Dir(filepath.Dir(filepath.Dir(p.File.Path))))
	require.NoError(t, err)
	defer again.Close()
	d.store = again
	d.finder().Dress(d.titles)
	assert.NotNil(t, d.titles[1].Picture("front", 0), "it is there the next time too")
	require.NoError(t, os.RemoveAll(filepath.Dir(filepath.Dir(p.File.Path))))
	third, err := cover.OpenStore(filepath.Dir(filepath.Dir(filepath.Dir(p.File.Path))))
	require.NoError(t, err)
	defer third.Close()
	d.store = third
	d.finder().Dress(d.titles)
	assert.Nil(t, d.titles[1].Picture("front", 0), "what was deleted is not promised")
	assert.Equal(t, 1, d.fetch(cover.FetchOptions{}).Fetched, "and is fetched again")
}

func TestWhatAServerSendsIsLookedAt(t *testing.T) {
	whole := photo(200, 300)
	names := []string{"Page", "Huge", "Cut", "Fails", "Circle", "Elsewhere", "Forbidden", "Lies", "Interrupted", "Busy",
		"Far", "Good"}
	path := func(name string) string {
		return fmt.Sprintf("vesper/front/VSP-%05d.png", slices.Index(names, name)+1)
	}
	d := newState(t, map[string]pictures.Item{
		path("Page"):      {Data: func() []byte { return []byte("<html>not here</html>") }},
		path("Huge"):      has(huge()),
		path("Cut"):       has(whole[:len(whole)/2]),
		path("Fails"):     {Status: 500},
		path("Circle"):    {To: "/round"},
		"round":           {To: "/" + path("Circle")},
		path("Elsewhere"): {To: "http://127.0.0.2:9/x.png"},
		path("Forbidden"): {Status: 403},
		path("Lies"): {Data: func() []byte { return []byte("GIF89a\x02\x00\x02\x00 but not really") },
			Type: "image/png"},
		path("Interrupted"): {Data: func() []byte { return whole }, Cut: 100},
		path("Busy"):        {Data: func() []byte { return whole }, Busy: 2},
		path("Far"):         {To: "/" + path("Good")},
		path("Good"):        has(whole),
	}, names...)
	r := d.fetch(cover.FetchOptions{})
	got := states(r)
	for name, says := range map[string]string{
		"Page": "refused: it sends a web page", "Huge": "refused: it has 30000 x 30000 pixels, which is too large",
		"Cut":   "refused: the picture is damaged or cut short",
		"Fails": "missing: shelf: it failed (500", "Circle": "refused: redirect loop",
		"Elsewhere": "refused: it redirects to 127.0.0.2:9, which is not one of your servers",
		"Forbidden": "refused: access denied (403", "Lies": "refused: the picture is damaged",
		"Interrupted": "missing: shelf: it was interrupted", "Busy": "found", "Far": "found", "Good": "found",
	} {
		assert.Contains(t, got[name], says, name)
	}
	d.server.Set(path("Fails"), has(whole))
	d.server.Set(path("Interrupted"), has(whole))
	r = d.fetch(cover.FetchOptions{})
	assert.Equal(t, "found", states(r)["Fails"], "what may pass is asked for again at once")
	assert.Equal(t, "found", states(r)["Interrupted"])
}

func TestAServerThatIsGoneIsLeftInPeace(t *testing.T) {
	var names []string
	for i := range 40 {
		names = append(names, fmt.Sprint("Title ", i))
	}
	d := newState(t, nil, names...)
	d.bench.Covers.Servers[0].Connections = 1
	require.NoError(t, d.server.Close())
	r := d.fetch(cover.FetchOptions{Patience: cover.Patience{First: time.Millisecond, Timeout: time.Second}})
	assert.Less(t, r.Asked, 30, "after some failures no more requests are sent to it")
	require.NotEmpty(t, r.Trouble)
	assert.Contains(t, r.Trouble[0], "shelf did not answer 4 times in a row, so it was not asked any")
	assert.Equal(t, 40, r.Missing)

	d = newState(t, map[string]pictures.Item{"vesper/front/VSP-00001.png": {Status: 0, Busy: 9, After: 3600,
		Data: func() []byte { return nil }}}, "One", "Two")
	d.bench.Covers.Servers[0].Connections = 1
	r = d.fetch(cover.FetchOptions{})
	assert.Contains(t, strings.Join(r.Trouble, " "), "shelf asks for a pause of 1h0m0s")
	asked, _, _ := d.server.Asked()
	assert.Len(t, asked, 1, "and it is")
}

func TestServersAreAskedOverFewConnections(t *testing.T) {
	items := map[string]pictures.Item{}
	var names []string
	for i := range 12 {
		names = append(names, fmt.Sprint("Title ", i))
		items[fmt.Sprintf("vesper/front/VSP-%05d.png",
			i+1)] = pictures.Item{Data: func() []byte { return drawn(4+i, 4, color.Black) },
			Slow: 20 * time.Millisecond}
	}
	for _, most := range []int{1, 3} {
		d := newState(t, items, names...)
		d.bench.Covers.Servers[0].Connections = most
		var last cover.Progress
		r := d.fetch(cover.FetchOptions{Progress: func(p cover.Progress) { last = p }})
		_, _, at := d.server.Asked()
		assert.Equal(t, most, at)
		assert.Equal(t, 12, r.Fetched)
		assert.Equal(t, [3]int{12, 12, 12}, [3]int{last.Done, last.Total, last.Fetched})
	}
	d := newState(t, items, names...)
	ctx, stop := context.WithCancel(context.Background())
	f := d.finder()
	r := f.Fetch(ctx, d.titles, cover.Needs(d.titles, d.all(), cover.Only("front")),
		cover.FetchOptions{Progress: func(p cover.Progress) {
			if p.Fetched == 2 {
				stop()
			}
		}})
	assert.True(t, r.Stopped)
	assert.Less(t, r.Fetched, 8, "it ends soon")
	assert.GreaterOrEqual(t, r.Found, 2, "and what came is kept")
}

func TestAnIndexSaysWhatThereIs(t *testing.T) {
	for name, index := range map[string]string{
		"csv": "platform,kind,id,name,checksum,path\nvesper,front,vsp_00001,,,a/one.png\n,,,Mosswick (East),,b/two " +
			"words.png\n,disc,VSP-00001,,,../../etc/passwd\n,,,,0abc1234,c.png\n",
		"json": `[{"platform":"vesper","id":"VSP-00001","path":"a/one.png"},{"name":"Mosswick","path":"b/two words.png"},{"checksum":"0ABC1234","path":"c.png"},{"id":"VSP-00001","kind":"disc","path":"/etc/passwd"}]`,
	} {
		d := newState(t, map[string]pictures.Item{
			"all." + name: {Data: func() []byte { return []byte(index) }}, "a/one.png": has(drawn(3, 3, color.Black)),
			"b/two words.png": has(drawn(4, 4, color.Black)), "c.png": has(drawn(5, 5, color.Black)),
		}, "Copper Tide", "Mosswick", "By Its Sum", "Nowhere")
		d.titles[2].Discs[0].Sums = "crc32:0abc1234"
		d.bench.Covers.Servers[0].Paths, d.bench.Covers.Servers[0].Index = nil, "all."+name
		r := d.fetch(cover.FetchOptions{}, "front", "disc")
		assert.Equal(t, 3, r.Found, name)
		assert.Equal(t, 3, r.Fetched, name)
		assert.Contains(t, strings.Join(r.Trouble, " "),
			"1 line in its index have no path or one outside the server's own", name)
		asked, _, _ := d.server.Asked()
		slices.Sort(asked)
		assert.Equal(t, []string{"a/one.png", "all." + name, "b/two words.png", "c.png"}, asked,
			"nothing else is asked for, and the index once")
	}
	d := newState(t, map[string]pictures.Item{"all.csv": has([]byte("what,where\n"))}, "Copper Tide")
	d.bench.Covers.Servers[0].Index = "all.csv"
	r := d.fetch(cover.FetchOptions{})
	assert.Contains(t, strings.Join(r.Trouble, " "), "index has no column path")
}

func TestDescriptionsFillWhatIsNotKnown(t *testing.T) {
	d := newState(t, map[string]pictures.Item{
		"vesper/about/VSP-00001.json": has(
			[]byte(`{"text":"A tide\n comes\u001b[31m in.","year":2011,"players":"1-4","publisher":"Gullwing","more":{}}`)),
		"vesper/about/VSP-00002.json": has([]byte(`{"year":["x"]}`)),
		"vesper/about/VSP-00003.json": has([]byte("<html>")),
	}, "Copper Tide", "Mosswick", "Tin Harbour")
	d.bench.Covers.Servers[0].About = []string{"{platform}/about/{id}.json"}
	d.titles[0].Publisher, d.titles[0].Locked = "Set By Hand", []string{"year"}
	f := d.finder()
	needs := []cover.Need{{Title: 0, Of: "about"}, {Title: 1, Of: "about"}, {Title: 2, Of: "about"}}
	r := f.Fetch(context.Background(), d.titles, needs, cover.FetchOptions{Patience: quick})
	assert.Equal(t, 1, r.Fetched)
	f.Dress(d.titles)
	tt := d.titles[0]
	assert.Equal(t, []string{"A tide comes [31m in.", "", "1-4", "Set By Hand"}, []string{tt.Text, tt.Year, tt.Players,
		tt.Publisher}, "what is locked or known stays")
	assert.Equal(t, "", d.titles[1].Year)
	assert.Contains(t, tt.Discs[0].Evidence, title.Evidence{Field: "players", Value: "1-4", From: "shelf"})
}

func TestNothingIsAskedForWhereAPictureIsPreferred(t *testing.T) {
	d := newState(t, map[string]pictures.Item{"vesper/front/VSP-00001.png": has(drawn(9, 9, color.Black))},
		"Copper Tide", "Mosswick")
	beside := filepath.Join(t.TempDir(), "Copper Tide.png")
	require.NoError(t, os.WriteFile(beside, drawn(5, 5, color.Black), 0o644))
	d.titles[0].Discs[0].Beside = []title.Beside{{Kind: "cover", File: title.File{Path: beside, Size: 9}}}
	d.titles[1].Discs[0].Chosen = []title.Chosen{{Of: "front", None: true}}
	r := d.fetch(cover.FetchOptions{})
	assert.Zero(t, r.Asked)
	assert.Equal(t, map[string]string{"Copper Tide": "found", "Mosswick": "found: none is wanted"}, states(r))
	d.bench.Covers.Of = map[string][]string{"front": {"servers", "beside"}}
	r = d.fetch(cover.FetchOptions{})
	assert.Equal(t, 1, r.Fetched, "the user's order")
	assert.Equal(t, "from shelf", d.titles[0].Picture("front", 0).From)
	d.bench.Covers.Of = map[string][]string{"front": {"beside"}}
	assert.Zero(t, d.fetch(cover.FetchOptions{Again: false}).Asked)
}

func TestASlowServerIsNotWaitedForForEver(t *testing.T) {
	d := newState(t, map[string]pictures.Item{
		"vesper/front/VSP-00001.png": {Data: func() []byte { return drawn(4, 4, color.Black) }, Slow: time.Hour},
		"vesper/front/VSP-00002.png": has(drawn(5, 5, color.Black)),
	}, "Slow", "Quick")
	r := d.fetch(cover.FetchOptions{Patience: cover.Patience{First: time.Millisecond, Tries: 2,
		Timeout: 2 * time.Second}})
	assert.Equal(t, map[string]string{"Slow": "missing: shelf: it did not answer within 2s", "Quick": "found"},
		states(r))
}

// TestAServerThatDrips is given up, though something comes all the time.
func TestAServerThatDrips(t *testing.T) {
	drips := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "image/png")
		for range 100_000 {
			if _, err := w.Write([]byte{'x'}); err != nil {
				return
			}
			w.(http.Flusher).Flush()
			select {
			case <-r.Context().Done():
				return
			case <-time.After(5 * time.Millisecond):
			}
		}
	}))
	defer drips.Close()
	d := newState(t, nil, "One", "Two")
	d.bench.Covers.Servers[0].URL = drips.URL
	r := d.fetch(cover.FetchOptions{Patience: cover.Patience{First: time.Millisecond, Tries: 2, Timeout: time.Hour,
		Span: 200 * time.Millisecond}})
	for name, state := range states(r) {
		assert.Contains(t, state, "it sends less than 1.00 KiB a second", name)
	}
	assert.Len(t, r.Outcomes, 2)
}

func TestSeveralServersAreAskedInTheirOrder(t *testing.T) {
	d := newState(t, map[string]pictures.Item{"vesper/front/VSP-00001.png": has(drawn(4, 4, color.Black))}, "First",
		"Second", "Neither")
	other, err := pictures.Start(map[string]pictures.Item{
		"f/VSP-00001.png": has(drawn(9, 9, color.Black)), "f/VSP-00002.png": has(drawn(9, 9, color.Black)),
		"d/VSP-00002.png": has(drawn(9, 9, color.Black)),
	})
	require.NoError(t, err)
	defer other.Close()
	d.bench.Covers.Servers[0].Of = []string{"front"}
	d.bench.Covers.Servers = append(d.bench.Covers.Servers, bench.CoverServer{Name: "attic",
		URL: strings.TrimSuffix(other.URL(), "/"), Paths: []string{"f/{id}.png", "d/{id}.png"}})
	r := d.fetch(cover.FetchOptions{}, "front", "disc")
	from := map[string]string{}
	for _, o := range r.Outcomes {
		from[o.Label+" "+o.Of] = o.From
	}
	assert.Equal(t, "from shelf", from["First front"])
	assert.Equal(t, "from attic", from["Second front"])
	asked, _, _ := d.server.Asked()
	for _, p := range asked {
		assert.NotContains(t, p, "/disc/", "a server is asked for the kinds that it has")
	}
	assert.Equal(t, "from attic", from["Second disc"])
	require.NoError(t, d.server.Close()) // the first is gone: what it had is kept, and the second is asked for the rest
	d.titles = append(d.titles, vesper(2, "Second again"))
	r = d.fetch(cover.FetchOptions{Patience: cover.Patience{First: time.Millisecond}})
	assert.Equal(t, 3, r.Found)
}

func TestAStoreThatCannotBeWrittenToIsReported(t *testing.T) {
	d := newState(t, map[string]pictures.Item{"vesper/front/VSP-00001.png": has(drawn(4, 4, color.Black))}, "One")
	dir := t.TempDir()
	store, err := cover.OpenStore(dir)
	require.NoError(t, err)
	d.store = store
	require.NoError(t, os.WriteFile(filepath.Join(dir, "pictures"), []byte("a file is in the way"), 0o644))
	r := d.fetch(cover.FetchOptions{})
	assert.Equal(t, "missing: it could not be stored on this computer", states(r)["One"])
	assert.Contains(t, strings.Join(r.Trouble, " "), "storing the download")
	require.NoError(t, store.Close())
	f := cover.NewFinder(d.bench, coretest.Set(t), nil)
	r = f.Fetch(context.Background(), d.titles, cover.Needs(d.titles, d.all(), cover.Only("front")),
		cover.FetchOptions{})
	assert.Contains(t, strings.Join(r.Trouble, " "), "there is no folder to store downloads in")
}

func TestASecondTitleOfTheSamePictureTakesNoMoreSpace(t *testing.T) {
	same := drawn(30, 30, color.Black)
	d := newState(t, map[string]pictures.Item{"vesper/front/VSP-00001.png": has(same),
		"vesper/front/VSP-00002.png": has(same)}, "One", "Two")
	d.fetch(cover.FetchOptions{})
	assert.Equal(t, d.titles[0].Picture("front", 0).File, d.titles[1].Picture("front", 0).File,
		"it is kept by what is in it")
}

func TestOnlyWhatTheLoadersShowIsFetched(t *testing.T) {
	b := bench.New("")
	set := coretest.Set(t)
	wants := func(platform string) []string { return cover.Shown(b, set)(&title.Title{Platform: platform}) }
	assert.Equal(t, []string{"front"}, wants("vesper"), "the front is for the screen, too")
	b.Targets = []bench.Target{{Name: "a", At: "a", Loader: "rowan"}, {Name: "b", At: "b", Loader: "no such loader"}}
	assert.Equal(t, []string{"front", "disc"}, wants("vesper"))
	assert.Equal(t, []string{"front"}, wants("wren8"))
	d := newState(t, nil, "One")
	d.bench.Covers.Servers[0].About = []string{"{id}.json"}
	f := d.finder()
	assert.Len(t, f.About(d.titles, []int{0}), 1)
	d.titles[0].Details = title.Details{Text: "x", Year: "1", Players: "1", Publisher: "y"}
	assert.Empty(t, f.About(d.titles, []int{0}), "of what is known all is known")
}

// TestAFullDiskStopsNoFetch fetches to a real small filesystem: what finds no space is reported, what was kept before
// stays good, and with space again the rest comes.
func TestAFullDiskStopsNoFetch(t *testing.T) {
	items := map[string]pictures.Item{}
	var names []string
	for i := range 6 {
		names = append(names, fmt.Sprint("Title ", i))
		items[fmt.Sprintf("vesper/front/VSP-%05d.png", i+1)] = has(photo(400+i, 500)) // some 100 KiB each
	}
	d := newState(t, items, names...)
	dir := judge.Mount(t, "size=8m")
	store, err := cover.OpenStore(dir)
	require.NoError(t, err)
	defer store.Close()
	d.store = store
	filler := filepath.Join(dir, "filler")
	require.Error(t, os.WriteFile(filler, make([]byte, 8<<20), 0o644))
	info, err := os.Stat(filler)
	require.NoError(t, err)
	require.NoError(t, os.Truncate(filler, info.Size()-400<<10)) // space for a few
	r := d.fetch(cover.FetchOptions{})
	assert.Less(t, r.Found, 6)
	assert.Equal(t, 6, r.Found+r.Refused+r.Missing, "each has its answer")
	assert.Contains(t, strings.Join(r.Trouble, " "), "no space left on device")
	for i := range d.titles {
		if p := d.titles[i].Picture("front", 0); p != nil {
			b, err := os.ReadFile(p.File.Path)
			require.NoError(t, err)
			assert.EqualValues(t, len(b), p.File.Size, "what is kept is whole")
		}
	}
	require.NoError(t, os.Remove(filler))
	r = d.fetch(cover.FetchOptions{})
	assert.Equal(t, 6, r.Found)
	left, err := filepath.Glob(filepath.Join(dir, "pictures", "*", ".fetched-*"))
	require.NoError(t, err)
	assert.Empty(t, left, "no half picture is left")
}

// TestAMistakeOverOnePictureIsReported: the others come.
func TestAMistakeOverOnePictureIsReported(t *testing.T) {
	d := newState(t, map[string]pictures.Item{"vesper/front/VSP-00003.png": has(drawn(40, 60, color.Black))},
		"Copper Tide", "Paper & Glue", "Mosswick")
	r := d.fetch(cover.FetchOptions{Progress: func(p cover.Progress) {
		if p.Now == "Copper Tide" {
			panic("no such colour")
		}
	}})
	assert.Equal(t, []string{"Copper Tide: it failed because of a bug in Polytome: no such colour"}, r.Trouble)
	assert.Equal(t, map[string]string{"Copper Tide": "missing: it failed because of a bug in Polytome: no such colour",
		"Paper & Glue": "missing", "Mosswick": "found"}, states(r))
}
