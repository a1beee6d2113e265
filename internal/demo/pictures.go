package demo

import (
	"bytes"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"hash/crc32"
	"image"
	"image/color"
	"image/gif"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"polytome/internal/core/bench"
	"polytome/internal/sim/pictures"
)

// CoverServer is how the bench calls the demo's server of pictures.
const CoverServer = "Playroom shelf"

// covered are the titles that have a cover beside their image.
var covered = []string{"Copper Tide", "Paper Falcons", "Saffron Circuit", "Mistral Halt"}

// pictured is the title whose image brings a picture along.
const pictured = "Tin Harbour"

// unpictured are titles of which the server has no front: their covers are missing, or lie somewhere else.
var unpictured = []string{"Lantern Sluice", "Tin Harbour", "Quillwork", "Glasshouse", "Stave Church", "Fog Signal"}

// shelved are the titles of the other consoles of which the server has pictures, by their platforms.
var shelved = map[string][]string{
	"wren8": {"Brackwater", "Ropewalk", "Sluice Gate Sam", "Kite over Quarry Hill"}, "heron16": {"Marsh Light",
		"Tollbridge"}, "finch": {"Pocket Regatta", "Reed Runner"},
	"kestrel64": {"Hawk & Thistle", "Stave Church"}, "brambling": {"Lamplighter"}, "dotterel": {"Ninepin Alley"},
	"twite": {"Sea Shanty Rally"}, "linnet": {"Glasshouse"},
	"lapwing": {"Fog Signal", "Heron's Watch", "Lockkeeper", "Saltmarsh Symphony", "Two Tides"}, "siskin": {"Bell Buoy",
		"Cinder Path", "Ferry Queen", "Puddle Duchess"},
	"skua": {"Long Water", "The Glass Ferry"}, "dulcimer": {"Mast & Mirror", "Tollgate"}, "corvane": {"Hollow Lane",
		"Gorse Common"}, "meridian": {"Slow Lantern", "Weir"},
}

// texts are descriptions that the server has.
var texts = map[string]string{
	"Copper Tide": "The ferry has lost its bell, and the harbour its tide. Find both before the last " +
		"crossing.",
	"The Ninth Orchard":      "Eight orchards feed the valley. The ninth one keeps its fruit, and asks for something.",
	"Saffron Circuit":        "Twelve lanes of spice carts, one bridge.",
	"Mistral Halt":           "The train does not run while the wind blows. It has blown for nine years.",
	"Nine Bells to Marrowby": "A night watch in nine bells.",
}

// Pictures are what the demo's server of pictures has: drawn by code, with the mistakes that such servers make.
func Pictures() map[string]pictures.Item {
	items := map[string]pictures.Item{}
	draw := func(path, of, name string) {
		items[path] = pictures.Item{Data: func() []byte { return asPNG(of, name) }}
	}
	for _, v := range vespers {
		id := fmt.Sprintf("VSP-%05d", v.number)
		if !slices.Contains(unpictured, v.name) {
			draw("vesper/front/"+id+".png", "front", v.name)
		}
		if v.number%3 == 0 {
			draw("vesper/disc/"+id+".png", "disc", v.name)
		}
		if text := texts[v.name]; text != "" {
			about, _ := json.Marshal(map[string]any{"text": text, "year": 1990 + v.number%9, "players": "1-2",
				"publisher": "Gullwing Playroom"})
			items["vesper/about/"+id+".json"] = pictures.Item{Data: func() []byte { return about },
				Type: "application/json"}
		}
	}
	for platform, names := range shelved {
		for _, name := range names {
			if !slices.Contains(unpictured, name) {
				// its extension lies
				items[platform+"/front/"+name+".png"] = pictures.Item{Data: func() []byte {
					return asJPEG("front",
						name)
				}}
			}
		}
	}
	whole := asJPEG("front", "Cut")
	// Underbough: cut short
	items["vesper/front/VSP-21560.png"] = pictures.Item{Data: func() []byte { return whole[:len(whole)/2] }}
	// Quarry & Sons: 30,000 x 30,000
	items["vesper/front/VSP-21602.png"] = pictures.Item{Data: hugePicture}
	// Salt & Semaphore
	items["vesper/front/VSP-21690.png"] = pictures.Item{Data: func() []byte {
		return []byte(
			"<html><body>moved to the attic</body></html>")
	}}
	// it moves
	items["siskin/front/Bell Buoy.png"] = pictures.Item{Data: moving}
	items["siskin/front/Cinder Path.png"] = pictures.Item{Status: 500}
	items["lapwing/front/Lockkeeper.png"] = pictures.Item{To: "/lapwing/front/Lockkeeper.png"} // in a circle
	slow := items["vesper/front/VSP-21733.png"]
	slow.Slow = 1500 * time.Millisecond
	items["vesper/front/VSP-21733.png"] = slow
	busy := items["vesper/front/VSP-21762.png"]
	busy.Busy = 1
	items["vesper/front/VSP-21762.png"] = busy
	return items
}

// hugePicture is a PNG whose header says 30,000 x 30,000 pixels.
func hugePicture() []byte {
	ihdr := binary.BigEndian.AppendUint32(binary.BigEndian.AppendUint32([]byte("IHDR"), 30000), 30000)
	ihdr = append(ihdr, 8, 2, 0, 0, 0)
	out := append([]byte("\x89PNG\r\n\x1a\n\x00\x00\x00\x0d"), ihdr...)
	return binary.BigEndian.AppendUint32(out, crc32.ChecksumIEEE(ihdr))
}

// moving is a GIF of two frames.
func moving() []byte {
	g := &gif.GIF{Delay: []int{20, 20}}
	for i := range 2 {
		m := image.NewPaletted(image.Rect(0, 0, 40, 56), color.Palette{hsv(float64(i)/2, 0.8, 0.8), hsv(0, 0, 1)})
		g.Image = append(g.Image, m)
	}
	var b bytes.Buffer
	if err := gif.EncodeAll(&b, g); err != nil {
		panic(fmt.Sprint("encoding a drawn picture: ", err)) // it is written to memory
	}
	return b.Bytes()
}

// pictureFolder is the folder of the demo in which someone has gathered covers: some under the names of the titles,
// and one with a letter missing.
const pictureFolder = "covers"

// writePictures fills the folder of covers.
func (w World) writePictures() error {
	for file, name := range map[string]string{
		"VSP-20417.png": "Copper Tide, second printing", "Lantern Sluice (East).jpg": "Lantern Sluice",
		"kestrel64/Stave Church.png": "Stave Church", "Fog Signl.png": "Fog Signal",
		"disc/VSP-20417.png": "Copper Tide", "Quilwork.jpg": "Quillwork",
	} {
		path := filepath.Join(w.Dir, pictureFolder, filepath.FromSlash(file))
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			return fmt.Errorf("making the demo's covers: %w", err)
		}
		of := "front"
		if strings.HasPrefix(file, "disc/") {
			of = "disc"
		}
		data := asPNG(of, name)
		if strings.HasSuffix(file, ".jpg") {
			data = asJPEG(of, name)
		}
		if err := writeAll(path, string(data)); err != nil {
			return err
		}
	}
	return nil
}

// covers are where the demo's bench looks for pictures.
func covers(url string) bench.Covers {
	return bench.Covers{
		Folders: []bench.CoverFolder{{Path: pictureFolder}},
		Servers: []bench.CoverServer{{Name: CoverServer, URL: url, Paths: []string{"{platform}/{kind}/{id}.png",
			"{platform}/{kind}/{bare}.png"}, About: []string{"{platform}/about/{id}.json"}}},
	}
}
