package draw_test

import (
	"bytes"
	"encoding/json"
	"encoding/xml"
	"errors"
	"flag"
	"fmt"
	"image"
	"image/color"
	stddraw "image/draw"
	"image/jpeg"
	"io"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"polytome/internal/core/bench"
	"polytome/internal/core/blockmap"
	"polytome/internal/core/connections"
	"polytome/internal/core/journal"
	"polytome/internal/core/run"
	"polytome/internal/core/survey"
	"polytome/internal/draw"
	"polytome/internal/draw/scene"
	"polytome/internal/draw/typeface"
	"polytome/internal/format/volume"
	"polytome/internal/netcards"
	"polytome/internal/size"
	"polytome/internal/testkit/judge"
	"polytome/internal/testkit/scenetest"
)

// keep is a folder in which drawings are left to be looked at.
var keep = flag.String("keep", "", "leave the drawings in this folder")

var season = time.Date(2026, 3, 14, 0, 0, 0, 0, time.UTC)

func options(paper string) draw.Options {
	p, err := scene.PaperNamed(paper)
	if err != nil {
		panic(err)
	}
	return draw.Options{Paper: p, Date: season, Bench: "gullwing-season"}
}

// words are what names of titles are made of.
var words = []string{"Copper", "Tide", "Paper", "Falcons", "Mistral", "Halt", "Mosswick", "Clockwork", "Ferry",
	"Saffron", "Circuit", "Underbough", "Tin", "Harbour", "Ninth", "Orchard", "Quarry", "Lantern", "Sluice", "Gannet"}

// odd are names that are hard to write.
var odd = []string{"Älvängens färja", "Ταξίδι στο λιμάνι", "Медная гавань", "銅の潮と紙の隼", "カモメ急行",
	"The Very Long Voyage of the Ferry That Would Not Turn Around Until Somebody Paid",
	"Ünbrokenwordthatgoesonandonandonandonandonandonandonandonandonandonandonandonandonandonandonandon",
	"Nul\x00and\ttab", "e\u0301te\u0301", "ไทย and 🎮 together", "a", "<b>&amp;</b>\"'"}

func nameOf(i int) string {
	if i%25 == 7 {
		return fmt.Sprintf("%s %d", odd[i/25%len(odd)], i)
	}
	return fmt.Sprintf("%s %s %d", words[i%len(words)], words[i/len(words)%len(words)], i)
}

var platforms = []string{"vesper", "lapwing", "skua", "wren8", "corvane"}

var faces = [][]byte{face(120, 160), face(160, 90), face(80, 200)}

// face is a picture.
func face(w, h int) []byte {
	im := image.NewRGBA(image.Rect(0, 0, w, h))
	for y := range h {
		for x := range w {
			im.Set(x, y, color.RGBA{uint8(x * 2), uint8(y), uint8(w), 255})
		}
	}
	var b bytes.Buffer
	if err := jpeg.Encode(&b, im, nil); err != nil {
		panic(err)
	}
	return b.Bytes()
}

func rackWith(n, targets int) draw.Rack {
	var r draw.Rack
	for p := range targets {
		v := draw.Volume{Name: []string{"North stick", "Ferry share", "Meridian disk",
			"A target with a rather long name of its own", "銅の潮"}[p%5], Detail: "FAT32 · usb · for Rowan",
			Capacity: 58 * size.GiB << (p % 6)}
		each := v.Capacity / int64(max(1, 2*n*(p+1)))
		for i := range min(n, 24) {
			sh := draw.Share{Platform: fmt.Sprintf("%s %d", platforms[i%5], i/5)}
			count := n / min(n, 24)
			if i%3 != 2 {
				sh.KeptTitles, sh.Kept = count, each*int64(count)
			}
			if i%2 == 0 {
				sh.NewTitles, sh.Planned = count, each*int64(count)/3
			}
			v.Kept, v.Planned = v.Kept+sh.Kept, v.Planned+sh.Planned
			v.Shares = append(v.Shares, sh)
		}
		v.Kept += size.GiB
		if p%3 == 1 {
			v.Reserve = 4 * size.GiB
		}
		if p%3 == 2 {
			v.OverTitles, v.Over = n, int64(n)*size.GiB
		}
		if p == 3 {
			v.Away = "the drive is not plugged in, and nobody knows where it is; what is reported was on it on 3 March"
		}
		r.Targets = append(r.Targets, v)
	}
	return r
}

