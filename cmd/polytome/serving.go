package main

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"github.com/coreos/go-systemd/v22/daemon"

	"polytome/internal/core/bench"
	"polytome/internal/core/plan"
	"polytome/internal/core/scan"
	"polytome/internal/core/serve"
	"polytome/internal/core/survey"
	"polytome/internal/drives"
	"polytome/internal/size"
	"polytome/internal/target"
	"polytome/internal/target/served"
)

// serving is a serve that goes on.
type serving struct {
	o       *serveOptions
	options serve.Options
	bench   *bench.Bench
	n       int // number of the target that is served
	e       *served.Export
	server  *serve.Server
	out     io.Writer

	printing sync.Mutex
	said     map[string]bool   // what was said already
	spoke    bool              // of what is on the volume
	wrote    time.Time         // when the bench's file was changed last
	carries  map[string]trying // the targets that have not got the newest list; nil before the first
}

// log prints what happens. A service's log has the time already.
func (g *serving) log(format string, args ...any) {
	g.printing.Lock()
	defer g.printing.Unlock()
	line := fmt.Sprintf(format, args...)
	if os.Getenv("JOURNAL_STREAM") == "" {
		line = time.Now().Format(time.TimeOnly) + "  " + line
	}
	fmt.Fprintln(g.out, line)
}

// serve serves until the context ends.
func (g *serving) serve(ctx context.Context) error {
	g.options.Said = func(say string) { g.log("%s", say) }
	ctx, end := context.WithCancel(ctx)
	defer end()
	if g.o.once {
		g.options.Left = end
	}
	g.server = serve.New(g.e, g.options)
	g.wrote = g.benchTime()
	fresh := g.e.Files() == 0
	if fresh { // who connects finds something
		if err := g.lay(ctx); err != nil {
			return err
		}
	}
	l, err := g.listener()
	if err != nil {
		return err
	}
	if ctl, err := listenForStatus(g.server); err == nil {
		defer ctl.Close() // of which nothing is lost
	} else {
		g.log("serve status will not find this one: %v.", err)
	}
	g.log("Serving at nbd://%s/%s; ctrl+c ends it.", l.Addr(), g.options.Name)
	_, _ = daemon.SdNotify(false, daemon.SdNotifyReady) // where nobody waits for it, nothing is sent
	var beside sync.WaitGroup
	defer beside.Wait()
	beside.Go(func() { g.keepUp(ctx, fresh) })
	err = g.server.Serve(ctx, l)
	_, _ = daemon.SdNotify(false, daemon.SdNotifyStopping)
	end()
	return err
}

// trying is a console that has not got the newest list: when it is tried again, and after how long.
type trying struct {
	again time.Time
	wait  time.Duration
}

// benchEvery is how often it is looked whether the bench says something else, and mostWait how long a console is left
// alone at most that was away.
const (
	benchEvery = time.Second
	mostWait   = 20 * time.Second
)

// keepUp has the export show games that come, and pushes lists, until the context ends.
func (g *serving) keepUp(ctx context.Context, laid bool) {
	tick := time.NewTicker(benchEvery)
	defer tick.Stop()
	last := time.Now()
	for first := true; ; first = false {
		changed := g.o.w.bench != "" && !g.benchTime().Equal(g.wrote)
		due := g.o.every > 0 && time.Since(last) >= g.o.every
		if changed {
			g.wrote = g.benchTime()
			if err := g.reread(); err != nil {
				g.log("The bench cannot be read, so what is served stays as it is: %v.", err)
			}
		}
		waits := false
		for _, t := range g.carries {
			waits = waits || time.Now().After(t.again)
		}
		if first && !laid || changed || due || waits {
			if err := g.lay(ctx); err != nil && ctx.Err() == nil {
				g.log("What is served stays as it is: %v.", err)
			}
			last = time.Now()
		}
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
	}
}

// benchTime is when the bench's file was changed.
func (g *serving) benchTime() time.Time {
	info, err := os.Stat(g.o.w.bench)
	if err != nil {
		return time.Time{}
	}
	return info.ModTime()
}

// reread takes over what the bench says now.
func (g *serving) reread() error {
	b, n, err := g.o.open(&serve.Options{})
	if err != nil {
		return err
	}
	if b.Resolve(b.Targets[n].At) != g.bench.Resolve(g.bench.Targets[g.n].At) {
		return errors.New("it names another export now: end serve, and begin it again")
	}
	g.bench, g.n = b, n
	return nil
}

// survey looks at the games and the export.
func (g *serving) survey(ctx context.Context) (*survey.Survey, scan.Result, error) {
	set, err := known()
	if err != nil {
		return nil, scan.Result{}, err
	}
	r, err := scanned(ctx, g.bench, set, g.o.w.covers, os.Stderr)
	if err != nil {
		return nil, r, err
	}
	cache := openCache(os.Stderr)
	defer cache.Close()
	s, err := survey.Take(ctx, g.bench, g.n, r.Titles, survey.Options{Set: set, Cache: cache, Vault: keptSaves()})
	return s, r, err
}

// tell says something once.
func (g *serving) tell(format string, args ...any) {
	line := fmt.Sprintf(format, args...)
	if !g.said[line] {
		g.log("%s", line)
	}
	g.said[line] = true
}

