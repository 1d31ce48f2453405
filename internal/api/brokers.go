package api

import (
	"context"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"fado/internal/authority"
	"fado/internal/engine"
	"fado/internal/store"
	"fado/internal/wire"
)

func (s *server) broker(ctx context.Context, b store.Broker) wire.Broker {
	how := "an account of its own for each unit"
	switch b.Kind {
	case "external":
		how = "one account that all units share: whoever reads it from one unit can speak for all"
	case "managed":
		how = "an account of its own for each unit, kept by Fado on that broker"
	}
	w := wire.Broker{ID: b.ID, Name: b.Name, Kind: b.Kind, Host: b.Host, Port: b.Port, TLS: b.TLS, Accounts: how, Certificates: b.Certificates, Link: s.brokerLink()}
	if b.Certificates {
		w.Accounts += ", and a certificate"
	}
	_, err := store.One[store.Authority](s.Store.Read(ctx), "broker_id = ?", b.ID)
	w.Authority = err == nil
	return w
}

func (s *server) brokerLink() *wire.BrokerLink {
	l := s.Link()
	if l.At.IsZero() {
		return nil // it was not looked at yet
	}
	w := &wire.BrokerLink{Connected: l.Connected, Since: l.Since, RoundTripMS: float64(l.RoundTrip.Microseconds()) / 1000, At: &l.At}
	if c := l.Certificate; c != nil {
		w.Certificate = &wire.Shown{Names: c.Names, From: c.From, Until: c.Until, Trouble: c.Trouble}
	}
	if p := l.Trouble(time.Now()); p != nil {
		w.Trouble, w.Cause, w.Next = p.What, p.Cause, p.Next
	}
	return w
}

func (s *server) certificate(ctx context.Context, c store.Certificate) wire.Certificate {
	w := wire.Certificate{Serial: c.Serial, Kind: c.Kind, Account: c.Account, Names: c.Names, PEM: c.PEM, From: c.From, Until: c.Until, RenewAt: engine.Renewal(c), SeenAt: c.SeenAt, RevokedAt: c.RevokedAt, Reason: c.Reason}
	tx := s.Store.Read(ctx)
	if b, err := store.One[store.Broker](tx, "id = ?", c.BrokerID); err == nil {
		w.Broker = b.Name
	}
	if d, err := store.One[store.Device](tx, "id = ?", c.DeviceID); err == nil {
		w.Device = d.Name
	}
	return w
}

func (s *server) authority(ctx context.Context, a store.Authority, b store.Broker) (wire.Authority, error) {
	w := wire.Authority{Broker: b.Name, Certificate: a.Certificate, CreatedAt: a.CreatedAt}
	c, err := authority.Parse(a.Certificate)
	if err != nil {
		return w, err
	}
	w.Until = c.NotAfter.UTC()
	list, err := s.Certificates(ctx, b.ID, "")
	for _, c := range list {
		switch {
		case c.RevokedAt != nil:
			w.Revoked++
		case time.Now().After(c.Until):
		default:
			w.Counting++
			if time.Now().After(engine.Renewal(c)) {
				w.Due++
			}
		}
	}
	return w, err
}

type certificateQuery struct {
	Broker string `query:"broker" doc:"Only those of this broker"`
	Device string `query:"device" doc:"Only those of this device"`
}