func cardWith(n int, fold draw.Fold, covers bool) draw.Card {
	c := draw.Card{Target: "North stick", Loader: "Rowan on Vesper", Detail: "FAT32, 58.00 GiB", Fold: fold,
		Steps: []string{"Eject the stick when it is safe, and plug it in", "Switch the console on and start Rowan",
			"If the list is outdated: refresh it it, and wait until the light at the front has gone out"}}
	for i := range n {
		t := draw.CardTitle{Platform: platforms[i*len(platforms)/max(1, n)], Name: nameOf(i),
			ID: fmt.Sprintf("VSP-%05d", 20000+i), Discs: 1 + i%17/16, Size: int64(i+1) * 7 * size.MiB}
		if i%6 == 5 {
			t.ID = ""
		}
		if covers && i%3 != 1 {
			t.Cover = faces[i%3]
		}
		c.Titles = append(c.Titles, t)
	}
	return c
}

func fitWith(n, targets int) draw.FitSheet {
	f := draw.FitSheet{}
	for p := range targets {
		f.Targets = append(f.Targets, draw.FitTarget{Name: fmt.Sprintf("%s %d", []string{"North stick", "Ferry share",
			"A disk in the East Hall"}[p%3], p), Detail: "FAT32, usb"})
	}
	for i := range n {
		t := draw.FitTitle{Platform: platforms[i*len(platforms)/n], ID: fmt.Sprintf("VSP-%05d", i), Name: nameOf(i),
			Size: int64(i) * 3 * size.MiB}
		for p := range targets {
			c := draw.FitCell{Word: "as it is", Wanted: (i+p)%2 == 0, Goes: true}
			switch (i + p) % 7 {
			case 3:
				c = draw.FitCell{Word: "no space", Wanted: true,
					Say: fmt.Sprintf("it needs %s more than what is chosen before it leaves",
						size.Format(int64(i)*size.MiB)),
					Ways: []string{"take something off first, or give it a higher priority",
						"Ferry share copies it, 3 to 8 min over smb"}}
			case 5:
				c = draw.FitCell{Word: "too big", Say: "FAT32 holds 4 GiB − 1 a file"}
			case 6:
				c = draw.FitCell{}
			}
			t.Cells = append(t.Cells, c)
		}
		f.Titles = append(f.Titles, t)
	}
	return f
}

func treeWith(n int, whole bool) draw.Tree {
	t := draw.Tree{Target: "North stick", Detail: "FAT32 · usb · for Rowan", Whole: whole}
	states := []survey.State{survey.Kept, survey.New, survey.Written, survey.Renamed, survey.Replaced, survey.Removing,
		survey.InTheWay, survey.Contested, survey.Leftover}
	add := func(l survey.Line) { t.Lines = append(t.Lines, l) }
	if n == 0 {
		return t
	}
	add(survey.Line{Path: "FACES", Folder: true, State: survey.New})
	for i := range n / 2 {
		add(survey.Line{Path: fmt.Sprintf("FACES/VSP-%05d.jpg", i), Size: 9000, State: survey.Written})
	}
	add(survey.Line{Path: "FULL", Folder: true, State: survey.Kept})
	for i := range n {
		path := fmt.Sprintf("FULL/VSP-%05d - %s.iso", i, strings.ReplaceAll(nameOf(i), "/", "-"))
		l := survey.Line{Path: path, Size: int64(i+1) * size.MiB, State: states[i%len(states)], Title: i}
		if l.State == survey.Renamed {
			l.From = "FULL/" + nameOf(i) + ".iso"
		}
		add(l)
		t.Titles = append(t.Titles, draw.TreeTitle{Name: nameOf(i), Path: path, State: l.State})
	}
	deep := "Games"
	for k := range 30 { // deeper than paper is wide
		add(survey.Line{Path: deep, Folder: true, State: survey.New})
		deep += fmt.Sprintf("/level %d", k)
	}
	add(survey.Line{Path: deep + "/main.run", Size: 12, State: survey.New})
	for i := range n {
		add(survey.Line{Path: fmt.Sprintf("Titles/%s/title.toml", strings.ReplaceAll(nameOf(i), "/", "-")), Size: 400,
			State: states[i%2]})
	}
	return t
}

