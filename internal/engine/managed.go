package engine

import (
	"context"
	"fmt"
	"strings"
	"time"

	"fado/internal/broker"
	"fado/internal/core/secret"
	"fado/internal/fail"
	"fado/internal/store"
)

// accountsRound is how often the accounts of a broker elsewhere are compared with
// the records, though nothing seems to have changed.
const accountsRound = 10 * time.Minute

// accountsDue has the accounts of a broker elsewhere compared soon.
func (e *Engine) accountsDue() {
	select {
	case e.link.due <- struct{}{}:
	default: // they are due already
	}
}

// setLogins makes accounts on a broker elsewhere, or brings their rights up to date.
func (e *Engine) setLogins(ctx context.Context, list ...entitled) error {
	logins := make([]broker.Login, 0, len(list))
	for _, a := range list {
		pass, err := e.open("account", a.Name, a.Sealed)
		if err != nil {
			return err
		}
		logins = append(logins, broker.Login{Name: a.Name, Password: pass, Rights: a.rights})
	}
	fail.Point("before account set")
	err := e.managed.SetLogins(ctx, logins...)
	fail.Point("after account set")
	return err
}

// accountsLoop keeps the accounts of a broker elsewhere in step with the records:
// after each connection, when something could not be told it, and every now and
// then, since others may change them, too.
func (e *Engine) accountsLoop(ctx context.Context) {
	prepared := false
	var next time.Time
	for e.Clock.Sleep(ctx, e.Clock.Scaled(time.Second)) == nil {
		if !e.managed.Connected() {
			prepared = false
			continue
		}
		due := !prepared || !e.Clock.Now().Before(next)
		select {
		case <-e.link.due:
			due = true
		default:
		}
		if !due {
			continue
		}
		err := e.stepAccounts(ctx, prepared)
		if ctx.Err() != nil {
			return
		}
		e.noteAccounts(err)
		if err != nil {
			e.Log.Warn("keep the broker's accounts in step", "error", err)
			if e.Clock.Sleep(ctx, e.Clock.Scaled(5*time.Second)) != nil {
				return
			}
			e.accountsDue()
			continue
		}
		prepared, next = true, e.Clock.Now().Add(accountsRound)
	}
}

// stepAccounts compares what the broker has with the records and puts it right.
func (e *Engine) stepAccounts(ctx context.Context, prepared bool) error {
	if !prepared {
		if err := e.managed.Prepare(ctx); err != nil {
			return err
		}
	}
	held, err := e.managed.Logins(ctx)
	if err != nil {
		return err
	}
	live, revoked, err := e.entitledAccounts(e.Store.Read(ctx))
	if err != nil {
		return err
	}
	var put []entitled
	var made, lost []string
	known := map[string]bool{}
	for _, a := range live {
		known[a.Name] = true
		h, has := held[a.Name]
		switch {
		case !has && len(a.Sealed) == 0:
			lost = append(lost, a.Name)
		case !has || !h.Has(a.Name, a.rights):
			put = append(put, a)
			if !has && a.LiveAt != nil {
				made = append(made, a.Name)
			}
		}
	}
	if err := e.setLogins(ctx, put...); err != nil {
		return err
	}
	var gone []string
	for _, n := range revoked {
		if _, has := held[n]; has && !known[n] {
			gone = append(gone, n)
		}
	}
	for n := range held {
		// An account of a unit that no record knows is one of a folder that was
		// restored or lost: nobody else gives such names.
		if broker.Ours(n) && !known[n] && !contains(gone, n) {
			gone = append(gone, n)
		}
	}
	if err := e.managed.RemoveLogins(ctx, gone...); err != nil {
		return err
	}
	at := e.Clock.Now()
	return e.Store.Write(ctx, func(tx *store.Tx) error {
		for _, a := range live {
			if a.LiveAt == nil {
				if _, err := store.Change[store.Account](tx, map[string]any{"live_at": at}, "name = ?", a.Name); err != nil {
					return err
				}
			}
		}
		if len(made) > 0 {
			if err := e.event(tx, store.Event{Actor: "fado", Kind: "broker", Text: fmt.Sprintf("The broker had lost %s, removed there by somebody else; it has the same account again.", strings.Join(made, ", "))}); err != nil {
				return err
			}
		}
		if len(gone) > 0 {
			if err := e.event(tx, store.Event{Actor: "fado", Kind: "broker", Text: fmt.Sprintf("The broker still had %s, which no unit has any more; revoked.", strings.Join(gone, ", "))}); err != nil {
				return err
			}
		}
		for _, n := range lost {
			a, err := store.One[store.Account](tx, "name = ?", n)
			if err != nil {
				return err
			}
			// Its secret is no longer known, as after a move from the embedded broker.
			if _, err := store.Change[store.Account](tx, map[string]any{"revoked_at": at}, "name = ?", n); err != nil {
				return err
			}
			if err := e.event(tx, store.Event{Actor: "fado", DeviceID: a.DeviceID, Kind: "broker", Text: fmt.Sprintf("The broker does not have the account %s, and its secret is not kept; commissioning makes another.", n)}); err != nil {
				return err
			}
		}
		return nil
	})
}

func contains(list []string, s string) bool {
	for _, x := range list {
		if x == s {
			return true
		}
	}
	return false
}

// SetAccountPassword gives the account of a hub on a broker elsewhere its password.
func (e *Engine) setAccountPassword(ctx context.Context, name string, p secret.Secret) error {
	if e.managed == nil {
		return nil
	}
	return e.managed.SetPassword(ctx, name, p)
}
