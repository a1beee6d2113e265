package journal

import (
	"context"

	"polytome/internal/core/run"
	"polytome/internal/logbook"
)

// Start begins to carry out a job, and writes it down. The note is why that cannot be written down, nil where it can:
// the run goes on all the same.
func (j *Journal) Start(ctx context.Context, b Beginning, job run.Job) (lane *run.Lane, id int64, note error) {
	b.Plan, b.Verify = job.Plan, job.Verify
	rec, note := j.Begin(b)
	logbook.Note("run begins", "target", b.Config.Name, "at", b.At, "steps", len(job.Plan.Steps), "bytes",
		job.Plan.Bytes)
	emit, over := job.Emit, job.Over
	job.Emit = func(e run.Event) {
		rec.Event(e)
		if e.Kind == run.Failed {
			logbook.Trouble("step failed", "path", e.Path, "why", e.Say)
		}
		if emit != nil {
			emit(e)
		}
	}
	job.Over = func(r run.Report) {
		logbook.Note("run ends", "target", b.Config.Name, "done", r.Done, "failed", len(r.Failed), "took", r.Elapsed)
		_ = rec.End(r) // what could not be written down is in no way lost on the target
		if over != nil {
			over(r)
		}
	}
	return run.Start(ctx, job), rec.ID(), note
}
