package engine

import (
	"context"
	"fmt"
	"net/netip"
	"net/url"
	"regexp"
	"strings"
	"time"

	"fado/internal/core/inventory"
	"fado/internal/core/naming"
	"fado/internal/core/problem"
	"fado/internal/core/secret"
	"fado/internal/core/settings"
	"fado/internal/store"
	"fado/internal/wire"
)

var siteKey = regexp.MustCompile(`^[a-z][a-z0-9-]{0,31}$`)

// SaveSite creates a site (ref "") or changes one. All or nothing.
func (e *Engine) SaveSite(ctx context.Context, actor, ref string, ifVersion int64, edit wire.SiteEdit) (store.Site, error) {
	var s store.Site
	err := e.Store.Write(ctx, func(tx *store.Tx) error {
		s = store.Site{ID: store.NewID(), Reach: "on premises", SchemeHostname: naming.Default.Hostname, SchemeTopic: naming.Default.Topic, SchemeLabel: naming.Default.Label, LeastBattery: 40}
		if ref != "" {
			var err error
			if s, err = findSite(tx, ref); err != nil {
				return err
			}
			if ifVersion != 0 && ifVersion != s.Version {
				return stale("site", s.Name)
			}
		}
		was := s
		var f problem.Fields
		if edit.Key != nil {
			s.Key = *edit.Key
		}
		if !siteKey.MatchString(s.Key) {
			f.Add("key", "lower-case letters, digits and hyphens, starting with a letter, at most 32", keyFrom(edit))
		} else if other, err := store.One[store.Site](tx, "key = ? AND id <> ?", s.Key, s.ID); err == nil {
			f.Add("key", fmt.Sprintf("is taken by %s", other.Name), s.Key+"-2")
		}
		if ref != "" && edit.Key != nil && was.Key != s.Key {
			if n, _ := store.Count[store.Device](tx, "site_id = ?", s.ID); n > 0 {
				f.Add("key", "cannot be changed once the site has devices: it is part of their topics", was.Key)
			}
		}
		if edit.Name != nil {
			s.Name = strings.TrimSpace(*edit.Name)
		}
		if rule, passes := naming.CheckLabel(s.Name); rule != "" {
			f.Add("name", rule, passes)
		}
		if edit.Zone != nil {
			s.Zone = *edit.Zone
		}
		if spec, _ := settings.Lookup(settings.ClockZone); spec.Rule != nil {
			if rule, passes := spec.Rule(s.Zone); rule != "" {
				f.Add("zone", rule, passes)
			}
		}
		if edit.Reach != nil {
			s.Reach = *edit.Reach
		}
		if edit.Scheme != nil {
			s.SchemeHostname, s.SchemeTopic, s.SchemeLabel = edit.Scheme.Hostname, edit.Scheme.Topic, edit.Scheme.Label
			if p := problem.As(edit.Scheme.Check()); p != nil {
				for _, x := range p.Fields {
					f.Add("scheme."+x.Field, x.Rule, x.Passes)
				}
			}
		}
		if edit.DownloadAddress != nil && *edit.DownloadAddress != s.DownloadAddress {
			s.DownloadAddress, s.DownloadProven, s.DownloadProof = strings.TrimRight(*edit.DownloadAddress, "/"), nil, ""
			if u, err := url.Parse(s.DownloadAddress); s.DownloadAddress != "" && (err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" || u.RawQuery != "") {
				f.Add("download_address", "a base URL under which the units reach this service", "http://192.168.40.2:8420")
			}
		}
		if edit.Proxy != nil {
			s.Proxy = strings.TrimRight(*edit.Proxy, "/")
			if u, err := url.Parse(s.Proxy); s.Proxy != "" && (err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" || u.Path != "") {
				f.Add("proxy", "the base URL of an HTTP proxy", "http://10.8.0.4:3128")
			}
		}
		if edit.DownloadKiB != nil {
			if s.DownloadKiB = *edit.DownloadKiB; s.DownloadKiB != 0 && (s.DownloadKiB < leastPace || s.DownloadKiB > mostPace) {
				f.Add("download_kib", fmt.Sprintf("KiB a second, from %d to %d, or 0 for no limit", leastPace, mostPace), "256")
			}
		}
		siteNetwork(&s, edit, &f)
		for field, set := range map[string]struct{ to, from *bool }{
			"allow_unsigned": {&s.AllowUnsigned, edit.AllowUnsigned}, "allow_downgrade": {&s.AllowDowngrade, edit.AllowDowngrade}, "allow_risky": {&s.AllowRisky, edit.AllowRisky}, "baseline": {&s.Baseline, edit.Baseline}} {
			if set.from != nil && field != "" {
				*set.to = *set.from
			}
		}
		if err := e.siteParts(tx, &s, was, edit, &f); err != nil {
			return err
		}
		if len(f) > 0 {
			return f.Err("The site was not saved.")
		}
		s.Version++
		if err := store.Save(tx, &s); err != nil {
			return err
		}
		if _, err := store.NextRevision(tx, e.Clock.Now(), actor, "site "+s.Key); err != nil {
			return err
		}
		if ref != "" {
			if err := e.refreshSite(tx, s.ID); err != nil {
				return err
			}
			if err := e.changeHub(tx, s.ID, was.HubID, s.HubID); err != nil {
				return err
			}
			if s.Name != was.Name { // which stands in the things
				if err := e.enqueueThings(tx, "site_id = ?", s.ID); err != nil {
					return err
				}
			}
		}
		e.mark(tx, "site", s.ID)
		verb := "changed"
		if ref == "" {
			verb = "added"
		}
		text := fmt.Sprintf("The site %s was %s.", s.Name, verb)
		if s.AllowRisky && !was.AllowRisky {
			text += " It consents to ways of updating that can kill an interrupted unit."
		}
		return e.event(tx, store.Event{Actor: actor, SiteID: s.ID, Kind: "site", Text: text})
	})
	if err == nil {
		e.downloads.limit(s.ID, s.DownloadKiB)
	}
	return s, err
}

