package engine

import (
	"context"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"net"
	"slices"
	"strings"
	"time"

	"fado/internal/authority"
	"fado/internal/broker"
	"fado/internal/core/naming"
	"fado/internal/core/problem"
	"fado/internal/store"
)

// The kinds of certificate.
const (
	ofUnit   = "unit"
	ofServer = "server"
)

// FindBroker finds a broker by id or name.
func (e *Engine) FindBroker(ctx context.Context, ref string) (store.Broker, error) {
	b, err := store.One[store.Broker](e.Store.Read(ctx), "id = ? OR name = ?", ref, ref)
	if isNone(err) {
		return b, notFound("broker", ref)
	}
	return b, err
}

// MakeAuthority makes the certification authority of a broker. Units are given it as
// the one that they check the broker by.
func (e *Engine) MakeAuthority(ctx context.Context, actor, ref string) (store.Authority, error) {
	var a store.Authority
	err := e.Store.Write(ctx, func(tx *store.Tx) error {
		b, err := store.One[store.Broker](tx, "id = ? OR name = ?", ref, ref)
		if err != nil {
			return notFound("broker", ref)
		}
		if a, err = e.makeAuthority(tx, b); err != nil {
			return err
		}
		b.CA = a.Certificate
		b.Version++
		if err := store.Save(tx, &b); err != nil {
			return err
		}
		if _, err := store.NextRevision(tx, e.Clock.Now(), actor, "authority of "+b.Name); err != nil {
			return err
		}
		e.mark(tx, "broker", b.ID)
		return e.event(tx, store.Event{Actor: actor, Kind: "certificate", Text: fmt.Sprintf("The certification authority of the broker %s was made. Units check the broker by it once they are told.", b.Name)})
	})
	if err == nil {
		err = e.loadTrust()
	}
	return a, err
}

func (e *Engine) makeAuthority(tx *store.Tx, b store.Broker) (store.Authority, error) {
	if _, err := store.One[store.Authority](tx, "broker_id = ?", b.ID); err == nil {
		return store.Authority{}, problem.New(problem.Conflict, fmt.Sprintf("The broker %s has an authority already.", b.Name), "It was made before.", "Look at it with «fado ca show "+b.Name+"».")
	}
	x, err := authority.New(rand.Reader, b.Name+" ("+b.ID[:8]+")", time.Now().UTC())
	if err != nil {
		return store.Authority{}, err
	}
	a := store.Authority{BrokerID: b.ID, Certificate: x.PEM, Key: e.seal("authority", b.ID, x.Key), CreatedAt: e.Clock.Now()}
	return a, store.Create(tx, &a)
}

// Authority is the certification authority of a broker.
func (e *Engine) Authority(ctx context.Context, ref string) (store.Authority, store.Broker, error) {
	b, err := e.FindBroker(ctx, ref)
	if err != nil {
		return store.Authority{}, b, err
	}
	a, err := store.One[store.Authority](e.Store.Read(ctx), "broker_id = ?", b.ID)
	if isNone(err) {
		return a, b, problem.New(problem.NotFound, fmt.Sprintf("The broker %s has no certification authority.", b.Name), "None was made; it has a certificate from elsewhere, or none.", "Make one with «fado ca make "+b.Name+"».")
	}
	return a, b, err
}

func (e *Engine) openAuthority(tx *store.Tx, brokerID string) (*authority.Authority, error) {
	a, err := store.One[store.Authority](tx, "broker_id = ?", brokerID)
	if err != nil {
		return nil, err
	}
	key, err := e.open("authority", brokerID, a.Key)
	if err != nil {
		return nil, err
	}
	return authority.Open(a.Certificate, key)
}

