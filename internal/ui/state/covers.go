package state

import (
	"bytes"
	"context"
	"fmt"
	"image"
	_ "image/jpeg" // small pictures are JPEGs
	"slices"
	"strings"
	"sync"
	"time"

	tea "charm.land/bubbletea/v2"

	"polytome/internal/core/bench"
	"polytome/internal/core/cover"
	"polytome/internal/core/scan"
	"polytome/internal/core/title"
	"polytome/internal/format/picture"
	"polytome/internal/size"
)

// coverStore opens the store of covers when it is needed first. Several goroutines may want it.
type coverStore struct {
	dir   string
	once  sync.Once
	store *cover.Store
	err   error
}

func (s *coverStore) open() (*cover.Store, error) {
	s.once.Do(func() {
		if s.dir != "" {
			s.store, s.err = cover.OpenStore(s.dir)
		}
	})
	return s.store, s.err
}

func (s *coverStore) close() {
	s.once.Do(func() {})
	_ = s.store.Close()
}

// SetCoversDir says where covers that were fetched are kept; "" for nowhere.
func (d *State) SetCoversDir(dir string) { d.coverStore = &coverStore{dir: dir} }

// CloseCovers lets go of the store of covers, when nothing goes on any longer.
func (d *State) CloseCovers() { d.coverStore.close() }

// CoverKinds are the kinds of pictures that are wanted of a title.
func (d *State) CoverKinds() cover.Kinds { return cover.Shown(d.Bench, d.Set) }

// A Fetching is a fetch of covers that goes on.
type Fetching struct {
	cover.Progress
	stop context.CancelFunc
}

// A FetchMsg is how far fetching has come, or its end.
type FetchMsg struct {
	progress cover.Progress
	report   *cover.Report // at the end
	feed     feed[FetchMsg]
}

// FetchCovers asks the bench's servers for pictures of titles, in the background; a fetch that goes on is stopped
// instead. With again, it asks for what has changed, too.
func (d *State) FetchCovers(which []int, again bool) tea.Cmd {
	if d.Fetching != nil {
		d.Fetching.stop()
		d.Notice = "Download stopped; what arrived is kept."
		return nil
	}
	switch {
	case d.Finder == nil:
		d.Notice = "Titles are being scanned; covers come after that."
		return nil
	case len(d.Bench.Covers.Servers) == 0:
		d.Notice = "The bench has no picture server. S adds one; a adds one of your folders."
		return nil
	case len(which) == 0:
		d.Notice = "No title is shown."
		return nil
	}
	ctx, stop := context.WithCancel(d.Ctx)
	titles, f, patience := d.Scan.Titles, d.Finder, d.Patience
	needs := append(cover.Needs(titles, which, d.CoverKinds()), f.About(titles, which)...)
	d.Fetching = &Fetching{cover.Progress{Total: len(needs)}, stop}
	out := newest[FetchMsg]()
	out.start(func() {
		defer stop()
		last := time.Time{}
		r := f.Fetch(ctx, titles, needs, cover.FetchOptions{Again: again, Patience: patience,
			Progress: func(p cover.Progress) {
				if time.Since(last) > 80*time.Millisecond {
					last = time.Now()
					out.emit(FetchMsg{progress: p, feed: out})
				}
			}})
		out.emit(FetchMsg{report: r})
	}, func(err error) FetchMsg {
		return FetchMsg{report: &cover.Report{Trouble: []string{"fetching: " + err.Error()}}}
	})
	return out.next
}

// SetFetch takes over how far fetching has come. At the end, the titles are dressed again.
func (d *State) SetFetch(m FetchMsg) tea.Cmd {
	if m.report == nil {
		if d.Fetching != nil {
			d.Fetching.Progress = m.progress
		}
		return m.feed.next
	}
	d.Fetching = nil
	d.Fetched = m.report
	d.Notice = fmt.Sprintf("%d downloaded, %s. %s", m.report.Fetched, size.Format(m.report.Bytes), m.report.Say())
	if len(m.report.Trouble) > 0 {
		d.Notice = Sentence(m.report.Trouble[0]) + " " + d.Notice
	}
	return d.StartScan()
}

// PictureKey tells a picture from others, and from itself when it was changed.
func PictureKey(f *title.File) string {
	return fmt.Sprintf("%d %d %s", f.Size, f.Modified.UnixNano(), f.Called())
}

// A Seen is a picture as it was looked at; nil pictures cannot be shown, and Say is why.
type Seen struct {
	Picture       image.Image // small
	Say           string
	Bad           bool // it is read, and of no use; not only out of reach
	Width, Height int  // of the picture itself, in pixels
}

// A SeenMsg is pictures that were looked at.
type SeenMsg struct{ seen map[string]Seen }

// mostSeen is how many small pictures are kept decoded.
const mostSeen = 600