func keyFrom(edit wire.SiteEdit) string {
	if edit.Name != nil {
		if k := naming.Fold(*edit.Name); siteKey.MatchString(k) {
			return k
		}
	}
	return "lagar"
}

// siteNetwork takes in what is known of a site's network.
func siteNetwork(s *store.Site, edit wire.SiteEdit, f *problem.Fields) {
	if edit.NameServer != nil {
		at, ok := nameServer(*edit.NameServer)
		if s.NameServer = at; !ok {
			f.Add("name_server", "host, or host:port, of the DNS server in the site's network", "192.168.40.1")
		}
	}
	if edit.Domain != nil {
		s.Domain = strings.Trim(*edit.Domain, ".")
		for _, label := range strings.Split(s.Domain, ".") {
			if rule, _ := naming.CheckHostname(label); s.Domain != "" && rule != "" {
				f.Add("domain", "a domain name: "+rule, "lagar.home.arpa")
				break
			}
		}
	}
	if edit.Range != nil {
		s.Range = *edit.Range
		if p, err := netip.ParsePrefix(s.Range); s.Range != "" && (err != nil || !p.Addr().Is4() || p != p.Masked()) {
			f.Add("range", "a network as CIDR writes it, with no bits behind its prefix", "192.168.40.0/24")
		}
	}
	if edit.Reserved != nil {
		s.Reserved = strings.Join(*edit.Reserved, ",")
		for _, r := range *edit.Reserved {
			if _, _, ok := settings.Span(r); !ok {
				f.Add("reserved", fmt.Sprintf("%q is no address, no range and no network", r), "192.168.40.1-192.168.40.19")
			}
		}
	}
	if (s.NameServer == "") != (s.Domain == "") {
		f.Add("domain", "a name server and the domain that it is asked for come together", "lagar.home.arpa")
	}
}

