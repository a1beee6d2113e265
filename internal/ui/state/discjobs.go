package state

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"time"

	tea "charm.land/bubbletea/v2"

	"polytome/internal/core/discburn"
	"polytome/internal/core/discread"
	"polytome/internal/core/discs"
	"polytome/internal/core/loader"
	"polytome/internal/core/title"
	"polytome/internal/optical"
	"polytome/internal/size"
)

// A DiscJob is a disc that is read or burnt.
type DiscJob struct {
	At    string
	Drive string
	What  string // the title, as far as it is known
	Dir   string // the folder that discs are read into; "" where one is burnt
	Shelf bool   // one disc is read after the other
	Began time.Time
	DiscProgress

	Paused  bool
	Err     error
	ended   bool
	started time.Time
	from    int64 // bytes that were done when this stage began

	title *title.Title // that is burnt
	disc  int
	rules []loader.DiscRule
	test  bool // it is gone through with the laser off first
	stop  context.CancelFunc
}

// DiscProgress is how far a disc is.
type DiscProgress struct {
	Name     string         // the title, as far as it is known
	Stage    discburn.Stage // of what is burnt
	Blocks   *discread.Blocks
	Block    int64 // that was read or written last
	Done, Of int64 // bytes
	Bad      int64 // blocks that cannot be read
	File     string
	Discs    int // of a shelf that were read whole
	Lacking  int // of a shelf that were not
	Waits    bool
	Read     *discs.Read
	Burnt    *discburn.Result
}

// Running reports whether the drive works.
func (j *DiscJob) Running() bool { return !j.ended && !j.Paused }

// Ended reports whether the drive is free again.
func (j *DiscJob) Ended() bool { return j.ended }

// Burns reports whether a disc is written.
func (j *DiscJob) Burns() bool { return j.Dir == "" }

// Share is how much of it is done, from 0 to 1.
func (j *DiscJob) Share() float64 {
	if j.Of == 0 {
		return 0
	}
	return float64(j.Done) / float64(j.Of)
}

// Pace is how many bytes a second were done since it began, 0 where that is not known.
func (j *DiscJob) Pace() float64 {
	if sec := time.Since(j.Began).Seconds(); j.Running() && sec > 0.2 && j.Done > j.from {
		return float64(j.Done-j.from) / sec
	}
	return 0
}

// Stop ends it. What was read stays; a disc that is being written is spoilt.
func (j *DiscJob) Stop() { j.stop() }

// DiscJob is what a drive does; nil for nothing.
func (d *State) DiscJob(at string) *DiscJob {
	for _, j := range d.DiscJobs {
		if j.At == at && !j.ended { // one that was paused has the drive until it has let its file be closed
			return j
		}
	}
	return nil
}

// Burning is what is being burnt, in a word; "" for nothing.
func (d *State) Burning() string {
	for _, j := range d.DiscJobs {
		if j.Burns() && j.Running() {
			return j.What
		}
	}
	return ""
}

// Reading reports whether discs are being read.
func (d *State) Reading() bool {
	return slices.ContainsFunc(d.DiscJobs, func(j *DiscJob) bool { return j.Running() && !j.Burns() })
}

// A DiscJobMsg is how far a disc is.
type DiscJobMsg struct {
	of    *DiscJob
	now   DiscProgress
	ended bool
	err   error
	feed  feed[DiscJobMsg]
}

// PauseDisc has a reading wait, or go on. A disc that is written cannot wait.
func (d *State) PauseDisc(j *DiscJob) tea.Cmd {
	switch {
	case j.Paused && !j.ended:
		d.Notice = "One moment: the drive is still at the last block."
		return nil
	case j.Paused:
		d.DiscJobs = slices.DeleteFunc(d.DiscJobs, func(x *DiscJob) bool { return x == j })
		again := &DiscJob{At: j.At, Drive: j.Drive, What: j.What, Dir: j.Dir, Shelf: j.Shelf}
		return d.startDisc(again)
	case j.ended:
		return nil
	case j.Burns():
		d.Notice = "A disc that is being written cannot wait: it would be spoilt."
		return nil
	}
	j.Paused = true
	j.stop()
	d.Notice = "Paused: what was read stays, also when you quit."
	return nil
}