// Picture is a picture as it was looked at; known is false for one that was not yet.
func (d *State) Picture(f *title.File) (s Seen, known bool) {
	s, known = d.seen[PictureKey(f)]
	return s, known
}

// lookAtOnce is how many pictures are looked at contiguous of work in the background: the first of them are to be seen
// soon.
const lookAtOnce = 4

// LookAtPictures has pictures looked at in the background, those that were not yet.
func (d *State) LookAtPictures(files []title.File) tea.Cmd {
	if len(files) == 0 {
		return nil
	}
	var all []tea.Cmd
	var some []title.File
	flush := func() {
		if len(some) == 0 {
			return
		}
		mine := some
		some = nil
		store, ctx, k := d.coverStore, d.Ctx, cover.Looker{Passwords: slices.Clone(d.Bench.Passwords),
			Allowed: scan.Allowed(d.Bench)}
		all = append(all, func() tea.Msg {
			k.Store, _ = store.open() // without one, they are looked at each time
			out := map[string]Seen{}
			for i := range mine {
				out[PictureKey(&mine[i])] = lookAt(ctx, &k, &mine[i])
			}
			return SeenMsg{out}
		})
	}
	for i := range files {
		key := PictureKey(&files[i])
		if _, has := d.seen[key]; has || d.lookingAt[key] {
			continue
		}
		d.lookingAt[key] = true
		if some = append(some, files[i]); len(some) == lookAtOnce {
			flush()
		}
	}
	flush()
	return tea.Batch(all...)
}

func lookAt(ctx context.Context, k *cover.Looker, f *title.File) Seen {
	l, err := k.Look(ctx, f)
	if err != nil {
		return Seen{Say: err.Error()}
	}
	s := Seen{Say: l.Say, Bad: l.Say != "", Width: l.Width, Height: l.Height}
	if l.Say == "" {
		if s.Picture, _, err = image.Decode(bytes.NewReader(l.Small)); err != nil {
			s.Say = err.Error()
		}
	}
	return s
}

// SetSeen takes over pictures that were looked at. One that turned out to be of no use gives way to the next one:
// titles are dressed again.
func (d *State) SetSeen(m SeenMsg) tea.Cmd {
	bad := false
	if len(d.seen) > mostSeen { // they are looked at again when someone wants to see them
		clear(d.seen)
	}
	for key, s := range m.seen {
		d.seen[key] = s
		bad = bad || s.Bad
		delete(d.lookingAt, key)
	}
	if bad && !d.Scanning {
		return d.StartScan()
	}
	return nil
}

// A LargeMsg is a picture in large.
type LargeMsg struct {
	Key     string
	Picture image.Image
	Err     error
}

// largeRule is how large a picture is kept to be compared: more than a window has half cells.
var largeRule = picture.Rule{Width: 480, Height: 480, Fit: "inside"}

// Large reads a picture in large, in the background.
func (d *State) Large(f title.File) tea.Cmd {
	k := cover.Looker{Passwords: slices.Clone(d.Bench.Passwords), Allowed: scan.Allowed(d.Bench)}
	return func() tea.Msg {
		im, err := k.Read(&f, largeRule)
		return LargeMsg{PictureKey(&f), im, err}
	}
}

// ChoosePicture chooses a picture for a disc of a title by hand, or gives the choice up. It can be undone.
func (d *State) ChoosePicture(t title.Title, disc int, c title.Chosen) tea.Cmd {
	say := fmt.Sprintf("The %s picture of %s is chosen.", c.Of, t.Label())
	switch {
	case c.None:
		say = fmt.Sprintf("%[2]s goes without a %[1]s picture.", c.Of, t.Label())
	case c.File == "" && c.Crop == [4]int{}:
		say = fmt.Sprintf("The %s picture of %s is again the one that was found.", c.Of, t.Label())
	}
	if c.File != "" {
		c.File = d.Bench.Relative(c.File)
	}
	at := &t.Discs[disc]
	return d.Fix(say, func() {
		d.Bench.Edit(at.Where(t.Among > 1), at.Sign, func(e *title.Edit) { e.Choose(c) })
	})
}

// AskCoverFolder asks for a folder with pictures.
func (d *State) AskCoverFolder() {
	if d.busy() {
		return
	}
	d.Ask(Question{Prompt: "Folder with pictures: ",
		Hint: "pictures named by a title's ID, checksum or name are used; subfolders may be named front, disc, " +
			"screen, logo, or like a platform", Done: func(answer string) tea.Cmd {
			if answer == "" {
				return nil
			}
			at, isRemote, err := Address(answer)
			if isRemote {
				err = fmt.Errorf("%s is not a folder on this computer; S adds a picture server", answer)
			}
			if err != nil {
				d.Notice = Sentence(err.Error())
				return nil
			}
			if slices.ContainsFunc(d.Bench.CoverFolders(), func(f bench.CoverFolder) bool { return f.Path == at }) {
				d.Notice = "That folder is already searched for pictures."
				return nil
			}
			return d.Fix("Pictures are now searched in "+at+".", func() { d.Bench.AddCoverFolder(at) })
		}})
}