func linksWith(n int) draw.Connections {
	cable := &bench.Cable{Interface: "enp3s0", Computer: "192.168.77.1/24", Console: "192.168.77.2",
		Was: "ftp://192.168.0.20/hd1", Before: []string{"dhcp"}}
	h := &connections.Connections{Computer: "playroom-desk", System: "linux",
		Cards: []netcards.Card{{Name: "enp3s0", Plugged: true, Up: true}, {Name: "wlan0", Wireless: true,
			Plugged: true}}}
	for i := range n {
		l := connections.Link{Name: nameOf(i), Via: "usb", At: "/media/" + nameOf(i), Loader: "Rowan",
			Console: "Vesper", Must: []string{"the folder /media/stick, and then the stick in the Vesper"}}
		switch i % 4 {
		case 1:
			l.Via, l.Host, l.Port, l.Root, l.Card, l.Local, l.Direct = "ftp", "192.168.0.20", 21, "/hd1", "wlan0",
				"192.168.0.5", true
			l.Must = []string{"the Corvane, with its FTP server running on port 21",
				"drops the control connection after 60 s of silence", "one data connection at a time"}
		case 2:
			l.Via, l.Host, l.Port, l.Cable = "ftp", "192.168.77.2", 21, cable
		case 3:
			l.Via, l.Host, l.Port, l.Root, l.Tried = "smb", "box.playroom.example", 445, "games",
				connections.Tried{State: connections.Answers}
		}
		h.Links = append(h.Links, l)
	}
	if n > 2 {
		h.Reminder = []string{"enp3s0 of this computer still has the address 192.168.77.1/24 of the cable to the " +
			"Corvane: set it back when you are done"}
	}
	return draw.ConnectionsOf(h)
}

func runsWith(n int) (c draw.RunChart) {
	for i := range min(n, 12) {
		l := draw.RunLane{Target: nameOf(i), State: "complete", Began: season.Add(20 * time.Hour),
			Span: 100 * time.Millisecond << (i * 3 / 2), Totals: []string{fmt.Sprintf("%d of %d steps done", n, n),
				"12 files, 31.00 GiB written"}}
		for k := range min(n, 600) {
			l.Speeds = append(l.Speeds, int64(20*size.MiB+int64(k*k*7919%int(30*size.MiB))))
		}
		l.Elapsed = l.Span * time.Duration(len(l.Speeds))
		for k := range min(n/2, 300) {
			l.Moments = append(l.Moments, journal.Moment{At: l.Elapsed * time.Duration(k) / time.Duration(n/2+1),
				Kind: []run.EventKind{run.Failed, run.Waiting, run.Back, run.Rewriting, run.Paused}[k%5],
				Path: "FULL/" + nameOf(k) + ".iso",
				Say:  "the target went away, as a drive does that is pulled; trying again in 2 s"})
		}
		c.Lanes = append(c.Lanes, l)
	}
	return c
}

func mapWith(n int) draw.VolumeMap {
	if n == 0 {
		return draw.VolumeMap{Target: "no target"}
	}
	return draw.VolumeMap{Target: "north-58.img", Now: layWith(n, true), After: layWith(n, false),
		Planned:  "now, and after defragmenting every file",
		NotFixed: []string{"FULL/torn.iso stays fragmented: no run of free clusters is large enough."}}
}

func stepsWith(n int) (c draw.Checklist) {
	for i := range n {
		p := draw.Steps{Target: nameOf(i), Detail: "FAT32 · usb · for Rowan",
			Lines: []string{"Eject the stick when it is safe, and plug it in", "Switch the console on",
				"If a title is missing, refresh the list twice, because the first time only the names are read, and " +
					"the " +
					"second time what is behind them"}}
		p.Ticked = func(l string) bool { return strings.HasPrefix(l, "Switch") }
		if i%4 == 3 {
			p.Lines = nil
		}
		c.Targets = append(c.Targets, p)
	}
	if n > 1 {
		c.Targets[1].Cable = &connections.Sheet{Computer: []string{"Give enp3s0 the address 192.168.77.1 with the " +
			"mask 255.255.255.0"}, Console: []string{"Set 192.168.77.2"},
			Back: []string{"Set enp3s0 back to being given its address"}}
	}
	return c
}