// siteParts links a site with its network, broker and hub.
func (e *Engine) siteParts(tx *store.Tx, s *store.Site, was store.Site, edit wire.SiteEdit, f *problem.Fields) error {
	if edit.Network != nil {
		n, err := store.One[store.Network](tx, "site_id = ? AND (id = ? OR ssid = ?)", s.ID, *edit.Network, *edit.Network)
		if isNone(err) {
			f.Add("network", fmt.Sprintf("the site has no network %q", *edit.Network), "")
		} else if err != nil {
			return err
		} else {
			s.NetworkID = &n.ID
		}
	}
	if edit.Hub != nil && *edit.Hub == "" {
		s.HubID = nil
	} else if edit.Hub != nil {
		h, err := store.One[store.Hub](tx, "id = ? OR name = ?", *edit.Hub, *edit.Hub)
		if isNone(err) {
			f.Add("hub", fmt.Sprintf("there is no hub %q", *edit.Hub), "")
		} else if err != nil {
			return err
		} else {
			s.HubID = &h.ID
		}
	}
	if edit.Broker == nil {
		return nil
	}
	b, err := store.One[store.Broker](tx, "id = ? OR name = ?", *edit.Broker, *edit.Broker)
	if isNone(err) {
		f.Add("broker", fmt.Sprintf("there is no broker %q", *edit.Broker), "embedded")
		return nil
	}
	if err != nil {
		return err
	}
	if was.BrokerID != nil && *was.BrokerID == b.ID {
		return nil
	}
	if n, err := store.Count[store.Device](tx, "site_id = ? AND stage <> ?", s.ID, string(inventory.Listed)); err != nil || n > 0 {
		f.Add("broker", fmt.Sprintf("%d devices of the site are in service on the old one", n), "")
		return err
	}
	s.BrokerID = &b.ID
	_, err = store.Change[store.Device](tx, map[string]any{"broker_id": b.ID}, "site_id = ?", s.ID)
	if store.Taken(err) {
		f.Add("broker", "a topic of this site is in use on that broker", "")
		return nil
	}
	return err
}

func (e *Engine) refreshSite(tx *store.Tx, siteID string) error {
	list, err := store.All[store.Device](tx, "id", "site_id = ?", siteID)
	if err != nil {
		return err
	}
	for _, d := range list {
		if err := e.refresh(tx, d.ID); err != nil {
			return err
		}
	}
	return nil
}

// ProveDownload proves a site's download address: this service answers there,
// and a person confirms that units reach it from their network.
func (e *Engine) ProveDownload(ctx context.Context, actor, ref string) (store.Site, error) {
	s, err := e.FindSite(ctx, ref)
	if err != nil {
		return s, err
	}
	if s.DownloadAddress == "" {
		return s, problem.New(problem.Conflict, s.Name+" has no download address.", "It was not set.", "Set it with «fado site edit "+s.Key+" --download-address URL».")
	}
	if err := e.proveAddress(ctx, s.DownloadAddress); err != nil {
		return s, problem.New(problem.Conflict, fmt.Sprintf("This service does not answer at %s: %s.", s.DownloadAddress, reason(err)), "Address or port are wrong, or a firewall is between.", "Correct the address, then prove it again.").Because(err)
	}
	at := e.Clock.Now()
	s.DownloadProven, s.DownloadProof = &at, fmt.Sprintf("answers, and confirmed by %s", actor)
	return s, e.Store.Write(ctx, func(tx *store.Tx) error {
		if _, err := store.Change[store.Site](tx, map[string]any{"download_proven": at, "download_proof": s.DownloadProof}, "id = ?", s.ID); err != nil {
			return err
		}
		e.mark(tx, "site", s.ID)
		return e.event(tx, store.Event{Actor: actor, SiteID: s.ID, Kind: "site", Text: fmt.Sprintf("The download address %s %s.", s.DownloadAddress, s.DownloadProof)})
	})
}