// AskCoverServer asks for the address of a server of pictures, and for the paths on it.
func (d *State) AskCoverServer() {
	if d.busy() {
		return
	}
	d.Ask(Question{Prompt: "Picture server: ",
		Hint: "its address, such as https://pictures.example/shelf/; nothing is requested until you download",
		Done: func(answer string) tea.Cmd {
			if answer == "" {
				return nil
			}
			return func() tea.Msg {
				return AskMsg{Question{Prompt: "Path of a picture there: ", Value: "{platform}/{kind}/{id}.png",
					Hint: "{" +
						strings.Join(bench.PathFields, "} {") + "}", Done: func(path string) tea.Cmd {
						s := bench.CoverServer{URL: answer, Paths: []string{path}}
						s.Name = d.Bench.NameServer(answer)
						if err := s.Check(); err != nil {
							d.Notice = Sentence(err.Error())
							return nil
						}
						return d.Fix(s.Name+" is now a picture server: f downloads what is missing.", func() {
							d.Bench.Covers.Servers = append(slices.Clone(d.Bench.Covers.Servers), s)
						})
					}}}
			}
		}})
}

// AskCoverBudget asks what covers may take of a target.
func (d *State) AskCoverBudget(n int) {
	if n >= len(d.Bench.Targets) || d.busy() {
		return
	}
	p := &d.Bench.Targets[n]
	var say string
	var most bench.Budget
	set := d.Later(n, func(n int) tea.Cmd { return d.SetUp(n, say, func(p *bench.Target) { p.CoversMost = most }) })
	d.Ask(Question{Prompt: "covers on " + p.Name + " may use at most: ", Value: string(p.CoversMost),
		Hint: "a size such as 40MiB, or a percentage such as 5%; empty for no limit",
		Done: func(answer string) tea.Cmd {
			most = bench.Budget(answer)
			if err := most.Check(); err != nil {
				d.Notice = Sentence(err.Error())
				return nil
			}
			say = fmt.Sprintf("Covers may use at most %s of %s. u undoes.", answer, p.Name)
			if answer == "" {
				say = fmt.Sprintf("Covers may use whatever titles leave free on %s. u undoes.", p.Name)
			}
			return set()
		}})
}

// AskCarry asks for a stick that carries the covers of a target.
func (d *State) AskCarry(n int) {
	if n >= len(d.Bench.Targets) || d.busy() {
		return
	}
	if of, ok := d.Bench.Carried(n); ok {
		d.Notice = fmt.Sprintf("%s already carries the covers for %s.", d.Bench.Targets[n].Name,
			d.Bench.Targets[of].Name)
		return
	}
	p := d.Bench.Targets[n]
	d.Ask(Question{Prompt: "Stick that carries the covers of " + p.Name + ": ",
		Hint: "a folder, mounted drive or image: only the covers go there, in the console's folders, to be merged there",
		Done: func(answer string) tea.Cmd {
			at, isRemote, err := Address(answer)
			if isRemote {
				err = fmt.Errorf("%s is not a stick", answer)
			}
			if err != nil {
				d.Notice = Sentence(err.Error())
				return nil
			}
			cmd := d.addTarget(bench.Target{Name: "Covers of " + p.Name, At: at, Loader: p.Loader, Carries: p.Name})
			if cmd != nil {
				d.Notice = fmt.Sprintf("%s is now a target: a run copies the covers for %s there. u undoes.",
					d.Bench.Targets[d.Target].Name, p.Name)
			}
			return cmd
		}})
}

// A CoverState is what is there of one picture.
type CoverState struct {
	cover.Outcome
	Proposal title.File // what is proposed
}

// A CoverStatesMsg is what is there of the pictures of a kind, of all titles that have none: by the title's index and
// the disc's.
type CoverStatesMsg struct {
	Generation int
	Of         string
	States     map[[2]int]CoverState
}

// CoverStates finds out, in the background, what is there of the pictures of a kind of titles that have none.
func (d *State) CoverStates(of string) tea.Cmd {
	if d.Finder == nil {
		return nil
	}
	titles, f, generation := d.Scan.Titles, d.Finder, d.Generation
	return func() tea.Msg {
		out := map[[2]int]CoverState{}
		for i := range titles {
			t := &titles[i]
			for disc := range t.Discs {
				if disc > 0 && of != "disc" || slices.ContainsFunc(t.Pictures,
					func(p title.Picture) bool { return p.Of == of && p.Disc == disc }) {
					continue
				}
				s := CoverState{Outcome: f.Outcome(t, disc, of)}
				if s.State == cover.Proposed {
					if c := f.Propose(t, disc, of); c != nil {
						s.Proposal = c.File
					}
				}
				out[[2]int{i, disc}] = s
			}
		}
		return CoverStatesMsg{generation, of, out}
	}
}