// subjects are all kinds with so many titles.
func subjects(n int) map[string]draw.Subject {
	out := map[string]draw.Subject{"rack": rackWith(n, min(n, 9)),
		"fit": fitWith(n, []int{0: 0, 3: 3, 60: 9, 3000: 4}[n]), "tree": treeWith(n, false),
		"connections": linksWith(min(n, 60)), "run": runsWith(n), "map": mapWith(n), "checklist": stepsWith(min(n, 60))}
	if n <= 60 {
		out["tree-whole"] = treeWith(n, true)
	}
	for _, f := range draw.Folds {
		if n <= 60 || f.Name == "eighth" {
			out["card-"+f.Name] = cardWith(n, f, n < 100)
		}
	}
	return out
}

// TestNothingOverlapsOverflowsOrIsDust looks at every drawing with nothing, 3, 60 and 3,000 titles, on both papers, and
// has foreign programs read both files.
func TestNothingOverlapsOverflowsOrIsDust(t *testing.T) {
	dir := t.TempDir()
	if *keep != "" {
		dir = *keep
	}
	for _, n := range []int{0, 3, 60, 3000} {
		for name, s := range subjects(n) {
			for _, paper := range []string{"a4", "letter"} {
				t.Run(fmt.Sprintf("%s/%d/%s", name, n, paper), func(t *testing.T) {
					d := s.Draw(options(paper))
					for _, w := range scenetest.Wrong(d) {
						t.Error(w)
					}
					if paper == "letter" && n != 3 {
						return // the files differ by nothing but numbers
					}
					base := filepath.Join(dir, fmt.Sprintf("%s-%d-%s", name, n, paper))
					for _, ext := range draw.Formats {
						require.NoError(t, draw.Save(base+ext, d))
					}
					found := readable(t, base, d, n < 3000 || name == "card-eighth")
					if n == 3000 && (name == "fit" || name == "tree" || name == "card-eighth") {
						everyTitle(t, found, n)
					}
				})
			}
		}
	}
}

// readable has foreign programs read the files of a drawing: they must find no fault, every text, and as many pages. It
// returns what is written in the PDF, without spaces.
func readable(t *testing.T, base string, d *scene.Drawing, both bool) (text string) {
	require.NotContains(t, judge.Run(t, "qpdf", "--check", base+".pdf"), "WARNING")
	require.Regexp(t, fmt.Sprintf(`(?m)^Pages: +%d$`, len(d.Pages)), judge.Run(t, "pdfinfo", base+".pdf"))
	text = squeeze(judge.Run(t, "pdftotext", "-raw", base+".pdf", "-"))
	var drawing map[string]bool
	if both {
		drawing = xmlText(t, base+".svg")
	}
	sought := map[string]bool{}
	for _, p := range d.Pages {
		for _, item := range p.Items {
			if v, ok := item.(*scene.Text); ok && strings.TrimSpace(v.S) != "" {
				require.True(t, !both || drawing[v.S], "the SVG has no %q", v.S)
				for _, word := range strings.Fields(v.S) {
					if !sought[word] && !strings.Contains(text, word) {
						require.Fail(t, "pdftotext does not find it", "%q of %q", word, v.S)
					}
					sought[word] = true
				}
			}
		}
	}
	for _, line := range strings.Split(strings.TrimSpace(judge.Run(t, "pdffonts", base+".pdf")), "\n")[2:] {
		require.Regexp(t, `Identity-H +yes (yes|no) +yes`, line, "embedded, with its Unicode characters")
	}
	if info, err := os.Stat(base + ".pdf"); assert.NoError(t, err) && len(d.Pages) < 5 && !strings.Contains(base,
		"card") {
		assert.Less(t, info.Size(), int64(300_000), "fonts are in it as far as they are used")
	}
	judge.Run(t, "xmllint", "--noout", base+".svg")
	return text
}

var spaces = regexp.MustCompile(`\s+`)

func squeeze(s string) string { return spaces.ReplaceAllString(s, "") }

// xmlText is all texts in an XML file.
func xmlText(t *testing.T, file string) map[string]bool {
	f, err := os.Open(file)
	require.NoError(t, err)
	defer f.Close()
	out := map[string]bool{}
	for dec := xml.NewDecoder(f); ; {
		token, err := dec.Token()
		if errors.Is(err, io.EOF) {
			return out
		}
		require.NoError(t, err)
		switch v := token.(type) {
		case xml.CharData:
			out[string(v)] = true
		case xml.StartElement:
			for _, a := range v.Attr {
				if a.Name.Local == "href" {
					require.True(t, strings.HasPrefix(a.Value, "#") || strings.HasPrefix(a.Value, "data:"),
						"nothing is taken from elsewhere: %s", a.Value)
				}
			}
		}
	}
}

