package api

import (
	"context"
	"fmt"

	"fado/internal/core/dialect"
	"fado/internal/core/inventory"
	"fado/internal/core/problem"
	"fado/internal/rehearsal"
	"fado/internal/sim"
	"fado/internal/wire"
)

// tryDialect rehearses, one at a time: a rehearsal has a radio, a unit and a
// broker of its own.
func (s *server) tryDialect(ctx context.Context, in wire.Trial) (wire.Trialed, error) {
	job, err := s.trialJob(ctx, in)
	if err != nil {
		return wire.Trialed{}, err
	}
	select {
	case s.stage <- struct{}{}:
		defer func() { <-s.stage }()
	case <-ctx.Done():
		return wire.Trialed{}, ctx.Err()
	}
	o, err := rehearsal.Run(ctx, job)
	if err != nil {
		if problem.As(err) != nil {
			return wire.Trialed{}, err
		}
		return wire.Trialed{}, problem.New(problem.Unavailable, "The rehearsal could not begin.", err.Error(), "Try again.").Because(err)
	}
	out := wire.Trialed{Works: o.Works, Model: job.Model.Name, Steps: []wire.TrialStep{}}
	for _, x := range o.Steps {
		step := wire.TrialStep{Title: x.Title, Works: x.Works, Note: x.Note, Exchanges: []wire.TrialExchange{}}
		for _, e := range x.Exchanges {
			step.Exchanges = append(step.Exchanges, wire.TrialExchange(e))
		}
		out.Steps = append(out.Steps, step)
	}
	return out, nil
}

func (s *server) trialJob(ctx context.Context, in wire.Trial) (rehearsal.Job, error) {
	var job rehearsal.Job
	if in.File != "" {
		d, faults := dialect.Parse("dialect", []byte(in.File))
		if len(faults) > 0 {
			return job, dialect.Refuse("dialect", faults)
		}
		job.Dialect = d
	} else {
		d, ok := s.Dialect(in.Dialect)
		if !ok {
			_, err := s.File(ctx, "dialect", in.Dialect)
			return job, err
		}
		job.Dialect = d
	}
	model, err := s.trialModel(in, job.Dialect.Name)
	if err != nil {
		return job, err
	}
	job.Model = model
	if in.Unit == "" {
		job.Unit = rehearsal.Spec(model)
		if !sim.Speaks(job.Unit.Speaks) {
			return job, problem.New(problem.BadInput, fmt.Sprintf("There is no simulated unit that speaks %s.", job.Dialect.Name), "Only the families that ship have one.",
				"Describe a unit in a file and send it along: «fado dialect try --unit FILE».")
		}
		return job, nil
	}
	d, err := sim.ParseDescribed([]byte(in.Unit))
	if err != nil {
		return job, problem.New(problem.BadInput, "The simulated unit cannot be made.", err.Error()+".", "Correct its file; docs/dialects.md describes it.")
	}
	job.Unit = rehearsal.DescribedSpec(d, model)
	return job, nil
}

func (s *server) trialModel(in wire.Trial, speaks string) (inventory.Model, error) {
	if in.Hardware != "" {
		return inventory.ParseModel([]byte(in.Hardware))
	}
	for _, m := range s.Models() {
		if in.Model == m.Name || in.Model == "" && m.Dialect == speaks {
			return m, nil
		}
	}
	return inventory.Model{}, problem.New(problem.BadInput, fmt.Sprintf("No model speaks %s yet.", speaks), "A rehearsal needs to know what the unit can switch or measure.", "Send the model's file along: «fado dialect try --model-file FILE».")
}