// SignServer makes the certificate of a broker elsewhere, of a request that was made
// there: its key does not leave its machine.
func (e *Engine) SignServer(ctx context.Context, actor, ref, request string, names []string) (store.Certificate, error) {
	_, b, err := e.Authority(ctx, ref)
	if err != nil {
		return store.Certificate{}, err
	}
	var f problem.Fields
	if len(names) == 0 {
		f.Add("names", "at least one name or address under which units reach it", b.Host)
	}
	for _, n := range names {
		if net.ParseIP(n) == nil {
			for label := range strings.SplitSeq(n, ".") {
				if rule, passes := naming.CheckHostname(label); rule != "" {
					f.Add("names", fmt.Sprintf("%q: each label of a name %s", n, rule), passes)
					break
				}
			}
		}
	}
	if len(names) > 0 && !slices.Contains(names, b.Host) {
		f.Add("names", fmt.Sprintf("units reach this broker as %s, which has to be among them", b.Host), b.Host)
	}
	if err := f.Err("No certificate was made."); err != nil {
		return store.Certificate{}, err
	}
	var c store.Certificate
	return c, e.Store.Write(ctx, func(tx *store.Tx) error {
		a, err := e.openAuthority(tx, b.ID)
		if err != nil {
			return err
		}
		x, err := a.SignServer(rand.Reader, request, names, time.Now().UTC())
		if err != nil {
			f.Add("request", err.Error(), "")
			return f.Err("No certificate was made.")
		}
		c = store.Certificate{Serial: x.Serial, BrokerID: b.ID, Kind: ofServer, Names: strings.Join(names, ","), PEM: x.PEM, From: x.From, Until: x.Until}
		if err := store.Create(tx, &c); err != nil {
			return err
		}
		return e.event(tx, store.Event{Actor: actor, Kind: "certificate", Text: fmt.Sprintf("A certificate of the broker %s for %s was signed, good until %s.", b.Name, strings.Join(names, ", "), x.Until.Format(time.DateOnly))})
	})
}

// RevocationList signs the list of a broker's revoked certificates.
func (e *Engine) RevocationList(ctx context.Context, ref string) (string, error) {
	_, b, err := e.Authority(ctx, ref)
	if err != nil {
		return "", err
	}
	text := ""
	return text, e.Store.Write(ctx, func(tx *store.Tx) error {
		rec, err := store.One[store.Authority](tx, "broker_id = ?", b.ID)
		if err != nil {
			return err
		}
		a, err := e.openAuthority(tx, b.ID)
		if err != nil {
			return err
		}
		list, err := store.All[store.Certificate](tx, "serial", "broker_id = ? AND revoked_at IS NOT NULL", b.ID)
		if err != nil {
			return err
		}
		var revoked []authority.Revoked
		for _, c := range list {
			revoked = append(revoked, authority.Revoked{Serial: c.Serial, At: *c.RevokedAt})
		}
		rec.Lists++
		if text, err = a.List(rand.Reader, revoked, rec.Lists, time.Now().UTC()); err != nil {
			return err
		}
		return store.Save(tx, &rec)
	})
}

// Certificates lists those of a broker, or of a device, newest first.
func (e *Engine) Certificates(ctx context.Context, brokerRef, deviceRef string) ([]store.Certificate, error) {
	where, args := "1 = 1", []any{}
	if brokerRef != "" {
		b, err := e.FindBroker(ctx, brokerRef)
		if err != nil {
			return nil, err
		}
		where, args = where+" AND broker_id = ?", append(args, b.ID)
	}
	if deviceRef != "" {
		d, err := e.FindDevice(ctx, deviceRef)
		if err != nil {
			return nil, err
		}
		where, args = where+" AND device_id = ?", append(args, d.ID)
	}
	return store.All[store.Certificate](e.Store.Read(ctx), `"from" DESC, serial`, where, args...)
}

// certificate is a unit's newest certificate that counts, for an account.
func certificateOf(tx *store.Tx, account string) (store.Certificate, bool) {
	list, err := store.Some[store.Certificate](tx, 1, `"from" DESC`, "account = ? AND revoked_at IS NULL", account)
	if err != nil || len(list) == 0 {
		return store.Certificate{}, false
	}
	return list[0], true
}

// certify makes the certificate of an account, unless it has one that is good for a
// while. It belongs into the transaction that makes the account.
func (e *Engine) certify(tx *store.Tx, b store.Broker, a store.Account, renew bool) error {
	now := time.Now().UTC()
	if c, ok := certificateOf(tx, a.Name); ok && !renew && now.Before(Renewal(c)) {
		return nil
	}
	ca, err := e.openAuthority(tx, b.ID)
	if err != nil {
		return fmt.Errorf("make the certificate of %s: %w", a.Name, err)
	}
	x, err := ca.Unit(rand.Reader, a.Name, now)
	if err != nil {
		return err
	}
	return store.Create(tx, &store.Certificate{Serial: x.Serial, BrokerID: b.ID, Kind: ofUnit, Account: a.Name, DeviceID: a.DeviceID, PEM: x.PEM,
		Key: e.seal("certificate", x.Serial, x.Key), From: x.From, Until: x.Until})
}