func (s *server) brokerRoutes(api huma.API) {
	handle(s, api, "GET", "/brokers", "list-brokers", "List the brokers", 200, func(ctx context.Context, _ *none) (*reply[[]wire.Broker], error) {
		list, err := store.All[store.Broker](s.Store.Read(ctx), "name", "1 = 1")
		out := []wire.Broker{}
		for _, b := range list {
			out = append(out, s.broker(ctx, b))
		}
		return &reply[[]wire.Broker]{out}, err
	})
	handle(s, api, "POST", "/brokers", "add-broker", "Add a broker", 201, func(ctx context.Context, in *withBody[wire.BrokerEdit]) (*reply[wire.Broker], error) {
		b, err := s.SaveBroker(ctx, actor(ctx), "", in.Body)
		return &reply[wire.Broker]{s.broker(ctx, b)}, err
	})
	handle(s, api, "PATCH", "/brokers/{id}", "edit-broker", "Change a broker", 200, func(ctx context.Context, in *pathBody[wire.BrokerEdit]) (*reply[wire.Broker], error) {
		b, err := s.SaveBroker(ctx, actor(ctx), in.ID, in.Body)
		return &reply[wire.Broker]{s.broker(ctx, b)}, err
	})
	handle(s, api, "GET", "/brokers/{id}", "show-broker", "A broker, by id or name, and how it stands", 200, func(ctx context.Context, in *path1) (*reply[wire.Broker], error) {
		b, err := s.FindBroker(ctx, in.ID)
		return &reply[wire.Broker]{s.broker(ctx, b)}, err
	})
	handle(s, api, "POST", "/brokers/{id}/authority", "make-authority", "Make the certification authority of a broker", 201, func(ctx context.Context, in *path1) (*reply[wire.Authority], error) {
		if _, err := s.MakeAuthority(ctx, actor(ctx), in.ID); err != nil {
			return nil, err
		}
		a, b, err := s.Authority(ctx, in.ID)
		if err != nil {
			return nil, err
		}
		w, err := s.authority(ctx, a, b)
		return &reply[wire.Authority]{w}, err
	})
	handle(s, api, "GET", "/brokers/{id}/authority", "show-authority", "The certification authority of a broker", 200, func(ctx context.Context, in *path1) (*reply[wire.Authority], error) {
		a, b, err := s.Authority(ctx, in.ID)
		if err != nil {
			return nil, err
		}
		w, err := s.authority(ctx, a, b)
		return &reply[wire.Authority]{w}, err
	})
	handle(s, api, "POST", "/brokers/{id}/authority/server", "sign-server", "Sign the certificate of a broker elsewhere", 201, func(ctx context.Context, in *pathBody[wire.CertificateRequest]) (*reply[wire.Certificate], error) {
		c, err := s.SignServer(ctx, actor(ctx), in.ID, in.Body.Request, in.Body.Names)
		return &reply[wire.Certificate]{s.certificate(ctx, c)}, err
	})
	handle(s, api, "GET", "/brokers/{id}/authority/revoked", "revocation-list", "The list of a broker's revoked certificates, signed now", 200, func(ctx context.Context, in *path1) (*reply[wire.RevocationList], error) {
		text, err := s.RevocationList(ctx, in.ID)
		return &reply[wire.RevocationList]{wire.RevocationList{List: text}}, err
	})
	handle(s, api, "GET", "/certificates", "list-certificates", "The certificates that authorities signed, newest first", 200, func(ctx context.Context, in *certificateQuery) (*reply[[]wire.Certificate], error) {
		list, err := s.Certificates(ctx, in.Broker, in.Device)
		out := []wire.Certificate{}
		for _, c := range list {
			out = append(out, s.certificate(ctx, c))
		}
		return &reply[[]wire.Certificate]{out}, err
	})
	handle(s, api, "POST", "/devices/{id}/certificate", "renew-certificate", "Make another certificate for a device's unit", 201, func(ctx context.Context, in *path1) (*reply[wire.Certificate], error) {
		c, err := s.RenewCertificate(ctx, actor(ctx), in.ID)
		return &reply[wire.Certificate]{s.certificate(ctx, c)}, err
	})
	handle(s, api, "POST", "/certificates/{id}/revoke", "revoke-certificate", "Revoke a certificate", 200, func(ctx context.Context, in *pathBody[wire.Revocation]) (*reply[wire.Certificate], error) {
		c, err := s.RevokeCertificate(ctx, actor(ctx), in.ID, in.Body.Reason)
		return &reply[wire.Certificate]{s.certificate(ctx, c)}, err
	})
}
