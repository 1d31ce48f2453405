package engine

import (
	"context"
	"crypto/rand"
	"encoding/base64"
	"fmt"

	"fado/internal/broker"
	"fado/internal/core/inventory"
	"fado/internal/core/secret"
	"fado/internal/core/thing"
	"fado/internal/store"
)

// The kinds of broker.
const (
	embedded = "embedded"
	external = "external"
)

// loadAccounts gives the embedded broker the accounts on record.
func (e *Engine) loadAccounts() error {
	if e.embedded == nil {
		return nil
	}
	tx := e.Store.Read(e.ctx)
	list, err := store.All[store.Account](tx, "name", "1 = 1")
	if err != nil {
		return fmt.Errorf("load the broker's accounts: %w", err)
	}
	rights := map[string]broker.Rights{}
	devices, err := store.All[store.Device](tx, "id", "unit_id IS NOT NULL OR stage <> ?", string(inventory.Listed))
	if err != nil {
		return fmt.Errorf("load the topics of accounts: %w", err)
	}
	for _, d := range devices {
		rights[d.ID] = unitRights(d)
	}
	for _, a := range list {
		switch {
		case a.RevokedAt != nil:
			e.embedded.RemoveAccount(a.Name)
		case a.Kind == "hub":
			rights, err := e.hubRights(tx, a.HubID)
			if err != nil {
				return err
			}
			e.embedded.SetAccount(broker.Account{Name: a.Name, Hash: a.Hash, Rights: rights})
		default:
			r, ok := rights[a.DeviceID]
			if !ok {
				continue
			}
			e.embedded.SetAccount(broker.Account{Name: a.Name, Hash: a.Hash, Rights: r})
		}
	}
	return nil
}

// hubRights are the topics of the devices that a hub has adopted, and of those
// that are on their way to it.
func (e *Engine) hubRights(tx *store.Tx, hubID string) (broker.Rights, error) {
	r := broker.Rights{Read: map[string]bool{}, Write: map[string]bool{}}
	list, err := store.All[store.Device](tx, "id", `site_id IN (SELECT id FROM sites WHERE hub_id = ?)
		AND (stage = ? OR id IN (SELECT key FROM outgoings WHERE kind = 'thing' AND hub_id = ?)) AND stage <> ?`,
		hubID, string(inventory.Adopted), hubID, string(inventory.Listed))
	if err != nil {
		return r, fmt.Errorf("list the hub's devices: %w", err)
	}
	for _, d := range list {
		s, err := e.thingSubject(tx, d)
		if err != nil {
			continue
		}
		read, write := thing.Rights(s)
		for _, t := range read {
			r.Read[t] = true
		}
		for _, t := range write {
			r.Write[t] = true
		}
	}
	return r, nil
}

// account is the newest live account of a device's unit.
func (e *Engine) account(tx *store.Tx, d store.Device) (store.Account, bool) {
	list, err := store.Some[store.Account](tx, 1, "generation DESC", "device_id = ? AND revoked_at IS NULL", d.ID)
	if err != nil || len(list) == 0 {
		return store.Account{}, false
	}
	return list[0], true
}

func randomSecret() secret.Secret {
	b := make([]byte, 16)
	_, _ = rand.Read(b)
	return secret.New(base64.RawURLEncoding.EncodeToString(b))
}

// prepareAccount makes the unit's account, or takes the one that was made and
// not yet seen, so that a retry hands over the same.
func (e *Engine) prepareAccount(ctx context.Context, d store.Device) (store.Account, error) {
	var a store.Account
	err := e.Store.Write(ctx, func(tx *store.Tx) error {
		last, ok := e.account(tx, d)
		if ok && len(last.Sealed) > 0 {
			a = last
			return nil
		}
		generations, err := store.Count[store.Account](tx, "unit_id = ?", unitOf(d))
		if err != nil {
			return err
		}
		n := int(generations) + 1
		pass := randomSecret()
		a = store.Account{Kind: "unit", UnitID: unitOf(d), DeviceID: d.ID, Generation: n, Hash: e.Store.Hash(pass.Expose()),
			Name: fmt.Sprintf("unit-%s-%d", inventory.HardwareID(d.HardwareID).Digits(), n)}
		a.Sealed = e.seal("account", a.Name, pass)
		// At most two generations live: the one in use and the new one.
		if ok {
			if _, err := store.Change[store.Account](tx, map[string]any{"revoked_at": e.Clock.Now(), "sealed": nil},
				"device_id = ? AND revoked_at IS NULL AND name <> ?", d.ID, last.Name); err != nil {
				return err
			}
		}
		return store.Create(tx, &a)
	})
	if err != nil {
		return a, fmt.Errorf("make the broker account: %w", err)
	}
	if e.embedded != nil {
		e.embedded.SetAccount(broker.Account{Name: a.Name, Hash: a.Hash, Rights: unitRights(d)})
	}
	e.dropRevoked(ctx, d.ID)
	return a, nil
}

// grantHub lets the site's hub read and command one more device.
func (e *Engine) grantHub(tx *store.Tx, d store.Device) error {
	if e.embedded == nil {
		return nil
	}
	h, err := store.One[store.Hub](tx, "id = (SELECT hub_id FROM sites WHERE id = ?)", d.SiteID)
	if isNone(err) {
		return nil
	}
	if err != nil {
		return fmt.Errorf("find the site's hub: %w", err)
	}
	s, err := e.thingSubject(tx, d)
	if err != nil {
		return err
	}
	read, write := thing.Rights(s)
	e.embedded.Grant(h.Account, read, write)
	return nil
}

// dropRevoked ends the sessions of a device's revoked accounts.
func (e *Engine) dropRevoked(ctx context.Context, deviceID string) {
	if e.embedded == nil {
		return
	}
	list, err := store.All[store.Account](e.Store.Read(ctx), "name", "device_id = ? AND revoked_at IS NOT NULL", deviceID)
	if err != nil {
		e.Log.Error("list revoked accounts", "error", err)
		return
	}
	for _, a := range list {
		e.embedded.RemoveAccount(a.Name)
	}
}

// accountSeen notes that a unit signed in with its account: the secret is no
// longer needed, and older accounts of the device end.
func (e *Engine) accountSeen(tx *store.Tx, d store.Device, name string) error {
	at := e.Clock.Now()
	if _, err := store.Change[store.Account](tx, map[string]any{"seen_at": at, "sealed": nil}, "name = ? AND device_id = ?", name, d.ID); err != nil {
		return err
	}
	_, err := store.Change[store.Account](tx, map[string]any{"revoked_at": at, "sealed": nil}, "device_id = ? AND name <> ? AND revoked_at IS NULL", d.ID, name)
	return err
}

func unitOf(d store.Device) string {
	if d.UnitID == nil {
		return ""
	}
	return *d.UnitID
}