// everyTitle looks for the whole names of titles in what is written in a PDF.
func everyTitle(t *testing.T, text string, n int) {
	for i := range n {
		name := typeface.Clean(nameOf(i))
		if strings.Contains(text, squeeze(name)) {
			continue
		}
		for _, word := range strings.Fields(name) { // one that is wrapped may have its ID or size between its lines
			head := string([]rune(word)[:min(len([]rune(word)), 12)])
			require.True(t, strings.Contains(text, head), "%q of %q", head, name)
		}
	}
}

// TestLongDrawingsHaveContentsAndLinks reads the table of contents and the links of a long PDF with a foreign program,
// and those of the SVG.
func TestLongDrawingsHaveContentsAndLinks(t *testing.T) {
	type outline struct {
		Title string
		Page  int `json:"destpageposfrom1"`
		Kids  []outline
	}
	for name, c := range map[string]struct {
		of      draw.Subject
		entries []string
		links   int
	}{
		"card": {cardWith(300, draw.Folds[0], false), []string{"corvane", "lapwing", "skua", "vesper", "wren8",
			"At the console"}, 5},
		"fit":  {fitWith(300, 3), []string{"vesper", "lapwing", "skua", "wren8", "corvane", "Why not"}, 100},
		"tree": {treeWith(3000, false), []string{"FACES", "FULL", "Games", "Titles", "Where every title is"}, 40},
	} {
		t.Run(name, func(t *testing.T) {
			d := c.of.Draw(options("a4"))
			base := filepath.Join(t.TempDir(), "x")
			require.NoError(t, draw.Save(base+".pdf", d))
			require.NoError(t, draw.Save(base+".svg", d))
			var read struct{ Outlines []outline }
			require.NoError(t, json.Unmarshal([]byte(judge.Run(t, "qpdf", "--json", "--json-key=outlines",
				base+".pdf")), &read))
			var titles []string
			page := 1
			for _, o := range read.Outlines {
				titles = append(titles, o.Title)
				assert.GreaterOrEqual(t, o.Page, page)
				page = o.Page
			}
			assert.Equal(t, c.entries, titles)
			assert.Greater(t, page, 1)
			plain := judge.Run(t, "qpdf", "--qdf", "--object-streams=disable", base+".pdf", "-")
			assert.GreaterOrEqual(t, strings.Count(plain, "/Subtype /Link"), c.links)
			data, err := os.ReadFile(base + ".svg")
			require.NoError(t, err)
			links := regexp.MustCompile(`<a href="#(page\d+)">`).FindAllStringSubmatch(string(data), -1)
			assert.Equal(t, strings.Count(plain, "/Subtype /Link"), len(links))
			for _, l := range links {
				require.Contains(t, string(data), `<view id="`+l[1]+`"`)
			}
		})
	}
}

// TestTextsAreAsWideAsTheyWereMeasured holds our measure of each word against the one of a foreign program.
func TestTextsAreAsWideAsTheyWereMeasured(t *testing.T) {
	p := &scene.Page{Width: 600, Height: 800}
	want := map[string]float64{}
	for i, s := range []string{"Copper", "Harbour,", "Älvängens", "Ταξίδι", "Медная", "銅の潮と紙の隼", "カモメ急行", "1,234.56",
		"WWWiiilll"} {
		for k, w := range []typeface.Weight{typeface.Regular, typeface.Bold} {
			pen := scene.Pen{Size: 20, Weight: w}
			key := fmt.Sprintf("%s/%d", s, i*40+k*20)
			want[key] = p.Write(pen, 50, float64(60+i*80+k*40), s)
		}
	}
	file := filepath.Join(t.TempDir(), "x.pdf")
	require.NoError(t, draw.Save(file, &scene.Drawing{Date: season, Pages: []*scene.Page{p}}))
	words := regexp.MustCompile(`xMin="([\d.]+)" yMin="[\d.]+" xMax="([\d.]+)" yMax="[\d.]+">([^<]+)<`).
		FindAllStringSubmatch(judge.Run(t, "pdftotext", "-bbox", file, "-"), -1)
	require.Len(t, words, len(want))
	for _, w := range words {
		from, err := strconv.ParseFloat(w[1], 64)
		require.NoError(t, err)
		to, err := strconv.ParseFloat(w[2], 64)
		require.NoError(t, err)
		fits := false
		for key, wide := range want {
			fits = fits || strings.HasPrefix(key, w[3]+"/") && to-from > wide*0.995 && to-from < wide*1.005
		}
		assert.True(t, fits, "%s is %.2f wide", w[3], to-from)
		assert.InDelta(t, 50, from, 0.01)
	}
}

