package engine

import (
	"context"
	"fmt"
	"sync"
	"time"

	"fado/internal/broker"
	"fado/internal/core/problem"
	"fado/internal/store"
)

// echoTopic is where the service hears itself, to see how long its broker takes.
const echoTopic = "fado-service/echo"

// linkRound is how often the broker is looked at. It is never scaled.
const linkRound = 15 * time.Second

// LinkState is how the service's broker stands, as seen from here.
type LinkState struct {
	Connected   bool
	Since       time.Time     // of that
	RoundTrip   time.Duration // of the last message to the broker and back; 0 when none came
	Certificate *broker.Certificate
	Accounts    string // what hinders keeping its accounts, "" for nothing
	At          time.Time
}

// link looks after the connection with the broker.
type link struct {
	mu    sync.Mutex
	state LinkState
	heard chan time.Time
	due   chan struct{} // the accounts are to be compared
}

// Link tells how the broker stands.
func (e *Engine) Link() LinkState {
	e.link.mu.Lock()
	defer e.link.mu.Unlock()
	return e.link.state
}

// Trouble says what a person has to know about the broker; nil when all is well.
func (s LinkState) Trouble(now time.Time) *problem.Problem {
	c := s.Certificate
	switch {
	case s.At.IsZero():
		return nil
	case !s.Connected:
		return problem.New(problem.Unavailable, "The broker is not connected since "+s.Since.Format("15:04")+" UTC.", "It is off or restarting, has no room for another session, refuses Fado's account, or its certificate is not the one expected.",
			"See that it runs and look into its log. What units say meanwhile is lost unless the broker keeps it; Fado connects by itself.")
	case c != nil && c.Trouble != "":
		return problem.New(problem.Unavailable, "The broker's certificate does not hold: "+c.Trouble+".", "It was not renewed, was made for another name, or was signed by somebody else.", "Give the broker another certificate. «fado ca server» makes one.")
	case c != nil && now.After(c.Until.Add(-certificateWarning)):
		return problem.New(problem.Unavailable, fmt.Sprintf("The broker's certificate ends on %s.", c.Until.Format(time.DateOnly)), "Units that check it will not connect after that.", "Renew it. «fado ca server» makes another one.")
	case s.Accounts != "":
		return problem.New(problem.Unavailable, "The broker's accounts cannot be kept in step: "+s.Accounts+".", "Its dynamic security plugin is not loaded, or Fado's account is no administrator there.", "See docs/brokers.md. Units that have an account already go on working.")
	}
	return nil
}

// certificateWarning is how long before its end a certificate is warned of.
const certificateWarning = 21 * 24 * time.Hour

// noteAccounts notes whether the accounts could be kept in step.
func (e *Engine) noteAccounts(err error) {
	said := ""
	if err != nil {
		said = reason(err)
	}
	e.changeLink(func(s *LinkState) { s.Accounts = said })
}

func (e *Engine) changeLink(change func(*LinkState)) {
	e.link.mu.Lock()
	before := e.link.state
	change(&e.link.state)
	after := e.link.state
	e.link.mu.Unlock()
	if before != after {
		e.Changes.Mark("broker", "")
	}
}

// linkLoop looks at the broker: is it connected, how long does a message take there
// and back, and how long is its certificate good.
func (e *Engine) linkLoop(ctx context.Context) {
	if err := e.bus.Subscribe(ctx, echoTopic, e.echoed); err != nil && ctx.Err() == nil {
		e.Log.Warn("listen for the broker's echo", "error", err)
	}
	for {
		e.lookAtBroker(ctx)
		if e.Clock.Sleep(ctx, e.Clock.Scaled(linkRound)) != nil {
			return
		}
	}
}

func (e *Engine) echoed(m broker.Message) {
	if m.Replayed {
		return
	}
	select {
	case e.link.heard <- time.Now():
	default:
	}
}

func (e *Engine) lookAtBroker(ctx context.Context) {
	connected := e.bus.Connected()
	var took time.Duration
	if connected {
		began := time.Now()
		select {
		case <-e.link.heard: // an old one
		default:
		}
		if e.bus.Publish(ctx, echoTopic, []byte("?"), false) == nil {
			t := time.NewTimer(5 * time.Second)
			defer t.Stop()
			select {
			case at := <-e.link.heard:
				took = max(at.Sub(began), time.Microsecond)
			case <-t.C:
			case <-ctx.Done():
				return
			}
		}
	}
	cert := e.brokerCertificate(ctx)
	now := e.Clock.Now()
	var came, went bool
	e.changeLink(func(s *LinkState) {
		first := s.At.IsZero()
		came, went = !first && connected && !s.Connected, (first || s.Connected) && !connected
		if first || connected != s.Connected {
			s.Since = now
		}
		s.Connected, s.RoundTrip, s.Certificate, s.At = connected, took, cert, now
	})
	text := ""
	switch {
	case came:
		text = "The broker is connected again."
	case went:
		text = "The broker is not connected."
	default:
		return
	}
	if err := e.Record(ctx, store.Event{Actor: "fado", Kind: "broker", Text: text}); err != nil && ctx.Err() == nil {
		e.Log.Error("record how the broker stands", "error", err)
	}
}

// brokerCertificate looks at the certificate that units are shown; nil without TLS.
func (e *Engine) brokerCertificate(ctx context.Context) *broker.Certificate {
	list, err := store.Some[store.Broker](e.Store.Read(ctx), 1, "name", "tls = 1")
	if err != nil || len(list) == 0 {
		return nil
	}
	c, err := broker.LookAt(ctx, broker.Address{Host: list[0].Host, Port: list[0].Port, TLS: true, CA: list[0].CA, Net: e.net}, time.Now())
	if err != nil {
		return nil // whether it answers is told by the connection
	}
	if was := e.Link().Certificate; was != nil && *was == c {
		return was
	}
	return &c
}
