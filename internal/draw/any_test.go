package draw_test

import (
	"fmt"
	"io"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"polytome/internal/core/blockmap"
	"polytome/internal/core/connections"
	"polytome/internal/core/journal"
	"polytome/internal/core/prepare"
	"polytome/internal/core/run"
	"polytome/internal/core/survey"
	"polytome/internal/draw"
	"polytome/internal/drives"
	"polytome/internal/format/volume"
	"polytome/internal/netcards"
	"polytome/internal/testkit/scenetest"
)

var anyName = rapid.OneOf(rapid.SampledFrom(odd), rapid.StringOfN(rapid.RuneFrom([]rune("aWi 亜あ/-.Ω")), 0, 60, -1),
	rapid.String())

func anyRack(t *rapid.T) draw.Subject {
	var r draw.Rack
	amount := rapid.OneOf(rapid.Int64Range(0, 1<<20), rapid.Int64Range(0, 1<<42))
	for range rapid.IntRange(0, 8).Draw(t, "targets") {
		v := draw.Volume{Name: anyName.Draw(t, "name"), Detail: anyName.Draw(t, "detail"), Capacity: amount.Draw(t,
			"capacity"), Kept: amount.Draw(t, "kept"), Planned: amount.Draw(t, "planned"),
			Reserve: amount.Draw(t, "reserve"), Over: amount.Draw(t, "over"), OverTitles: rapid.IntRange(0, 99999).
					Draw(t, "over titles")}
		if rapid.IntRange(0, 4).Draw(t, "away") == 0 {
			v.Away = anyName.Draw(t, "why")
		}
		for i := range rapid.IntRange(0, 9).Draw(t, "shares") {
			v.Shares = append(v.Shares, draw.Share{Platform: fmt.Sprint(anyName.Draw(t, "platform"), i),
				Kept: amount.Draw(t, "k"), Planned: amount.Draw(t, "p"), KeptTitles: 3, NewTitles: 40000})
		}
		r.Targets = append(r.Targets, v)
	}
	return r
}

func anyTree(t *rapid.T) draw.Subject {
	tree := draw.Tree{Target: anyName.Draw(t, "target"), Detail: anyName.Draw(t, "detail"), Whole: rapid.Bool().
		Draw(t, "whole")}
	states := []survey.State{survey.Kept, survey.New, survey.Written, survey.Renamed, survey.Replaced, survey.Removing,
		survey.InTheWay, survey.Contested, survey.Leftover}
	part := rapid.Custom(func(t *rapid.T) string {
		return strings.Trim(strings.ReplaceAll(anyName.Draw(t, "part"), "/", "-"), ". ") + "x"
	})
	for range rapid.IntRange(0, 40).Draw(t, "lines") {
		path := strings.Join(rapid.SliceOfN(part, 1, 5).Draw(t, "path"), "/")
		l := survey.Line{Path: path, Size: rapid.Int64Range(0, 1<<40).Draw(t, "size"), State: rapid.SampledFrom(states).
			Draw(t, "state"), Folder: rapid.IntRange(0, 5).Draw(t, "folder") == 0, From: part.Draw(t, "from")}
		tree.Lines = append(tree.Lines, l)
		tree.Titles = append(tree.Titles, draw.TreeTitle{Name: anyName.Draw(t, "title"), Path: path, State: l.State})
	}
	return tree
}

func anyRun(t *rapid.T) draw.Subject {
	var c draw.RunChart
	for range rapid.IntRange(0, 4).Draw(t, "lanes") {
		l := draw.RunLane{Target: anyName.Draw(t, "target"), State: anyName.Draw(t, "state"), Began: season,
			Span:    time.Duration(rapid.Int64Range(0, int64(time.Hour)).Draw(t, "span")),
			Elapsed: time.Duration(rapid.Int64Range(0, int64(100*time.Hour)).Draw(t, "elapsed")),
			More:    rapid.IntRange(0, 3).Draw(t, "more"), Totals: rapid.SliceOfN(anyName, 0, 6).Draw(t, "totals"),
			Speeds: rapid.SliceOfN(rapid.Int64Range(0, 1<<36), 0, 20).Draw(t, "speeds")}
		for range rapid.IntRange(0, 12).Draw(t, "moments") {
			l.Moments = append(l.Moments, journal.Moment{At: time.Duration(rapid.Int64Range(0, int64(200*time.Hour)).
				Draw(t, "at")), Kind: run.Failed, Path: anyName.Draw(t, "path"), Say: anyName.Draw(t, "say")})
		}
		c.Lanes = append(c.Lanes, l)
	}
	return c
}