// TestBothFilesShowTheSame has foreign programs draw the SVG and the PDF, and compares the pictures.
func TestBothFilesShowTheSame(t *testing.T) {
	for name, s := range map[string]draw.Subject{"card-eighth": cardWith(20, draw.Folds[1], true),
		"rack": rackWith(24, 4), "tree": treeWith(12, false), "map": mapWith(12), "run": runsWith(4),
		"checklist": stepsWith(3), "fit": fitWith(12, 3), "connections": linksWith(4)} {
		t.Run(name, func(t *testing.T) {
			d := s.Draw(options("a4"))
			d.Pages = d.Pages[:1]
			for _, p := range d.Pages { // links lead to the pages that were taken away
				p.Items = withoutLinks(p.Items)
			}
			d.Marks = nil
			base := filepath.Join(t.TempDir(), "x")
			require.NoError(t, draw.Save(base+".svg", d))
			require.NoError(t, draw.Save(base+".pdf", d))
			const dpi = 150 // at fewer, programs disagree by a shade on the edges of letters
			p := d.Pages[0]
			w, h := int(p.Width*dpi/72+0.5), int(p.Height*dpi/72+0.5)
			judge.Run(t, "rsvg-convert", "-w", strconv.Itoa(w), "-h", strconv.Itoa(h), "-b", "white", "-o",
				base+".s.png", base+".svg")
			judge.Run(t, "pdftoppm", "-png", "-singlefile", "-scale-to-x", strconv.Itoa(w), "-scale-to-y",
				strconv.Itoa(h), base+".pdf", base+".p")
			a, b := decode(t, base+".s.png"), decode(t, base+".p.png")
			require.Equal(t, a.Bounds(), b.Bounds())
			far, dark := 0, 0
			for y := range h {
				for x := range w {
					p, q := int(a.Pix[y*a.Stride+x]), int(b.Pix[y*b.Stride+x])
					if p < 200 {
						dark++
					}
					if p-q > 120 || q-p > 120 {
						far++
					}
				}
			}
			require.Greater(t, dark, w*h/500, "something is drawn")
			require.Less(t, far, w*h/100, "of %d", w*h)
		})
	}
}

func withoutLinks(items []scene.Item) (out []scene.Item) {
	for _, i := range items {
		if _, is := i.(*scene.Link); !is {
			out = append(out, i)
		}
	}
	return out
}

// decode reads a picture as greys.
func decode(t *testing.T, file string) *image.Gray {
	f, err := os.Open(file)
	require.NoError(t, err)
	defer f.Close()
	im, _, err := image.Decode(f)
	require.NoError(t, err)
	out := image.NewGray(im.Bounds())
	stddraw.Draw(out, out.Bounds(), im, im.Bounds().Min, stddraw.Src)
	return out
}

// TestTheSameInputGivesTheSameBytes draws twice, and with another date.
func TestTheSameInputGivesTheSameBytes(t *testing.T) {
	for name, s := range subjects(60) {
		if strings.HasPrefix(name, "card-") && name != "card-quarter" || name == "tree-whole" {
			continue
		}
		for _, ext := range draw.Formats {
			bytesOf := func(o draw.Options) string {
				var b bytes.Buffer
				require.NoError(t, draw.Write(&b, ext, s.Draw(o)))
				return b.String()
			}
			first := bytesOf(options("a4"))
			require.Equal(t, first, bytesOf(options("a4")), "%s%s", name, ext)
			later := options("a4")
			later.Date = season.AddDate(0, 0, 1)
			assert.NotEqual(t, first, bytesOf(later), "%s%s bears its date", name, ext)
		}
	}
}

