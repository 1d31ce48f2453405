// Package problem defines the error that a person sees: what happened, the
// likely cause, and what to do next. It never decides how it is shown; the API
// turns it into problem details (RFC 9457) and the command line into three lines.
package problem

import (
	"errors"
	"fmt"
	"strings"
)

// Kind says which sort of problem it is, and so which HTTP status and exit
// code it becomes.
type Kind string

// The kinds of problem.
const (
	BadInput    Kind = "bad-input"
	NotFound    Kind = "not-found"
	Conflict    Kind = "conflict"
	Stale       Kind = "stale"
	Denied      Kind = "denied"
	SignedOut   Kind = "signed-out"
	TooMany     Kind = "too-many"
	Unavailable Kind = "unavailable"
	Broken      Kind = "broken"
)

// Field is one rule that one field broke, with a value that would pass.
type Field struct {
	Field  string `json:"field" doc:"The field, as it is named in the request"`
	Rule   string `json:"rule" doc:"The rule that it broke"`
	Passes string `json:"passes,omitempty" doc:"A value that would pass"`
}

// Problem is an error with its three parts. Err, when set, is the technical
// error behind it, for the log.
type Problem struct {
	Kind   Kind
	What   string
	Cause  string
	Next   string
	Fields []Field
	Err    error
}

// New makes a problem from its three parts.
func New(kind Kind, what, cause, next string) *Problem {
	return &Problem{Kind: kind, What: what, Cause: cause, Next: next}
}

// Error joins the parts in one line.
func (p *Problem) Error() string {
	var b strings.Builder
	b.WriteString(p.What)
	for _, f := range p.Fields {
		fmt.Fprintf(&b, "; %s: %s", f.Field, f.Rule)
	}
	if p.Cause != "" {
		b.WriteString("; likely cause: " + p.Cause)
	}
	if p.Next != "" {
		b.WriteString("; next: " + p.Next)
	}
	return b.String()
}

// Unwrap returns the technical error, if there is one.
func (p *Problem) Unwrap() error { return p.Err }

// Because returns a copy that carries err as its technical reason.
func (p *Problem) Because(err error) *Problem {
	c := *p
	c.Err = err
	return &c
}

// As finds the problem in err's chain; nil when there is none.
func As(err error) *Problem {
	var p *Problem
	if errors.As(err, &p) {
		return p
	}
	return nil
}

// Fields gathers broken rules, so that all of them are told at once.
type Fields []Field

// Add notes that field broke rule; passes is a value that would pass, or "".
func (f *Fields) Add(field, rule, passes string) {
	*f = append(*f, Field{field, rule, passes})
}

// Err returns nil when no rule was broken, else a BadInput problem that names
// them all.
func (f Fields) Err(what string) error {
	if len(f) == 0 {
		return nil
	}
	next := "Correct the fields named and send it again; nothing was changed."
	if len(f) == 1 && f[0].Passes != "" {
		next = fmt.Sprintf("Use %q, for example; nothing was changed.", f[0].Passes)
	}
	return &Problem{Kind: BadInput, What: what, Next: next, Fields: f}
}
