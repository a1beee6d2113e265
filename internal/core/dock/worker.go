package dock

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"polytome/internal/core/bench"
	"polytome/internal/core/check"
	"polytome/internal/core/journal"
	"polytome/internal/core/layout"
	"polytome/internal/core/ledger"
	"polytome/internal/core/loader"
	"polytome/internal/core/plan"
	"polytome/internal/core/run"
	"polytome/internal/core/saves"
	"polytome/internal/core/scancache"
	"polytome/internal/core/survey"
	"polytome/internal/core/title"
	"polytome/internal/drives"
	"polytome/internal/size"
	"polytome/internal/target"
	"polytome/internal/target/served"
)

// Slots are the targets of a bench that a dock can wait for: those that are plugged in or switched on somewhere else.
func Slots(b *bench.Bench) (slots []int) {
	for n := range b.Targets {
		if t := &b.Targets[n]; !served.Is(t.At) && t.Carries == "" {
			slots = append(slots, n)
		}
	}
	return slots
}

// Ejector makes what is at an address safe to unplug: what is pending is written, and its drive unmounted and switched
// off. A disk that is built in stays as it is.
func Ejector(sys drives.System) func(ctx context.Context, at string) (say string, err error) {
	return func(ctx context.Context, at string) (string, error) {
		d, err := sys.Under(ctx, at)
		if err != nil {
			return "", err
		}
		if d.Fixed() {
			return "", nil
		}
		r, err := sys.Eject(ctx, d, func(string) {})
		if err != nil {
			return "", err
		}
		return r.Say, nil
	}
}

// A Worker does at the slots of a dock what a bench says of its targets: look, ask, or fill. What would remove or
// replace something waits for a person, and so does a volume that is not known.
type Worker struct {
	Bench   *bench.Bench // which nobody changes meanwhile
	Slots   []int        // the targets of the bench, by slot
	Titles  []title.Title
	Set     *loader.Set
	Cache   func() *scancache.Store // opened for each piece of work; nil for none
	Vault   saves.Vault
	Ledger  ledger.Store
	Journal *journal.Journal
	// Eject makes a target safe to unplug; nil where the dock does not.
	Eject func(ctx context.Context, at string) (say string, err error)

	once sync.Once
	past []ledger.Volume // as the ledger was when the dock began: it is asked all the time

	trees layout.Shelf
}

// Probe finds out what is in a slot.
func (w *Worker) Probe(ctx context.Context, slot int) (id string, ok bool) {
	w.once.Do(func() { w.past, _ = w.Ledger.All() }) // what of it cannot be read is unknown, and left alone
	return survey.Present(ctx, w.Bench, w.Slots[slot], w.past)
}

// Work does what is to be done with what has come to a slot.
func (w *Worker) Work(ctx context.Context, slot int, report func(Report)) Report {
	n := w.Slots[slot]
	t := &w.Bench.Targets[n]
	report(Report{Phase: Looking})
	var cache *scancache.Store
	if w.Cache != nil {
		cache = w.Cache()
		defer cache.Close()
	}
	s, err := survey.Take(ctx, w.Bench, n, w.Titles, survey.Options{Set: w.Set, Cache: cache, Vault: w.Vault,
		Trees: &w.trees})
	if err == nil {
		err = s.Away
	}
	if err != nil {
		return Report{Phase: Failed, Say: err.Error(), Again: errors.Is(err, target.ErrGone) ||
			errors.Is(err, target.ErrBusy)}
	}
	if id, _ := s.VolumeID(); id == "" || t.Stick == "" && !w.knows(id, t.Name) {
		return Report{
			Phase: NeedsYou,
			Say: "this volume is not known as " + t.Name + " yet: look at it once, on the screen or with polytome " +
				"plan, so that the dock does not take another one for it",
		}
	}
	if err := s.Note(ctx, w.Ledger, survey.Noted{}); err != nil {
		return Report{Phase: Failed, Say: err.Error()}
	}
	p := s.Plan()
	if t.WhenConnected == "" || t.WhenConnected == bench.LookAtIt {
		if p.Empty() {
			return Report{Phase: Done, Say: "up to date"}
		}
		return Report{Phase: Seen, Say: "to do: " + p.Say() + left(p)}
	}
	if why := w.waits(ctx, s, p); why != "" {
		return Report{Phase: NeedsYou, Say: why}
	}
	if p.Empty() {
		return w.away(ctx, s, "up to date"+left(p))
	}
	if t.WhenConnected == bench.Ask {
		return Report{Phase: NeedsYou, Say: "to do: " + p.Say() + left(p)}
	}
	return w.fill(ctx, s, p, n, cache, report)
}