// TestAnyTitlesCanBeDrawn draws cards and fit sheets of any names.
func TestAnyTitlesCanBeDrawn(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		name := rapid.OneOf(rapid.String(), rapid.SampledFrom(odd), rapid.StringOfN(rapid.RuneFrom([]rune("aWあ亜 -")), 0,
			120, -1))
		n := rapid.IntRange(0, 6).Draw(t, "titles")
		card := draw.Card{Target: name.Draw(t, "target"), Loader: name.Draw(t, "loader"),
			Fold: rapid.SampledFrom(draw.Folds).Draw(t, "fold"), Steps: rapid.SliceOfN(name, 0, 9).Draw(t, "steps")}
		sheet := draw.FitSheet{Targets: []draw.FitTarget{{Name: name.Draw(t, "a")}, {Name: name.Draw(t, "b"),
			Detail: name.Draw(t, "detail")}}}
		for range n {
			platform := rapid.OneOf(rapid.SampledFrom([]string{"vesper", "", "銅"}), name).Draw(t, "platform")
			c := draw.CardTitle{Platform: platform, Name: name.Draw(t, "name"), ID: name.Draw(t, "id"), Discs: 1,
				Size: rapid.Int64Range(0, 1<<50).Draw(t, "size")}
			if rapid.Bool().Draw(t, "cover") {
				c.Cover = rapid.SampledFrom([][]byte{faces[0], faces[2], []byte("no picture")}).Draw(t, "picture")
			}
			card.Titles = append(card.Titles, c)
			sheet.Titles = append(sheet.Titles, draw.FitTitle{Platform: platform, Name: c.Name, ID: c.ID, Size: c.Size,
				Cells: []draw.FitCell{{Word: "split 4", Goes: true, Wanted: true}, {Word: name.Draw(t, "word"),
					Wanted: true, Say: name.Draw(t, "say"), Ways: []string{name.Draw(t, "way")}}}})
		}
		for _, s := range []draw.Subject{card, sheet} {
			d := s.Draw(options("letter"))
			for _, w := range scenetest.Wrong(d) {
				t.Errorf("%T: %s", s, w)
			}
			if rapid.IntRange(0, 9).Draw(t, "write") == 0 {
				require.NoError(t, draw.Write(io.Discard, rapid.SampledFrom(draw.Formats).Draw(t, "ext"), d))
			}
		}
	})
}

// TestManyPlatformsHaveSpaceOnACard has more platforms than the front of a card has lines.
func TestManyPlatformsHaveSpaceOnACard(t *testing.T) {
	for _, f := range draw.Folds {
		c := cardWith(200, f, false)
		c.Note = "What to do at the console is unknown, as the target could not be read: the drive is not plugged in."
		for i := range c.Titles {
			c.Titles[i].Platform = fmt.Sprintf("platform %03d", i%90)
		}
		d := c.Draw(options("a4"))
		assert.Empty(t, scenetest.Wrong(d), f.Name)
		assert.Len(t, d.Marks, 91, "each has an entry, and the checklist")
	}
}

// layWith is a volume with n files, one behind the other; torn has every seventh lie in several pieces.
func layWith(n int, torn bool) *blockmap.Map {
	var files []volume.Piece
	at := uint32(2)
	for i := range n {
		f := volume.Piece{Path: fmt.Sprintf("FULL/VSP-%05d - %s.iso", i, strings.ReplaceAll(nameOf(i), "/", "-")),
			Size: 64 * size.MiB}
		count := uint32(64)
		if torn && i%7 == 2 {
			for range 2 + i%3 {
				f.Runs = append(f.Runs, volume.Run{First: at, Count: count / 4})
				at += count/4 + 11
			}
		} else {
			f.Runs = []volume.Run{{First: at, Count: count}}
			at += count
		}
		files = append(files, f)
	}
	clusters := at + at/3
	return blockmap.Of(volume.Info{Filesystem: "fat32", Label: "NORTH", Cluster: 1 << 20, Clusters: clusters,
		Size: int64(clusters) << 20, Heap: 1 << 20}, files, []volume.Run{{First: at, Count: clusters - at}})
}

// BenchmarkDraw draws 3,000 titles, and writes them to both files.
func BenchmarkDraw(b *testing.B) {
	for name, s := range subjects(3000) {
		for _, ext := range draw.Formats {
			b.Run(name+ext, func(b *testing.B) {
				var n int64
				for b.Loop() {
					var w bytes.Buffer
					require.NoError(b, draw.Write(&w, ext, s.Draw(options("a4"))))
					n = int64(w.Len())
				}
				b.ReportMetric(float64(n)/1e6, "MB")
			})
		}
	}
}