// AddRoom adds a room to a site.
func (e *Engine) AddRoom(ctx context.Context, actor, siteRef, name string) (store.Room, error) {
	var r store.Room
	return r, e.Store.Write(ctx, func(tx *store.Tx) error {
		s, err := findSite(tx, siteRef)
		if err != nil {
			return err
		}
		r = store.Room{ID: store.NewID(), SiteID: s.ID, Name: strings.TrimSpace(name)}
		var f problem.Fields
		if rule, passes := naming.CheckLabel(r.Name); rule != "" {
			f.Add("name", rule, passes)
		} else if _, err := store.One[store.Room](tx, "site_id = ? AND name = ?", s.ID, r.Name); err == nil {
			f.Add("name", "the site has a room of that name", r.Name+" 2")
		}
		if err := f.Err("The room was not added."); err != nil {
			return err
		}
		if err := store.Create(tx, &r); err != nil {
			return err
		}
		e.mark(tx, "site", s.ID)
		return e.event(tx, store.Event{Actor: actor, SiteID: s.ID, Kind: "site", Text: fmt.Sprintf("The room %s was added to %s.", r.Name, s.Name)})
	})
}

// SaveNetwork creates a Wi-Fi network at a site (id "") or changes one. The
// first network of a site becomes the one for its units.
func (e *Engine) SaveNetwork(ctx context.Context, actor, siteRef, id string, edit wire.NetworkEdit) (store.Network, error) {
	var n store.Network
	return n, e.Store.Write(ctx, func(tx *store.Tx) error {
		n = store.Network{ID: store.NewID()}
		if id != "" {
			var err error
			if n, err = store.One[store.Network](tx, "id = ?", id); err != nil {
				return notFound("network", id)
			}
			siteRef = n.SiteID
		}
		s, err := findSite(tx, siteRef)
		if err != nil {
			return err
		}
		n.SiteID = s.ID
		if edit.SSID != nil {
			n.SSID = *edit.SSID
		}
		check := settings.Values{settings.WifiSSID: n.SSID}
		if edit.Passphrase != nil {
			pass := secret.New(*edit.Passphrase)
			if !pass.IsZero() {
				check[settings.WifiPassphrase] = pass
			}
			n.Passphrase = e.seal("network", n.ID, pass)
		}
		f := settings.Check(check)
		for i := range f {
			f[i].Field = strings.TrimPrefix(f[i].Field, "wifi.")
		}
		if other, err := store.One[store.Network](tx, "site_id = ? AND ssid = ? AND id <> ?", s.ID, n.SSID, n.ID); err == nil {
			f.Add("ssid", "the site has this network already", other.SSID+"-2")
		}
		if err := f.Err("The network was not saved."); err != nil {
			return err
		}
		n.Version++
		if err := store.Save(tx, &n); err != nil {
			return err
		}
		if _, err := store.NextRevision(tx, e.Clock.Now(), actor, "network "+n.SSID); err != nil {
			return err
		}
		if s.NetworkID == nil {
			if _, err := store.Change[store.Site](tx, map[string]any{"network_id": n.ID}, "id = ?", s.ID); err != nil {
				return err
			}
		}
		if err := e.refreshSite(tx, s.ID); err != nil {
			return err
		}
		e.mark(tx, "site", s.ID)
		what := "The Wi-Fi network " + n.SSID + " was saved."
		if edit.Passphrase != nil {
			what = "The Wi-Fi network " + n.SSID + " was saved with a new passphrase."
		}
		return e.event(tx, store.Event{Actor: actor, SiteID: s.ID, Kind: "site", Text: what})
	})
}