func anyMap(t *rapid.T) draw.Subject {
	var files []volume.Piece
	var free []volume.Run
	at := uint32(2)
	for range rapid.IntRange(0, 25).Draw(t, "runs") {
		r := volume.Run{First: at, Count: uint32(rapid.IntRange(1, 5000).Draw(t, "count"))}
		at = r.End()
		switch rapid.IntRange(0, 3).Draw(t, "what") {
		case 0:
			free = append(free, r)
		case 1:
			files = append(files, volume.Piece{Path: anyName.Draw(t, "path"), Folder: rapid.Bool().Draw(t, "folder"),
				Size: 1 << 30, Runs: []volume.Run{r}})
		case 2:
			if n := len(files); n > 0 {
				files[n-1].Runs = append(files[n-1].Runs, r)
			}
		}
	}
	info := volume.Info{Filesystem: rapid.SampledFrom([]string{"fat12", "fat32", "exfat"}).Draw(t, "filesystem"),
		Label: anyName.Draw(t, "label"), Cluster: 4096, Clusters: max(1, at-2), Size: int64(at) * 4096}
	m := draw.VolumeMap{Target: anyName.Draw(t, "target"), Planned: anyName.Draw(t, "planned"), Now: blockmap.Of(info,
		files, free)}
	if rapid.Bool().Draw(t, "after") {
		m.After, m.NotFixed = m.Now, rapid.SliceOfN(anyName, 0, 4).Draw(t, "left")
	}
	if rapid.Bool().Draw(t, "ready") {
		slices := []prepare.Slice{{Start: 0, Size: 1 << 20, Say: "MBR", Kind: "table"}, {Start: 1 << 20, Size: 1 << 33,
			Say: anyName.Draw(t, "slice"), Kind: "lost"}, {Start: 1<<33 + 1<<20, Size: 1 << 30, Kind: "free"}}
		m.Ready = &prepare.Plan{Drive: &drives.Drive{Path: "/dev/x", Model: anyName.Draw(t, "model"),
			Size: 1<<33 + 1<<30 + 1<<20}, Before: slices, After: slices, Loses: anyName.Draw(t, "loses"),
			Reasons: []prepare.Reason{{What: anyName.Draw(t, "what"), Why: anyName.Draw(t, "why")}},
			Steps:   rapid.SliceOfN(anyName, 0, 5).Draw(t, "steps"), Notes: rapid.SliceOfN(anyName, 0, 3).
					Draw(t, "notes")}
	}
	return m
}

func anyConnections(t *rapid.T) draw.Subject {
	h := &connections.Connections{Computer: anyName.Draw(t, "computer"), System: rapid.SampledFrom(connections.Systems).
		Draw(t, "system"), Reminder: rapid.SliceOfN(anyName, 0, 2).Draw(t, "reminder")}
	for range rapid.IntRange(0, 6).Draw(t, "cards") {
		h.Cards = append(h.Cards, netcards.Card{Name: anyName.Draw(t, "card"), Plugged: true})
	}
	for range rapid.IntRange(0, 9).Draw(t, "links") {
		l := connections.Link{Name: anyName.Draw(t, "name"), At: anyName.Draw(t, "at"),
			Via:    rapid.SampledFrom([]string{"usb", "ftp", "smb", "adapter", "nbd"}).Draw(t, "via"),
			Loader: anyName.Draw(t, "loader"), Console: anyName.Draw(t, "console"),
			Must: rapid.SliceOfN(anyName, 0, 9).Draw(t, "must")}
		if rapid.Bool().Draw(t, "remote") {
			l.Host, l.Port, l.Root = anyName.Draw(t, "host"), 21, anyName.Draw(t, "root")
		}
		h.Links = append(h.Links, l)
	}
	return draw.ConnectionsOf(h)
}

func anyChecklist(t *rapid.T) draw.Subject {
	var c draw.Checklist
	for range rapid.IntRange(0, 6).Draw(t, "targets") {
		c.Targets = append(c.Targets, draw.Steps{Target: anyName.Draw(t, "target"), Detail: anyName.Draw(t, "detail"),
			Lines:  rapid.SliceOfN(anyName, 0, 9).Draw(t, "lines"),
			Ticked: func(l string) bool { return len(l)%2 == 0 }})
	}
	return c
}

// TestAnythingCanBeDrawn draws targets, trees, runs, maps, links and checklists of any kind: nothing may overlap, leave
// the page or be too small, whatever they are.
func TestAnythingCanBeDrawn(t *testing.T) {
	for name, of := range map[string]func(*rapid.T) draw.Subject{"rack": anyRack, "tree": anyTree, "run": anyRun,
		"map": anyMap, "connections": anyConnections, "checklist": anyChecklist} {
		t.Run(name, func(t *testing.T) {
			rapid.Check(t, func(t *rapid.T) {
				s := of(t)
				d := s.Draw(options(rapid.SampledFrom([]string{"a4", "letter"}).Draw(t, "paper")))
				for _, w := range scenetest.Wrong(d) {
					t.Error(w)
				}
				if rapid.IntRange(0, 19).Draw(t, "write") == 0 {
					require.NoError(t, draw.Write(io.Discard, rapid.SampledFrom(draw.Formats).Draw(t, "ext"), d))
				}
			})
		})
	}
}
