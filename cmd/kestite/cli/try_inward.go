package cli

import (
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"strings"
	"sync"
	"time"

	"kestite/core/definition"
	"kestite/core/measure"
	"kestite/instrument"
	"kestite/server/inward"
)

// derive measures the sources, each as a try of its own, and computes the
// operation over them.
func (o *tryOptions) derive(ctx context.Context, set *instrument.Set, operation string) (instrument.Result, error) {
	derived := definition.DerivedSettings{Operation: operation}
	var tasks []instrument.Task
	for _, text := range o.of {
		f := strings.Fields(text)
		if len(f) != 3 {
			return instrument.Result{}, fmt.Errorf("--of %q is no source; write it as %q", text, "ping 127.0.0.1 rtt_mean_ms")
		}
		task, err := o.task(f[0], f[1])
		if err != nil {
			return instrument.Result{}, fmt.Errorf("--of %q: %w", text, err)
		}
		if kind, _ := measure.KindNamed(f[0]); kind.Index(f[2]) < 0 {
			return instrument.Result{}, fmt.Errorf("--of %q: %q is no measure of %s", text, f[2], f[0])
		}
		tasks = append(tasks, task)
		derived.Sources = append(derived.Sources, definition.Source{Check: f[0] + " " + f[1], Measure: f[2]})
	}
	if err := derived.Check(); err != nil {
		return instrument.Result{}, err
	}
	results := make([]instrument.Result, len(tasks))
	var all sync.WaitGroup
	for i, t := range tasks {
		all.Go(func() { results[i] = set.Measure(ctx, t) })
	}
	all.Wait()
	var values []float64
	var made []string
	for i, s := range derived.Sources {
		v, has := results[i].Measures(tasks[i].Kind)[s.Measure]
		if !has {
			return instrument.Result{Outcome: measure.Error, Detail: fmt.Sprintf("%s has no %s (%s %s): without it nothing can be derived", s.Check, s.Measure, results[i].Outcome, results[i].Detail)}, nil
		}
		values = append(values, v)
		made = append(made, fmt.Sprintf("%s %s = %g", s.Check, s.Measure, v))
	}
	value, err := derived.Value(values)
	if err != nil {
		return instrument.Result{Outcome: measure.Error, Detail: err.Error()}, nil
	}
	return instrument.Result{Outcome: measure.OK, Values: []float64{value, float64(len(values))}, Detail: strings.Join(made, "; ")}, nil
}

// awaitReport listens at an address until the first report comes in, or the
// timeout passes: then the measurement failed.
func (o *tryOptions) awaitReport(ctx context.Context, say io.Writer, address string) (instrument.Result, error) {
	if most := len(measure.ReportIn.Measures) - 1; len(o.numbers) > most {
		return instrument.Result{}, fmt.Errorf("%d numbers are named; a report-in check has at most %d", len(o.numbers), most)
	}
	l, err := net.Listen("tcp", address)
	if err != nil {
		return instrument.Result{}, fmt.Errorf("listen at %s for a report: %w", address, err)
	}
	got := make(chan instrument.Result, 1)
	server := &http.Server{ReadHeaderTimeout: o.timeout, Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		report, err := inward.Read(r)
		var outcome measure.Outcome
		var measures map[string]float64
		if err == nil {
			outcome, measures, err = report.Says(o.numbers)
		}
		if err != nil {
			http.Error(w, err.Error(), http.StatusUnprocessableEntity)
			fmt.Fprintf(say, "a report was refused: %v\n", err)
			return
		}
		values := measure.ReportIn.None()
		for name, v := range measures {
			values[measure.ReportIn.Index(name)] = v
		}
		select {
		case got <- instrument.Result{Outcome: outcome, Values: values, Detail: report.Detail}:
			fmt.Fprintln(w, "taken")
		default:
			http.Error(w, "one report was taken already", http.StatusConflict)
		}
	})}
	go server.Serve(l) // until it is shut down
	defer func() {
		end, cancel := context.WithTimeout(context.WithoutCancel(ctx), time.Second)
		defer cancel()
		server.Shutdown(end)
	}()
	fmt.Fprintf(say, "waiting %s for a report to http://%s/\n", o.timeout, l.Addr())
	select {
	case r := <-got:
		return r, nil
	case <-ctx.Done():
		return instrument.Result{}, ctx.Err()
	case <-time.After(o.timeout):
		return instrument.Result{Outcome: measure.Failed, Detail: fmt.Sprintf("no report within %s", o.timeout)}, nil
	}
}
