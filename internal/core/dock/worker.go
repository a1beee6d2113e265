package dock

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"polytome/internal/core/bench"
	"polytome/internal/core/check"
	"polytome/internal/core/journal"
	"polytome/internal/core/ledger"
	"polytome/internal/core/loader"
	"polytome/internal/core/plan"
	"polytome/internal/core/saves"
	"polytome/internal/core/scancache"
	"polytome/internal/core/survey"
	"polytome/internal/core/title"
	"polytome/internal/size"
)

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
}

// Probe finds out what is in a slot.
func (w *Worker) Probe(ctx context.Context, slot int) (id string, ok bool) {
	past, _ := w.Ledger.All() // what of it cannot be read is unknown, and left alone
	return survey.Present(ctx, w.Bench, w.Slots[slot], past)
}

// Work does what is to be done with what has come to a slot.
func (w *Worker) Work(ctx context.Context, slot int, report func(Phase, string)) (Phase, string) {
	n := w.Slots[slot]
	t := &w.Bench.Targets[n]
	report(Looking, "")
	var cache *scancache.Store
	if w.Cache != nil {
		cache = w.Cache()
		defer cache.Close()
	}
	s, err := survey.Take(ctx, w.Bench, n, w.Titles, survey.Options{Set: w.Set, Cache: cache, Vault: w.Vault})
	if err == nil {
		err = s.Away
	}
	if err != nil {
		return Failed, err.Error()
	}
	if id, _ := s.VolumeID(); id == "" || !w.knows(id) {
		return NeedsYou, "it is not known yet: look at it once by hand, so that the dock does not take another " +
			"volume for it"
	}
	if err := s.Note(ctx, w.Ledger, survey.Noted{}); err != nil {
		return Failed, err.Error()
	}
	p := s.Plan()
	if t.WhenConnected == "" || t.WhenConnected == bench.LookAtIt {
		if p.Empty() {
			return Done, "up to date"
		}
		return Done, "to do: " + p.Say()
	}
	if why := w.waits(ctx, s, p); why != "" {
		return NeedsYou, why
	}
	if p.Empty() {
		return w.away(ctx, s, "up to date"+left(p))
	}
	if t.WhenConnected == bench.Ask {
		return NeedsYou, "to do: " + p.Say() + left(p)
	}
	return w.fill(ctx, s, p, n, cache, report)
}

// knows reports whether a volume was looked at before, by hand.
func (w *Worker) knows(id string) bool {
	_, err := w.Ledger.Volume(id)
	return err == nil
}

// waits says why a plan is not carried out without a person; "" for nothing.
func (w *Worker) waits(ctx context.Context, s *survey.Survey, p *plan.Plan) string {
	switch {
	case s.Facts.Unclean:
		return "it was not ejected cleanly: check it first"
	case p.Loses() > 0:
		return fmt.Sprintf("%s on it would be removed or replaced", size.Count(p.Loses(), "file"))
	}
	known, err := s.Foresee(ctx, p)
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
	report func(Phase, string)) (Phase, string) {
	report(Filling, p.Say())
	lane, _, _ := w.Journal.Start(ctx, s.Beginning(w.Bench), s.Job(w.Bench, p)) // what is not written down is run
	r := lane.Wait()
	s.Ran(cache, p, &r)
	switch {
	case len(r.Failed) > 0:
		return Failed, strings.TrimSuffix(r.Failed[0].Say, ".")
	case !r.All():
		return Failed, "it was stopped; polytome runs resume goes on"
	}
	if err := s.Note(ctx, w.Ledger, survey.Noted{Done: p}); err != nil {
		return Failed, err.Error()
	}
	checker := s.Checker(w.Bench, n, "", nil)
	checker.Journal = w.Journal
	checker.JustRan(p, &r)
	audit, _, err := checker.CheckAgain(ctx, cache)
	if err != nil {
		return Failed, fmt.Sprintf("everything was written, but it cannot be checked: %v", err)
	}
	if err := s.Note(ctx, w.Ledger, survey.Noted{Check: audit, Stale: true}); err != nil {
		return Failed, err.Error()
	}
	if wrong := s.Wrong(audit); len(wrong) > 0 {
		return NeedsYou, fmt.Sprintf("%s on it do not start: check it", size.Count(len(wrong), "title"))
	}
	return w.away(ctx, s, fmt.Sprintf("%s written, %s; the console lists %s", size.Count(r.Put, "file"),
		size.Format(r.Bytes), size.Count(len(audit.Listed)-audit.BuiltIn(), "title"))+left(p))
}

// away ends the work at a slot: what can be taken away is made safe for that.
func (w *Worker) away(ctx context.Context, s *survey.Survey, say string) (Phase, string) {
	if _, kind := s.VolumeID(); w.Eject == nil || kind != ledger.Drive {
		return Done, say
	}
	safe, err := w.Eject(ctx, s.At())
	if err != nil {
		return NeedsYou, say + ", but it is not ejected: " + err.Error()
	}
	return Done, strings.Join(slices.DeleteFunc([]string{say, safe}, func(x string) bool { return x == "" }), ". ")
}

// left says what a plan leaves out, in a clause; "" for nothing.
func left(p *plan.Plan) string {
	if n := len(p.Left); n > 0 {
		return fmt.Sprintf("; %s do not fit, the first is %s", size.Count(n, "title"), p.Left[0].Label)
	}
	return ""
}