// SaveBroker creates a broker (id "") or changes one.
func (e *Engine) SaveBroker(ctx context.Context, actor, id string, edit wire.BrokerEdit) (store.Broker, error) {
	var b store.Broker
	err := e.Store.Write(ctx, func(tx *store.Tx) error {
		b = store.Broker{ID: store.NewID(), Kind: e.brokerKind(), Port: 1883}
		if id != "" {
			var err error
			if b, err = store.One[store.Broker](tx, "id = ? OR name = ?", id, id); err != nil {
				return notFound("broker", id)
			}
		}
		set(&b.Name, edit.Name)
		set(&b.Kind, edit.Kind)
		set(&b.Host, edit.Host)
		set(&b.Port, edit.Port)
		set(&b.TLS, edit.TLS)
		set(&b.CA, edit.CA)
		set(&b.User, edit.User)
		set(&b.Certificates, edit.Certificates)
		if edit.Password != nil {
			b.Password = e.seal("broker", b.ID, secret.New(*edit.Password))
		}
		values := settings.Values{settings.BrokerHost: b.Host, settings.BrokerPort: int64(b.Port)}
		if b.CA != "" {
			values[settings.BrokerCA] = b.CA
		}
		if b.Kind == external {
			values[settings.BrokerUser] = b.User
		}
		f := settings.Check(values)
		for i := range f {
			f[i].Field = strings.TrimPrefix(f[i].Field, "broker.")
		}
		if rule, passes := naming.CheckLabel(b.Name); rule != "" {
			f.Add("name", rule, passes)
		} else if _, err := store.One[store.Broker](tx, "name = ? AND id <> ?", b.Name, b.ID); err == nil {
			f.Add("name", "is taken", b.Name+" 2")
		}
		if b.Kind != e.brokerKind() {
			f.Add("kind", "this service runs with another kind of broker; see «broker» in its configuration", e.brokerKind())
		}
		if err := f.Err("The broker was not saved."); err != nil {
			return err
		}
		if e.ownTLS && b.TLS && b.CA == "" {
			a, err := e.makeAuthority(tx, b)
			if err != nil {
				return err
			}
			b.CA = a.Certificate
		}
		if _, err := store.One[store.Authority](tx, "broker_id = ?", b.ID); b.Certificates && (err != nil || !b.TLS) {
			f.Add("certificates", "units show certificates over TLS only, and those are made by the broker's authority", "fado ca make "+b.Name)
			return f.Err("The broker was not saved.")
		}
		b.Version++
		if id != "" {
			if err := e.enqueueThings(tx, "broker_id = ?", b.ID); err != nil { // its address stands in the things
				return err
			}
		}
		if err := store.Save(tx, &b); err != nil {
			return err
		}
		if _, err := store.NextRevision(tx, e.Clock.Now(), actor, "broker "+b.Name); err != nil {
			return err
		}
		if b.Certificates {
			accounts, err := store.All[store.Account](tx, "name", "kind = 'unit' AND revoked_at IS NULL AND device_id IN (SELECT id FROM devices WHERE broker_id = ?)", b.ID)
			if err != nil {
				return err
			}
			for _, a := range accounts {
				if err := e.certify(tx, b, a, false); err != nil {
					return err
				}
			}
		}
		return e.event(tx, store.Event{Actor: actor, Kind: "broker", Text: fmt.Sprintf("The broker %s at %s:%d was saved.", b.Name, b.Host, b.Port)})
	})
	if err == nil {
		err = e.loadTrust()
	}
	return b, err
}

func set[T any](to, from *T) {
	if from != nil {
		*to = *from
	}
}

