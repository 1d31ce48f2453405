package engine

import (
	"context"
	"crypto/rand"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"slices"

	"fado/internal/broker"
	"fado/internal/core/inventory"
	"fado/internal/core/secret"
	"fado/internal/core/thing"
	"fado/internal/store"
)

// The kinds of broker.
const (
	embedded = "embedded"
	external = "external" // its units share one account
	managed  = "managed"  // elsewhere, and Fado keeps its accounts
)

// brokerKind is the kind of broker that this service runs with.
func (e *Engine) brokerKind() string {
	switch {
	case e.embedded != nil:
		return embedded
	case e.managed != nil:
		return managed
	}
	return external
}

// ownAccounts reports whether each unit has a broker account of its own.
func (e *Engine) ownAccounts() bool { return e.embedded != nil || e.managed != nil }

// entitled is a live account with what it may do.
type entitled struct {
	store.Account
	rights    broker.Rights
	certified bool // it has to show its certificate, too
}

// entitledAccounts lists the live accounts on record, and the names of those that
// were revoked.
func (e *Engine) entitledAccounts(tx *store.Tx) (live []entitled, revoked []string, err error) {
	list, err := store.All[store.Account](tx, "name", "1 = 1")
	if err != nil {
		return nil, nil, fmt.Errorf("load the broker's accounts: %w", err)
	}
	rights := map[string]broker.Rights{}
	devices, err := store.All[store.Device](tx, "id", "unit_id IS NOT NULL OR stage <> ?", string(inventory.Listed))
	if err != nil {
		return nil, nil, fmt.Errorf("load the topics of accounts: %w", err)
	}
	for _, d := range devices {
		rights[d.ID] = unitRights(d)
	}
	certified, err := certifiedAccounts(tx, "1 = 1")
	if err != nil {
		return nil, nil, err
	}
	for _, a := range list {
		switch {
		case a.RevokedAt != nil:
			revoked = append(revoked, a.Name)
		case a.Kind == "hub":
			r, err := e.hubRights(tx, a.HubID)
			if err != nil {
				return nil, nil, err
			}
			live = append(live, entitled{Account: a, rights: r})
		default:
			if r, ok := rights[a.DeviceID]; ok {
				live = append(live, entitled{a, r, certified[a.Name]})
			}
		}
	}
	return live, revoked, nil
}

// loadAccounts gives the broker the accounts on record. One that is elsewhere is
// brought in step as soon as it answers.
func (e *Engine) loadAccounts() error {
	if e.embedded == nil {
		e.accountsDue()
		return nil
	}
	live, revoked, err := e.entitledAccounts(e.Store.Read(e.ctx))
	if err != nil {
		return err
	}
	for _, name := range revoked {
		e.embedded.RemoveAccount(name)
	}
	for _, a := range live {
		e.embedded.SetAccount(broker.Account{Name: a.Name, Hash: a.Hash, Rights: a.rights, Certified: a.certified})
	}
	return nil
}

// certifiedAccounts tells which accounts have to show a certificate: those that have
// done so, and new ones that are given one from the start. A unit that is in service
// with its password goes on so until it was told.
func certifiedAccounts(tx *store.Tx, where string, args ...any) (map[string]bool, error) {
	list, err := store.All[store.Certificate](tx, "serial", "revoked_at IS NULL AND (seen_at IS NOT NULL OR account IN (SELECT name FROM accounts WHERE seen_at IS NULL)) AND "+where, args...)
	if err != nil {
		return nil, fmt.Errorf("list who shows a certificate: %w", err)
	}
	out := map[string]bool{}
	for _, c := range list {
		out[c.Account] = true
	}
	return out, nil
}

// setAccount makes an account live, or changes what it may do. A broker elsewhere
// that does not answer is brought in step later.
func (e *Engine) setAccount(ctx context.Context, a store.Account, r broker.Rights) error {
	switch {
	case e.embedded != nil:
		certified, err := certifiedAccounts(e.Store.Read(ctx), "account = ?", a.Name)
		if err != nil {
			return err
		}
		e.embedded.SetAccount(broker.Account{Name: a.Name, Hash: a.Hash, Rights: r, Certified: certified[a.Name]})
	case e.managed != nil:
		if err := e.setLogins(ctx, entitled{Account: a, rights: r}); err != nil {
			e.accountsDue()
			return err
		}
	}
	return nil
}

// dropAccounts revokes accounts on the broker.
func (e *Engine) dropAccounts(ctx context.Context, names ...string) {
	switch {
	case e.embedded != nil:
		for _, n := range names {
			e.embedded.RemoveAccount(n)
		}
	case e.managed != nil && len(names) > 0:
		if err := e.managed.RemoveLogins(ctx, names...); err != nil {
			e.Log.Warn("revoke accounts", "error", err)
			e.accountsDue()
		}
	}
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
	h, err := store.One[store.Hub](tx, "id = ?", hubID)
	if err != nil {
		return r, fmt.Errorf("find the hub: %w", err)
	}
	if n, ok := e.Notice(h.Notice); ok {
		r.Listen = n.Listens
	}
	if m, err := store.One[store.Meta](tx, "name = ?", alertsKey); err == nil {
		var k keptAlerts
		if err := json.Unmarshal([]byte(m.Value), &k); err == nil && k.Topic != "" {
			r.Listen = append(slices.Clone(r.Listen), k.Topic)
		}
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
		b, err := store.One[store.Broker](tx, "id = ?", d.BrokerID)
		if err != nil {
			return err
		}
		if ok && len(last.Sealed) > 0 && last.SeenAt == nil {
			a = last
			if b.Certificates {
				return e.certify(tx, b, a, false)
			}
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
		if b.Certificates {
			if err := e.certify(tx, b, a, false); err != nil {
				return err
			}
		}
		return store.Create(tx, &a)
	})
	if err != nil {
		return a, fmt.Errorf("make the broker account: %w", err)
	}
	if err := e.setAccount(ctx, a, unitRights(d)); err != nil {
		return a, err
	}
	e.dropRevoked(ctx, d.ID)
	return a, nil
}

// grantHub lets the site's hub read and command one more device.
func (e *Engine) grantHub(tx *store.Tx, d store.Device) error {
	if !e.ownAccounts() {
		return nil
	}
	h, err := store.One[store.Hub](tx, "id = (SELECT hub_id FROM sites WHERE id = ?)", d.SiteID)
	if isNone(err) {
		return nil
	}
	if err != nil {
		return fmt.Errorf("find the site's hub: %w", err)
	}
	if e.managed != nil {
		return e.loadHubRights(e.ctx, d)
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
	if !e.ownAccounts() {
		return
	}
	list, err := store.All[store.Account](e.Store.Read(ctx), "name", "device_id = ? AND revoked_at IS NOT NULL", deviceID)
	if err != nil {
		e.Log.Error("list revoked accounts", "error", err)
		return
	}
	var names []string
	for _, a := range list {
		names = append(names, a.Name)
	}
	e.dropAccounts(ctx, names...)
}

// accountSeen notes that a unit signed in with its account: the secret is no
// longer needed, and older accounts of the device end. For a broker elsewhere it is
// kept, sealed, so that an account that is lost there can be made again.
func (e *Engine) accountSeen(tx *store.Tx, d store.Device, name string) error {
	at := e.Clock.Now()
	columns := map[string]any{"seen_at": at}
	if e.managed == nil {
		columns["sealed"] = nil
	}
	if _, err := store.Change[store.Account](tx, columns, "name = ? AND device_id = ?", name, d.ID); err != nil {
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