// Renewal is when a certificate is due to be renewed: when two thirds of its time
// are over.
func Renewal(c store.Certificate) time.Time { return c.From.Add(c.Until.Sub(c.From) * 2 / 3) }

// RenewCertificate makes another certificate for the unit of a device. The old one
// counts until the unit has signed in with the new one.
func (e *Engine) RenewCertificate(ctx context.Context, actor, ref string) (store.Certificate, error) {
	d, err := e.FindDevice(ctx, ref)
	if err != nil {
		return store.Certificate{}, err
	}
	var c store.Certificate
	err = e.Store.Write(ctx, func(tx *store.Tx) error {
		b, err := store.One[store.Broker](tx, "id = ?", d.BrokerID)
		if err != nil {
			return err
		}
		a, ok := e.account(tx, d)
		if !ok || !b.Certificates {
			return problem.New(problem.Conflict, d.Name+" has no certificate.", "Units of its broker sign in with their account alone, or it was not commissioned.", "«fado broker edit "+b.Name+" --certificates» has units sign in with certificates.")
		}
		if err := e.certify(tx, b, a, true); err != nil {
			return err
		}
		c, _ = certificateOf(tx, a.Name)
		if _, err := store.NextRevision(tx, e.Clock.Now(), actor, "certificate of "+d.Name); err != nil {
			return err
		}
		e.mark(tx, "device", d.ID)
		return e.event(tx, store.Event{Actor: actor, SiteID: d.SiteID, DeviceID: d.ID, Kind: "certificate", Text: fmt.Sprintf("Another certificate was made for %s. Apply its settings to hand it over.", d.Name)})
	})
	return c, err
}

// RevokeCertificate ends a certificate at once.
func (e *Engine) RevokeCertificate(ctx context.Context, actor, serial, why string) (store.Certificate, error) {
	var c store.Certificate
	if strings.TrimSpace(why) == "" {
		var f problem.Fields
		f.Add("reason", "must not be empty", "The unit was stolen.")
		return c, f.Err("The certificate was not revoked.")
	}
	err := e.Store.Write(ctx, func(tx *store.Tx) error {
		var err error
		if c, err = store.One[store.Certificate](tx, "serial = ?", serial); err != nil {
			return problem.New(problem.NotFound, fmt.Sprintf("There is no certificate %q.", serial), "It was misspelt.", "List them with «fado certificate list».")
		}
		if c.RevokedAt != nil {
			return problem.New(problem.Conflict, "The certificate was revoked on "+c.RevokedAt.Format(time.DateOnly)+".", c.Reason, "There is nothing left to do.")
		}
		return e.revoke(tx, &c, actor, why)
	})
	if err == nil {
		err = e.loadTrust()
	}
	return c, err
}

func (e *Engine) revoke(tx *store.Tx, c *store.Certificate, actor, why string) error {
	at := time.Now().UTC()
	c.RevokedAt, c.Reason, c.Key = &at, why, nil
	if err := store.Save(tx, c); err != nil {
		return err
	}
	return e.event(tx, store.Event{Actor: actor, DeviceID: c.DeviceID, Kind: "certificate", Text: fmt.Sprintf("The certificate %.8s… of %s was revoked: %s", c.Serial, c.Account+c.Names, why)})
}

// certificateSeen notes that a unit signed in with its newest certificate; the older
// ones of its account end.
func (e *Engine) certificateSeen(tx *store.Tx, account, serial string) error {
	list, err := store.All[store.Certificate](tx, `"from" DESC`, "account = ? AND revoked_at IS NULL", account)
	if err != nil || len(list) == 0 || serial != "" && list[0].Serial != serial {
		return err
	}
	if list[0].SeenAt == nil {
		if _, err := store.Change[store.Certificate](tx, map[string]any{"seen_at": time.Now().UTC()}, "serial = ?", list[0].Serial); err != nil {
			return err
		}
	}
	for i := range list[1:] {
		if err := e.revoke(tx, &list[i+1], "fado", "another one took its place"); err != nil {
			return err
		}
	}
	if len(list) > 1 {
		tx.After(func() {
			if err := e.loadTrust(); err != nil {
				e.Log.Error("bring what the broker trusts up to date", "error", err)
			}
		})
	}
	return nil
}

