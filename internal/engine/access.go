package engine

import (
	"context"
	"crypto/rand"
	"encoding/base32"
	"fmt"
	"strings"

	"fado/internal/core/problem"
	"fado/internal/core/secret"
	"fado/internal/core/settings"
	"fado/internal/store"
)

// accessUser is the name under which Fado signs in to units' own pages, where
// nothing else is intended.
const accessUser = "fado"

// ensureAccess makes the login of a unit's own pages and the key of its own
// access point, where its dialect can be told them and nobody has set one. They
// are kept sealed as intended settings of the device.
func (e *Engine) ensureAccess(ctx context.Context, actor string, d store.Device) error {
	model, dl, err := e.speaker(d)
	if err != nil {
		return err
	}
	subject := shownSubject(model, d)
	return e.Store.Write(ctx, func(tx *store.Tx) error {
		values, _, err := e.intended(tx, d)
		if err != nil {
			return err
		}
		missing := []settings.Key{}
		for _, k := range []settings.Key{settings.AccessUser, settings.AccessPassword, settings.AccessPointKey} {
			if _, has := values[k]; !has && dl.Supports(k, subject) {
				missing = append(missing, k)
			}
		}
		if len(missing) == 0 {
			return nil
		}
		at := e.Clock.Now()
		rev, err := store.NextRevision(tx, at, actor, "login of "+d.Name)
		if err != nil {
			return err
		}
		for _, k := range missing {
			row := store.Intended{Scope: "device", ScopeID: d.ID, Key: string(k), Revision: rev, Actor: "fado", At: at}
			if k == settings.AccessUser {
				row.Value = store.JSON(accessUser)
			} else {
				row.Sealed = e.seal("setting", "device/"+d.ID+"/"+string(k), readableSecret())
			}
			if err := store.Save(tx, &row); err != nil {
				return err
			}
		}
		return e.event(tx, store.Event{Actor: "fado", SiteID: d.SiteID, DeviceID: d.ID, Kind: "login", Text: fmt.Sprintf("A login of its own was made for %s and is kept sealed.", d.Name)})
	})
}

// readableSecret is a random secret of 100 bits that a person can type: four
// groups of letters and digits that do not look alike.
func readableSecret() secret.Secret {
	b := make([]byte, 13)
	_, _ = rand.Read(b)
	s := strings.ToLower(base32.StdEncoding.EncodeToString(b))[:20]
	return secret.New(s[:5] + "-" + s[5:10] + "-" + s[10:15] + "-" + s[15:])
}

// Revealed is the generated login of one unit.
type Revealed struct {
	User, Password, PointKey string
}

// Reveal shows the login of one unit's own pages to a person who has just signed
// in again. It is the one way in which a secret comes out of Fado, and an event.
func (e *Engine) Reveal(ctx context.Context, actor, ref string) (Revealed, error) {
	d, err := e.FindDevice(ctx, ref)
	if err != nil {
		return Revealed{}, err
	}
	values, _, err := e.intended(e.Store.Read(ctx), d)
	if err != nil {
		return Revealed{}, err
	}
	pass, _ := values[settings.AccessPassword].(secret.Secret)
	key, _ := values[settings.AccessPointKey].(secret.Secret)
	if pass.IsZero() && key.IsZero() {
		return Revealed{}, problem.New(problem.Conflict, fmt.Sprintf("%s has no login of its own.", d.Name), "Its firmware knows none, or it was not commissioned yet.", "")
	}
	out := Revealed{Password: pass.Expose(), PointKey: key.Expose()}
	out.User, _ = values[settings.AccessUser].(string)
	return out, e.Record(ctx, store.Event{Actor: actor, SiteID: d.SiteID, DeviceID: d.ID, Kind: "reveal", Text: fmt.Sprintf("The login of %s was shown to %s.", d.Name, actor)})
}

// Copies lists the sealed copies of a unit's whole configuration.
func (e *Engine) Copies(ctx context.Context, d store.Device) ([]store.SealedCopy, error) {
	return store.All[store.SealedCopy](e.Store.Read(ctx), "id DESC", "device_id = ?", d.ID)
}