// startDisc begins to read or burn.
func (d *State) startDisc(j *DiscJob) tea.Cmd {
	ctx, cancel := context.WithCancel(d.Ctx)
	j.stop, j.Began, j.started = cancel, time.Now(), time.Now()
	j.Name = j.What
	d.DiscJobs = append(slices.DeleteFunc(d.DiscJobs, func(x *DiscJob) bool { return x.At == j.At && x.ended }), j)
	found := newest[DiscJobMsg]()
	w := &discWork{at: j.At, dir: j.Dir, shelf: j.Shelf, access: d.DiscAccess, set: d.Set, title: j.title, disc: j.disc,
		rules: j.rules, test: j.test, offsets: d.DiscAccess.Offsets, now: DiscProgress{Name: j.What}}
	w.emit = func() { found.emit(DiscJobMsg{of: j, now: w.now, feed: found}) }
	d.running.Add(1)
	found.start(func() {
		defer d.running.Done()
		err := w.run(ctx)
		found.emit(DiscJobMsg{of: j, now: w.now, ended: true, err: err, feed: found})
	}, func(err error) DiscJobMsg { return DiscJobMsg{of: j, ended: true, err: err, feed: found} })
	return found.next
}

// SetDiscJob takes over how far a disc is.
func (d *State) SetDiscJob(m DiscJobMsg) (cmd tea.Cmd, refresh bool) {
	j := m.of
	before := j.Discs
	if m.now.Of > 0 || m.ended {
		if m.now.Stage != j.Stage || m.now.File != j.File || j.Of == 0 {
			j.Began, j.from = time.Now(), m.now.Done
		}
		j.DiscProgress = m.now
	}
	if m.now.Name != "" {
		j.What = m.now.Name
	}
	if !m.ended {
		cmd = m.feed.next
		if j.Discs != before { // another one of a shelf is whole
			cmd = tea.Batch(cmd, d.StartScan())
		}
		return cmd, false
	}
	j.ended, j.Err = true, m.err
	switch {
	case j.Paused:
		return d.FindDiscs(), true
	case j.Shelf && errors.Is(m.err, context.Canceled):
		j.Err = nil // which is how a shelf ends
	}
	d.Notice = j.Outcome()
	cmd = tea.Batch(d.FindDiscs(), announceEnd(j.Drive, d.Notice, time.Since(j.started)))
	if !j.Burns() {
		cmd = tea.Batch(cmd, d.StartScan())
	}
	return cmd, true
}

// Outcome says what became of it, in a sentence.
func (j *DiscJob) Outcome() string {
	switch {
	case errors.Is(j.Err, context.Canceled) && !j.Burns():
		return "Stopped. What was read of the disc stays."
	case errors.Is(j.Err, context.Canceled) && j.Burnt != nil && j.Burnt.Spoilt:
		return "Stopped: the disc is spoilt."
	case errors.Is(j.Err, context.Canceled):
		return "Stopped. Nothing was written to the disc."
	case j.Err != nil:
		return Sentence(j.Err.Error())
	case j.Burns() && j.Burnt != nil:
		r := j.Burnt
		if bad := len(r.Differ) + len(r.Unread); bad > 0 {
			return fmt.Sprintf("%s: %s of the disc cannot be read back as written. Burn it again on another disc, "+
				"at a lower speed.", j.What, size.Count(bad, "block"))
		}
		return fmt.Sprintf("Done: %s, all of it read back and the same. The tray is open.", j.What)
	case j.Shelf:
		return fmt.Sprintf("%s read whole, %d not.", size.Count(j.Discs, "disc"), j.Lacking)
	case j.Read != nil && j.Read.Result != nil && !j.Read.Result.Blocks.Whole():
		return fmt.Sprintf("%s could not be read. Read the disc again, or another copy: what was read stays.",
			size.Count(int(j.Read.Result.Blocks.Count-j.Read.Result.Blocks.In(discread.Good)), "block"))
	case j.Read != nil:
		return fmt.Sprintf("Done: all of it was read, to %s.", filepath.Base(j.Read.File))
	}
	return ""
}