// loadTrust gives the embedded broker the certificate that it shows, the authorities
// of its clients and what was revoked.
func (e *Engine) loadTrust() error {
	if e.embedded == nil {
		return nil
	}
	var t broker.Trust
	err := e.Store.Write(e.ctx, func(tx *store.Tx) error {
		t = broker.Trust{Revoked: map[string]bool{}}
		list, err := store.All[store.Authority](tx, "broker_id", "1 = 1")
		if err != nil || len(list) == 0 {
			return err
		}
		t.Clients = x509.NewCertPool()
		for _, a := range list {
			t.Clients.AppendCertsFromPEM([]byte(a.Certificate))
			if t.Server, err = e.ownServer(tx, a); err != nil {
				return err
			}
		}
		revoked, err := store.All[store.Certificate](tx, "serial", "revoked_at IS NOT NULL")
		if err != nil {
			return err
		}
		for _, c := range revoked {
			t.Revoked[c.Serial] = true
		}
		return nil
	})
	if err != nil {
		return fmt.Errorf("load what the broker trusts: %w", err)
	}
	e.embedded.SetTrust(t)
	return nil
}

// ownServer is the certificate that the embedded broker shows, made anew when it is
// due or the broker is reached under another name.
func (e *Engine) ownServer(tx *store.Tx, a store.Authority) (*tls.Certificate, error) {
	b, err := store.One[store.Broker](tx, "id = ?", a.BrokerID)
	if err != nil {
		return nil, err
	}
	list, err := store.Some[store.Certificate](tx, 1, `"from" DESC`, "broker_id = ? AND kind = ? AND key IS NOT NULL AND revoked_at IS NULL", b.ID, ofServer)
	if err != nil {
		return nil, err
	}
	var c store.Certificate
	if len(list) > 0 && list[0].Names == b.Host && time.Now().Before(Renewal(list[0])) {
		c = list[0]
	} else {
		ca, err := e.openAuthority(tx, b.ID)
		if err != nil {
			return nil, err
		}
		x, err := ca.Server(rand.Reader, []string{b.Host}, time.Now().UTC())
		if err != nil {
			return nil, err
		}
		c = store.Certificate{Serial: x.Serial, BrokerID: b.ID, Kind: ofServer, Names: b.Host, PEM: x.PEM, Key: e.seal("certificate", x.Serial, x.Key), From: x.From, Until: x.Until}
		if err := store.Create(tx, &c); err != nil {
			return nil, err
		}
		if err := e.event(tx, store.Event{Actor: "fado", Kind: "certificate", Text: fmt.Sprintf("The embedded broker has a certificate for %s, good until %s.", b.Host, x.Until.Format(time.DateOnly))}); err != nil {
			return nil, err
		}
	}
	key, err := e.open("certificate", c.Serial, c.Key)
	if err != nil {
		return nil, err
	}
	pair, err := tls.X509KeyPair([]byte(c.PEM), []byte(key.Expose()))
	if err != nil {
		return nil, fmt.Errorf("use the embedded broker's certificate: %w", err)
	}
	return &pair, nil
}

// certificateLoop renews what is due, once a day: the embedded broker's own, and those
// of units, which are handed over when their settings are applied.
func (e *Engine) certificateLoop(ctx context.Context) {
	for e.Clock.Sleep(ctx, 24*time.Hour) == nil {
		if err := e.renewDue(ctx); err != nil && ctx.Err() == nil {
			e.Log.Error("renew certificates", "error", err)
		}
	}
}

func (e *Engine) renewDue(ctx context.Context) error {
	var made []string
	err := e.Store.Write(ctx, func(tx *store.Tx) error {
		made = nil
		brokers, err := store.All[store.Broker](tx, "id", "certificates = 1")
		if err != nil {
			return err
		}
		for _, b := range brokers {
			accounts, err := store.All[store.Account](tx, "name", "revoked_at IS NULL AND device_id IN (SELECT id FROM devices WHERE broker_id = ?)", b.ID)
			if err != nil {
				return err
			}
			for _, a := range accounts {
				c, has := certificateOf(tx, a.Name)
				if !has || time.Now().Before(Renewal(c)) {
					continue
				}
				if err := e.certify(tx, b, a, true); err != nil {
					return err
				}
				made = append(made, a.Name)
				e.mark(tx, "device", a.DeviceID)
			}
		}
		if len(made) == 0 {
			return nil
		}
		if _, err := store.NextRevision(tx, e.Clock.Now(), "fado", "certificates"); err != nil {
			return err
		}
		return e.event(tx, store.Event{Actor: "fado", Kind: "certificate", Text: fmt.Sprintf("%d certificates were due and have successors, which are handed over when settings are applied.", len(made))})
	})
	if err != nil {
		return err
	}
	return e.loadTrust()
}