// say prints what is on the volume, and what is not.
func (g *serving) say(s *survey.Survey) {
	info := g.e.Volume().Info()
	fmt.Fprintf(g.out, "%s: %s on a volume with %s of %s\n", s.Profile.Shown, size.Count(s.Sheet.Count, "title"),
		drives.FilesystemShown(info.Filesystem), size.Format(info.Size))
	printLeft(g.out, s.Plan().Left)
}

// lay has the export show what is chosen, and pushes the list where that is another one now.
func (g *serving) lay(ctx context.Context) error {
	if g.options.Writes != nil && g.server != nil && len(g.server.Status().Clients) > 0 {
		return nil // who may be writing must find the volume as it is
	}
	if w := g.options.Writes; w != nil && len(w.Pages()) > 0 {
		g.tell("A console has written to the volume, which therefore stays as it is: take the files out with serve " +
			"writes, and remove the overlay, to have games come and go.")
		return nil
	}
	s, r, err := g.survey(ctx)
	if err != nil {
		return err
	}
	l := serve.Lay(ctx, g.bench, s, g.e)
	if ctx.Err() != nil {
		return ctx.Err()
	}
	if n, err := serve.Relink(ctx, s, g.e); err != nil {
		return err
	} else if n > 0 {
		g.log("%s now read from somewhere else.", map[bool]string{true: "1 file is",
			false: fmt.Sprintf("%d files are", n)}[n == 1])
	}
	for _, f := range l.Report.Failed {
		g.tell("Not served: %s: %s.", f.Path, strings.TrimSuffix(f.Say, "."))
	}
	if len(l.Stay) > 0 {
		g.tell("%s stay on the volume: the folder of their games is away.", size.Count(len(l.Stay), "file"))
	}
	if l.Changed() || !g.spoke {
		g.spoke = true
		g.printing.Lock()
		g.say(s)
		g.printing.Unlock()
	}
	if len(r.Problems) > 0 && r.Files == 0 {
		return nil // nothing is known of what there is, and so of what a list would have to say
	}
	if l.Changed() || g.carries == nil {
		g.carries = map[string]trying{}
		for _, i := range serve.Carriers(g.bench, g.n) {
			g.carries[g.bench.Targets[i].Name] = trying{}
		}
	}
	return g.push(ctx, s)
}

// push brings lists and covers to the consoles that read them from a stick of their own and have not got them yet.
func (g *serving) push(ctx context.Context, of *survey.Survey) error {
	if len(g.carries) == 0 {
		return nil
	}
	to, err := of.Open(ctx)
	if err != nil {
		return err
	}
	there, err := to.List(ctx, func(string, error) {})
	if err = errors.Join(err, to.Close()); err != nil {
		return err
	}
	for i := range g.bench.Targets {
		name := g.bench.Targets[i].Name
		t, waits := g.carries[name]
		if !waits || time.Now().Before(t.again) {
			continue
		}
		t.wait = min(max(time.Second, 2*t.wait), mostWait)
		t.again = time.Now().Add(t.wait)
		g.carries[name] = t
		switch err := g.pushTo(ctx, i, of, there); {
		case ctx.Err() != nil:
			return ctx.Err()
		case err != nil:
			g.tell("The list waits for %s: %v.", name, err)
		default:
			delete(g.carries, name)
		}
	}
	return nil
}

// pushTo brings lists and covers to one console.
func (g *serving) pushTo(ctx context.Context, i int, of *survey.Survey, there []target.Entry) error {
	set, err := known()
	if err != nil {
		return err
	}
	cache := openCache(os.Stderr)
	defer cache.Close()
	var s *survey.Survey
	if err := letIn(func() error {
		s, err = survey.Take(ctx, g.bench, i, of.Titles, survey.Options{Set: set, Cache: cache, Vault: keptSaves()})
		return cmp.Or(err, awayOf(s))
	}); err != nil {
		return err
	}
	s.Narrow(g.bench, i, serve.Shown(s, of, there))
	p, name := s.Plan(), s.Config.Name
	if p.Empty() {
		return nil
	}
	g.log("Pushing to %s: %s.", name, p.Say())
	runs, note := openJournalAt(journalFile())
	if note != nil {
		fmt.Fprintf(stderr(), "polytome: %v\n", note)
	}
	defer runs.Close()
	lane, _, _ := runs.Start(ctx, s.Beginning(g.bench), s.Job(g.bench, p))
	report := lane.Wait()
	s.Ran(cache, p, &report)
	switch {
	case len(report.Failed) > 0:
		return errors.New(strings.TrimSuffix(report.Failed[0].Say, "."))
	case !report.All():
		return errors.New("it was stopped")
	}
	g.log("Pushed to %s: %s.", name, pushed(p))
	return nil
}

// pushed says what a plan of lists and covers has brought.
func pushed(p *plan.Plan) string {
	lists := []string{}
	others := 0
	for i := range p.Steps {
		switch s := &p.Steps[i]; {
		case s.Writes() && s.Last:
			lists = append(lists, filepath.Base(s.Path))
		case s.Writes():
			others++
		}
	}
	if others > 0 {
		lists = append(lists, size.Count(others, "cover"))
	}
	if len(lists) == 0 {
		return "what went is gone there too"
	}
	return strings.Join(lists, " and ")
}