// discWork reads or burns in the background.
type discWork struct {
	at      string
	dir     string
	shelf   bool
	access  DiscAccess
	set     *loader.Set
	title   *title.Title
	disc    int
	rules   []loader.DiscRule
	offsets map[string]int64
	test    bool
	now     DiscProgress
	last    time.Time
	emit    func()
}

// progressEvery is how often it is said how far a disc is.
const progressEvery = 100 * time.Millisecond

// say tells how far it is, now and then.
func (w *discWork) say(now bool, change func(p *DiscProgress)) {
	if !now && time.Since(w.last) < progressEvery {
		return
	}
	w.last = time.Now()
	change(&w.now)
	w.emit()
}

func (w *discWork) run(ctx context.Context) (err error) {
	d, err := w.access.Open(w.at)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, d.Close()) }()
	if w.title != nil {
		return w.burn(ctx, d)
	}
	for {
		err := w.read(ctx, d)
		if !w.shelf || err != nil {
			return err
		}
		w.say(true, func(p *DiscProgress) { p.Waits = true })
		if err := discs.NextDisc(ctx, d); err != nil {
			return err
		}
	}
}

// read reads one disc. On a shelf, one that cannot be read does not end it.
func (w *discWork) read(ctx context.Context, d *optical.Drive) error {
	o := discs.ReadOptions{Set: w.set, Offsets: w.offsets, Dir: w.dir, Eject: true}
	o.Known = func(disc *discread.Disc, t *title.Title, file string) {
		w.say(true, func(p *DiscProgress) {
			p.Waits, p.File, p.Name = false, file, filepath.Base(file)
			if t != nil {
				p.Name = discs.TitleWords(t)
			}
			p.Of, p.Done, p.Bad = disc.Blocks*disc.Size, 0, 0
		})
	}
	o.Progress = func(b *discread.Blocks, at int64) {
		w.say(false, func(p *DiscProgress) {
			p.Blocks = b.Clone()
			p.Block, p.Done, p.Bad = at, b.In(discread.Good)*b.Size, b.In(discread.Bad)
		})
	}
	r, err := discs.ReadDisc(ctx, d, o)
	if ctx.Err() != nil {
		return ctx.Err()
	}
	w.say(true, func(p *DiscProgress) {
		p.Read = r
		if r != nil && r.Result != nil {
			p.Blocks = r.Result.Blocks.Clone()
			p.Done, p.Bad = p.Blocks.In(discread.Good)*p.Blocks.Size, p.Blocks.In(discread.Bad)
			if p.Blocks.Whole() {
				p.Discs++
			} else {
				p.Lacking++
			}
		}
	})
	if w.shelf && err != nil {
		w.now.Lacking++
		if errors.Is(err, discread.ErrTaken) || errors.Is(err, discs.ErrBlank) {
			w.now.Lacking--
		}
		return discs.Eject(ctx, d)
	}
	return err
}

func (w *discWork) burn(ctx context.Context, d *optical.Drive) (err error) {
	image, err := discs.OfTitle(ctx, w.title, w.disc, false)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, image.Close()) }()
	tray, err := discburn.Look(ctx, d)
	if err != nil {
		return err
	}
	s, err := tray.Settle(discburn.Wanted{Bytes: image.Size, Rules: w.rules, Test: w.test})
	if err != nil {
		return fmt.Errorf("nothing was written: %w", err)
	}
	w.now.Of = s.Blocks * 2048
	w.now.Burnt, err = tray.Burn(ctx, d, image, image.Size, s, discburn.Options{Test: w.test,
		Progress: func(stage discburn.Stage, at, of int64) {
			w.say(stage != w.now.Stage, func(p *DiscProgress) {
				if p.Stage = stage; of > 0 {
					p.Block, p.Done = at, at*2048
				}
			})
		}})
	if err == nil {
		err = d.Eject(ctx)
	}
	if err != nil && w.now.Burnt != nil && w.now.Burnt.Spoilt {
		err = fmt.Errorf("%w; the disc is spoilt", err)
	}
	return err
}