// SaveHub creates a hub (id "") or changes one, with its account on the
// embedded broker.
func (e *Engine) SaveHub(ctx context.Context, actor, id string, edit wire.HubEdit) (store.Hub, error) {
	var h store.Hub
	err := e.Store.Write(ctx, func(tx *store.Tx) error {
		h = store.Hub{ID: store.NewID()}
		if id != "" {
			var err error
			if h, err = store.One[store.Hub](tx, "id = ? OR name = ?", id, id); err != nil {
				return notFound("hub", id)
			}
		}
		old, was, before := h.Account, h.Directory, h
		set(&h.Name, edit.Name)
		set(&h.Directory, edit.Directory)
		set(&h.Account, edit.Account)
		set(&h.Notice, edit.Notice)
		if edit.Token != nil {
			h.Token = e.seal("hub", h.ID, secret.New(*edit.Token))
		}
		var f problem.Fields
		if rule, passes := naming.CheckLabel(h.Name); rule != "" {
			f.Add("name", rule, passes)
		} else if _, err := store.One[store.Hub](tx, "name = ? AND id <> ?", h.Name, h.ID); err == nil {
			f.Add("name", "is taken", h.Name+" 2")
		}
		if h.Notice != "" {
			e.checkNotice(tx, h, &f)
		} else if u, err := url.Parse(h.Directory); err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" {
			f.Add("directory", "the base URL of the hub's Thing directory", "http://192.168.40.3:8080")
		}
		if h.Account != "" {
			if rule, _ := naming.CheckHostname(h.Account); rule != "" || strings.HasPrefix(h.Account, "unit-") {
				f.Add("account", "lower-case letters, digits and hyphens, not starting with unit-", "hub-lagar")
			} else if a, err := store.One[store.Account](tx, "name = ?", h.Account); err == nil && a.HubID != h.ID {
				f.Add("account", "is taken", h.Account+"-2")
			}
		}
		if edit.Password != nil && len(*edit.Password) < 16 {
			f.Add("password", "at least 16 characters", "")
		}
		if e.ownAccounts() && h.Account != "" && h.Account != old && edit.Password == nil {
			f.Add("password", "a new account needs its password", "")
		}
		if err := f.Err("The hub was not saved."); err != nil {
			return err
		}
		h.Version++
		if err := store.Save(tx, &h); err != nil {
			return err
		}
		if id != "" && before.Notice != "" && before.Notice != h.Notice {
			if err := e.unpost(tx, h.ID); err != nil {
				return err
			}
		}
		if id != "" && (was != h.Directory || before.Notice != h.Notice) { // another directory, which holds nothing yet
			list, err := members(tx, h.ID)
			if err != nil {
				return err
			}
			for _, d := range list {
				if err := e.enqueueThing(tx, d); err != nil {
					return err
				}
			}
		}
		e.mark(tx, "hub", h.ID)
		if old != "" && old != h.Account {
			if _, err := store.Change[store.Account](tx, map[string]any{"revoked_at": e.Clock.Now()}, "name = ?", old); err != nil {
				return err
			}
		}
		if h.Account != "" && edit.Password != nil {
			a := store.Account{Name: h.Account, Kind: "hub", HubID: h.ID, Hash: e.Store.Hash(*edit.Password), Generation: 1}
			if e.managed != nil {
				a.Sealed = e.seal("account", a.Name, secret.New(*edit.Password))
			}
			if err := store.Save(tx, &a); err != nil {
				return err
			}
		}
		return e.event(tx, store.Event{Actor: actor, Kind: "hub", Text: fmt.Sprintf("The hub %s at %s was saved.", h.Name, h.Directory)})
	})
	if err == nil && edit.Password != nil && e.managed != nil {
		if e.setAccountPassword(ctx, h.Account, secret.New(*edit.Password)) != nil {
			e.accountsDue()
		}
	}
	if err == nil {
		err = e.loadAccounts()
	}
	return h, err
}

// Blink asks a unit to show itself.
func (e *Engine) Blink(ctx context.Context, actor, ref string) error {
	d, err := e.FindDevice(ctx, ref)
	if err != nil {
		return err
	}
	model, dl, err := e.speaker(d)
	if err != nil {
		return err
	}
	if dl.Asks.Blink == nil {
		return problem.New(problem.Conflict, fmt.Sprintf("A %s cannot be asked to blink.", model.Name), "Its dialect knows no such request.", "")
	}
	r, err := dl.Asks.Blink.Encode(map[string]any{"topic": d.TopicInUse(), "ask_id": fmt.Sprintf("blink-%d", time.Now().UnixNano())})
	if err != nil {
		return err
	}
	if err := e.bus.Publish(ctx, r.Topic, r.Body, false); err != nil {
		return problem.New(problem.Unavailable, "The request could not be sent.", "The broker is not connected.", "See that the broker runs, then try again.").Because(err)
	}
	return e.Record(ctx, store.Event{Actor: actor, SiteID: d.SiteID, DeviceID: d.ID, Kind: "device", Text: d.Name + " was asked to blink."})
}
