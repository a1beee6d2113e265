package run_test

import (
	"bytes"
	"context"
	"fmt"
	"image"
	"image/jpeg"
	"math"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/plan"
	"polytome/internal/core/run"
	"polytome/internal/core/shape"
	"polytome/internal/core/title"
	"polytome/internal/format/picture"
	"polytome/internal/size"
	"polytome/internal/target/folder"
)

// artwork is a JPEG with areas, edges and some grain, as covers have them.
func artwork(w, h, seed int) []byte {
	m := image.NewYCbCr(image.Rect(0, 0, w, h), image.YCbCrSubsampleRatio420)
	for y := range h {
		for x := range w {
			wave := 40 * math.Sin(float64(x*(seed%7+1))/90+float64(y)/70)
			m.Y[m.YOffset(x, y)] = uint8(120 + int(wave) + (x*7+y*13+seed)%9)
		}
	}
	for i := range m.Cb {
		m.Cb[i], m.Cr[i] = uint8(90+i%(w/2)/8), uint8(150+seed%60)
	}
	var b bytes.Buffer
	_ = jpeg.Encode(&b, m, &jpeg.Options{Quality: 85})
	return b.Bytes()
}

// coverPlan puts pictures to size.
func coverPlan(t testing.TB, n, w, h int) (p *plan.Plan, sources []string) {
	dir := t.TempDir()
	p = &plan.Plan{Steps: []plan.Step{{Kind: plan.MakeFolder, Path: "FACES"}}}
	drawn := map[int][]byte{}
	rule := &picture.Rule{Width: 256, Height: 368, Fit: "inside", Format: "jpg"}
	for i := range n {
		file := filepath.Join(dir, fmt.Sprintf("%d.jpg", i))
		if drawn[i%20] == nil {
			drawn[i%20] = artwork(w, h, i%20)
		}
		require.NoError(t, os.WriteFile(file, drawn[i%20], 0o644))
		info, err := os.Stat(file)
		require.NoError(t, err)
		sources = append(sources, file)
		p.Steps = append(p.Steps, plan.Step{Kind: plan.Copy, Path: fmt.Sprintf("FACES/%d.jpg", i), Size: 24 << 10,
			Make: &shape.Spec{Shape: shape.Fitted, Size: 24 << 10, AtMost: true, Source: title.File{Path: file,
				Size: info.Size(), Modified: info.ModTime()}, With: &shape.With{Picture: rule}}})
	}
	return p, sources
}

func TestCoversAreMadeAheadAndABadOneStopsNoOther(t *testing.T) {
	p, sources := coverPlan(t, 90, 60, 90)
	half := artwork(60, 90, 1)
	half = half[:len(half)*2/3]
	for n, data := range map[int][]byte{7: []byte("<html>"), 8: half} {
		require.NoError(t, os.WriteFile(sources[n], data, 0o644))
		info, err := os.Stat(sources[n])
		require.NoError(t, err)
		s := &p.Steps[n+1].Make.Source
		s.Size, s.Modified = info.Size(), info.ModTime()
	}
	require.NoError(t, os.Remove(sources[9]))
	dir := t.TempDir()
	r := run.Run(context.Background(), p, openTarget(t, dir, folder.Options{}), run.Options{}, func(run.Event) {})
	assert.Equal(t, 87, r.Put)
	require.Len(t, r.Failed, 3)
	assert.Contains(t, r.Failed[0].Say, "it is a web page, not a picture")
	assert.Contains(t, r.Failed[1].Say, "damaged or cut short")
	got := onTarget(t, dir)
	assert.Len(t, got, 87, "and no half file is left")
	for name, data := range got {
		c, err := jpeg.DecodeConfig(bytes.NewReader([]byte(data)))
		require.NoError(t, err, name)
		assert.Equal(t, [2]int{245, 368}, [2]int{c.Width, c.Height})
	}
	assert.Len(t, r.Wrote, 87)
	made := r.Wrote["FACES/0.jpg"]
	assert.False(t, shape.Remade(made, p.Steps[1].Make, int64(len(got["FACES/0.jpg"]))), "it is what is wanted")
	other := *p.Steps[1].Make
	other.With = &shape.With{Picture: &picture.Rule{Width: 100, Height: 100, Fit: "inside", Format: "jpg"}}
	assert.True(t, shape.Remade(made, &other, int64(len(got["FACES/0.jpg"]))), "the rule is another one")
	assert.False(t, shape.Remade(made, &other, 5), "somebody else has written it")

	ctx, stop := context.WithCancel(context.Background())
	p, _ = coverPlan(t, 90, 60, 90)
	dir = t.TempDir()
	n := 0
	r = run.Run(ctx, p, openTarget(t, dir, folder.Options{}), run.Options{}, func(e run.Event) {
		if n++; n == 20 {
			stop()
		}
	})
	assert.True(t, r.Stopped)
	assert.Equal(t, r.Put, len(onTarget(t, dir)))
}

// BenchmarkCovers brings 1,000 covers of 1000 x 1400 pixels to size and writes them to a folder, flushed and read back,
// and has ImageMagick bring the first of them to size, in turns.
func BenchmarkCovers(b *testing.B) {
	const count, compared = 1000, 200
	p, sources := coverPlan(b, count, 1000, 1400)
	var ours, theirs time.Duration
	var peak uint64
	for b.Loop() {
		dir := b.TempDir()
		to, err := folder.Open(dir, folder.Options{})
		require.NoError(b, err)
		runtime.GC()
		began := time.Now()
		events := 0
		r := run.Run(context.Background(), p, to, run.Options{}, func(run.Event) {
			if events++; events%100 == 0 { // looking stops everything
				var m runtime.MemStats
				runtime.ReadMemStats(&m)
				peak = max(peak, m.HeapInuse)
			}
		})
		ours += time.Since(began)
		require.Equal(b, count, r.Put)
		require.NoError(b, to.Close())
		if convert, err := exec.LookPath("/usr/bin/convert"); err == nil {
			out := b.TempDir()
			began = time.Now()
			for from := 0; from < compared; from += 50 { // it keeps all pictures of a call in memory
				args := append([]string{}, sources[from:from+50]...)
				args = append(args, "-resize", "256x368", "-quality", "88", filepath.Join(out, fmt.Sprintf("%d-%%d.jpg",
					from)))
				if msg, err := exec.Command(convert, args...).CombinedOutput(); err != nil {
					b.Fatal(string(msg))
				}
			}
			theirs += time.Since(began)
		}
	}
	b.ReportMetric(count*float64(b.N)/ours.Seconds(), "covers/s")
	b.ReportMetric(float64(peak)/float64(size.MiB), "MiB-heap")
	if theirs > 0 {
		b.ReportMetric(ours.Seconds()/count/(theirs.Seconds()/compared), "ours/convert")
	}
}