// knows reports whether a volume was looked at as a target before, by hand: another target's stick may be plugged in at
// the same place.
func (w *Worker) knows(id, target string) bool {
	v, err := w.Ledger.Volume(id)
	return err == nil && v.Target == target
}

// waits says why a plan is not carried out without a person; "" for nothing.
func (w *Worker) waits(ctx context.Context, s *survey.Survey, p *plan.Plan) string {
	switch {
	case s.Facts.Unclean:
		return "it was not ejected cleanly: check it first"
	case p.Loses() > 0:
		return fmt.Sprintf("%s on it would be removed or replaced", size.Count(p.Loses(), "file"))
	}
	known, _, err := s.Foresee(ctx, p)
	if err != nil {
		return err.Error()
	}
	if i := slices.IndexFunc(known, func(f check.Finding) bool { return f.Grade == check.Stops }); i >= 0 {
		return "the console would list nothing: " + known[i].Say
	}
	return ""
}

// fill carries a plan out, and checks what is there then.
func (w *Worker) fill(ctx context.Context, s *survey.Survey, p *plan.Plan, n int, cache *scancache.Store,
	report func(Report)) Report {
	report(Report{Phase: Filling, Say: p.Say()})
	job := s.Job(w.Bench, p)
	forecast := run.NewForecast(job.Plan, job.Verify, s.Guess(job.Plan, job.Verify))
	forecast.Limit(job.Limit)
	var reported time.Time
	job.Emit = func(e run.Event) { // one after another
		if forecast.Event(e); time.Since(reported) >= time.Second {
			reported = time.Now()
			report(Report{Phase: Filling, Say: p.Say(), Share: forecast.Share(),
				Left: forecast.Left().Round(time.Second)})
		}
	}
	lane, _, _ := w.Journal.Start(ctx, s.Beginning(w.Bench), job) // what cannot be written down is run all the same
	r := lane.Wait()
	s.Ran(cache, p, &r)
	switch {
	case len(r.Failed) > 0:
		return Report{Phase: Failed, Say: strings.TrimSuffix(r.Failed[0].Say, "."), Again: r.Away}
	case !r.All():
		return Report{Phase: Failed, Say: "it was stopped; polytome runs resume goes on", Again: r.Away}
	}
	if err := s.Note(ctx, w.Ledger, survey.Noted{Done: p}); err != nil {
		return Report{Phase: Failed, Say: err.Error()}
	}
	checker := s.Checker(w.Bench, n, "", nil)
	checker.Journal = w.Journal
	checker.JustRan(p, &r)
	audit, _, err := checker.CheckAgain(ctx, cache)
	if err != nil {
		return Report{Phase: Failed, Say: fmt.Sprintf("everything was written, but it cannot be checked: %v", err)}
	}
	if err := s.Note(ctx, w.Ledger, survey.Noted{Check: audit, Stale: true}); err != nil {
		return Report{Phase: Failed, Say: err.Error()}
	}
	if wrong := s.Wrong(audit); len(wrong) > 0 {
		return Report{
			Phase: NeedsYou,
			Say:   fmt.Sprintf("%s on it do not start: check it", size.Count(len(wrong), "title")),
		}
	}
	return w.away(ctx, s, fmt.Sprintf("%s written, %s; the console lists %s", size.Count(r.Put, "file"),
		size.Format(r.Bytes), size.Count(len(audit.Listed)-audit.BuiltIn(), "title"))+left(p))
}

// away ends the work at a slot: what can be taken away is made safe for that.
func (w *Worker) away(ctx context.Context, s *survey.Survey, say string) Report {
	if _, kind := s.VolumeID(); w.Eject == nil || kind != ledger.Drive {
		return Report{Phase: Done, Say: say}
	}
	safe, err := w.Eject(ctx, s.At())
	if err != nil {
		return Report{Phase: NeedsYou, Say: say + ", but it is not ejected: " + err.Error()}
	}
	return Report{
		Phase: Done,
		Say:   strings.Join(slices.DeleteFunc([]string{say, safe}, func(x string) bool { return x == "" }), ". "),
		// a disk that stays where it is says nothing
		Ejected: safe != "",
	}
}

// left says what a plan leaves out, in a clause; "" for nothing.
func left(p *plan.Plan) string {
	if n := len(p.Left); n > 0 {
		return fmt.Sprintf(
			"; without %s, such as %s: %s",
			size.Count(n, "title"),
			p.Left[0].Label,
			p.Left[0].Why.Verdict,
		)
	}
	return ""
}
