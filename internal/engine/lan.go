package engine

import (
	"cmp"
	"context"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"fado/internal/broker"
	"fado/internal/core/dialect"
	"fado/internal/core/inventory"
	"fado/internal/core/problem"
	"fado/internal/reach"
	"fado/internal/store"
	"fado/internal/wire"
)

// How often the homes' networks are asked for units, and how long one that does
// not answer any more, or was overheard on the broker, counts as there.
const (
	findEvery = time.Minute
	lanGone   = 5 * time.Minute
	heardGone = time.Hour
)

func (e *Engine) findLoop(ctx context.Context) {
	for e.Clock.Sleep(ctx, findEvery) == nil {
		_ = e.FindAll(ctx) // each network's fault is in the log
	}
}

// asking is how many networks are asked at once.
const asking = 8

// FindAll asks the network of every site that has a way to be asked. It fails when
// there is none, or when none answers.
func (e *Engine) FindAll(ctx context.Context) error {
	sites, err := store.All[store.Site](e.Store.Read(ctx), "key", "1 = 1")
	if err != nil {
		return fmt.Errorf("list the sites: %w", err)
	}
	sites = slices.DeleteFunc(sites, func(s store.Site) bool {
		_, ok := e.finder(s)
		return !ok
	})
	if len(sites) == 0 {
		return problem.New(problem.Unavailable, "No home's network can be asked for units.", "No site has a name server on record, and this service asks nobody on its own link.",
			"Name one with «fado site edit SITE --name-server ADDRESS --domain NAME», or switch «lan.multicast» on.")
	}
	faults := make([]error, len(sites))
	places := make(chan struct{}, asking)
	var work sync.WaitGroup
	for i, s := range sites {
		places <- struct{}{}
		work.Go(func() {
			defer func() { <-places }()
			if faults[i] = e.find(ctx, s); faults[i] != nil && ctx.Err() == nil {
				e.Log.Debug("ask a home's network for units", "site", s.Key, "error", faults[i])
			}
		})
	}
	work.Wait()
	if slices.Contains(faults, nil) {
		return nil
	}
	return problem.New(problem.Unavailable, fmt.Sprintf("No home's network answered: %s.", reason(faults[0])), "The name server's address is wrong, or it cannot be reached from here.",
		"Correct it with «fado site edit», or see that the way there is open.").Because(faults[0])
}

// finder is the way to ask a site's network for units: its name server, or else,
// where this service stands in it, everybody on the link.
func (e *Engine) finder(s store.Site) (reach.Finder, bool) {
	switch {
	case s.NameServer != "" && s.Domain != "":
		return reach.NameServer{Net: e.net, At: s.NameServer, Domain: s.Domain}, true
	case e.multicast != nil && s.Reach == "on premises" && s.Proxy == "":
		return *e.multicast, true
	}
	return nil, false
}

// finds is when each network was asked last. Whoever waited while theirs was asked
// takes that answer, when it was asked after they wanted one.
type finds struct {
	mu    sync.Mutex
	sites map[string]*asked
}

type asked struct {
	mu sync.Mutex
	at time.Time
}

func (f *finds) of(site string) *asked {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.sites == nil {
		f.sites = map[string]*asked{}
	}
	if f.sites[site] == nil {
		f.sites[site] = &asked{}
	}
	return f.sites[site]
}

// find asks a site's network for units and keeps what answers as sightings.
func (e *Engine) find(ctx context.Context, site store.Site) error {
	f, ok := e.finder(site)
	if !ok {
		return nil
	}
	wanted, last := e.Clock.Now(), e.finds.of(site.ID)
	last.mu.Lock()
	defer last.mu.Unlock()
	if last.at.After(wanted) {
		return nil
	}
	last.at = e.Clock.Now()
	var services []string
	for _, d := range e.Dialects() {
		if d.Announces != nil && !slices.Contains(services, d.Announces.Service) {
			services = append(services, d.Announces.Service)
		}
	}
	if len(services) == 0 {
		return nil
	}
	list, err := f.Browse(ctx, services)
	if err != nil {
		return fmt.Errorf("ask the network of %s for units: %w", site.Name, err)
	}
	type answer struct {
		s     store.Sighting
		count int
	}
	answers := map[string]*answer{} // by dialect and digits
	for _, x := range list {
		for _, d := range e.Dialects() {
			digits, facts, ok := d.MatchAnnouncement(x.Instance, x.TXT)
			if !ok || d.Announces.Service != x.Service {
				continue
			}
			s := store.Sighting{ID: "lan/" + site.Key + "/" + d.Name + "/" + digits, Source: "lan", Name: x.Instance, SiteID: site.ID, Dialect: d.Name, Digits: digits, Version: facts.Text("version")}
			if x.Address.IsValid() {
				s.Address = x.Address.String()
			}
			if h, err := inventory.ParseHardwareID(digits); err == nil {
				s.HardwareID = string(h)
			}
			if a := answers[s.ID]; a != nil && a.s.Address != s.Address {
				a.count++
			} else if a == nil {
				answers[s.ID] = &answer{s, 1}
			}
			break
		}
	}
	return e.Store.Write(ctx, func(tx *store.Tx) error {
		for _, a := range answers {
			a.s.Twice = a.count > 1
			if err := e.keepSighting(tx, a.s); err != nil {
				return err
			}
		}
		return e.forgetSightings(tx, "source = 'lan' AND site_id = ? AND last_seen < ?", site.ID, e.Clock.Now().Add(-lanGone))
	})
}

// keepSighting keeps a sighting in a home's network, on the broker or by hand, and
// matches it to a device.
func (e *Engine) keepSighting(tx *store.Tx, s store.Sighting) error {
	now := e.Clock.Now()
	old, err := store.One[store.Sighting](tx, "id = ?", s.ID)
	fresh := isNone(err)
	if err != nil && !fresh {
		return err
	}
	s.FirstSeen, s.LastSeen, s.Ignored = now, now, old.Ignored
	if !fresh {
		s.FirstSeen = old.FirstSeen
	}
	s.DeviceID = e.ownerOf(tx, s.Digits, s.SiteID)
	if err := store.Save(tx, &s); err != nil {
		return err
	}
	if fresh || old.Gone || old.DeviceID != s.DeviceID || old.Address != s.Address || old.Twice != s.Twice {
		e.mark(tx, "sighting", s.ID)
	}
	say := func(format string, args ...any) error {
		return e.event(tx, store.Event{Actor: s.Source, SiteID: s.SiteID, DeviceID: s.DeviceID, Kind: "sighting", Text: fmt.Sprintf(format, args...)})
	}
	if s.Twice && !old.Twice {
		if err := say("Two units in the network say that they are %s.", cmp.Or(s.HardwareID, s.Name)); err != nil {
			return err
		}
	}
	if s.DeviceID == "" {
		if fresh {
			return say("A unit that matches no device was seen: %s.", seenAs(s))
		}
		return nil
	}
	d, err := store.One[store.Device](tx, "id = ?", s.DeviceID)
	if err != nil {
		return err
	}
	if s.Address == "" || s.Twice || s.Address == d.Address || !inventory.Stage(d.Stage).AtLeast(inventory.Contacted) {
		return nil
	}
	// It is a hint: every conversation there begins with who it is.
	if _, err := store.Change[store.Device](tx, map[string]any{"address": s.Address}, "id = ?", d.ID); err != nil {
		return err
	}
	e.mark(tx, "device", d.ID)
	if d.Address == "" {
		return nil
	}
	return say("%s has moved from %s to %s.", d.Name, d.Address, s.Address)
}

func seenAs(s store.Sighting) string {
	what := cmp.Or(s.HardwareID, s.Name)
	switch {
	case s.Source == "broker":
		return fmt.Sprintf("%s speaks under «%s»", what, s.Name)
	case s.Address != "":
		return fmt.Sprintf("%s at %s", what, s.Address)
	}
	return what
}

func (e *Engine) forgetSightings(tx *store.Tx, where string, args ...any) error {
	list, err := store.All[store.Sighting](tx, "id", "gone = 0 AND ("+where+")", args...)
	if err != nil {
		return err
	}
	for _, s := range list {
		if _, err := store.Change[store.Sighting](tx, map[string]any{"gone": true}, "id = ?", s.ID); err != nil {
			return err
		}
		e.mark(tx, "sighting", s.ID)
	}
	return nil
}

// SeeByHand keeps a sighting of a unit that a person has in front of them.
func (e *Engine) SeeByHand(ctx context.Context, actor string, in wire.SeenByHand) (store.Sighting, error) {
	s := store.Sighting{Source: "hand", Dialect: in.Dialect, Name: "seen by " + actor}
	var f problem.Fields
	h, err := inventory.ParseHardwareID(in.HardwareID)
	if err != nil {
		f.Add("hardware_id", err.Error(), "02:5A:11:00:00:07")
	}
	s.HardwareID, s.Digits, s.ID = string(h), h.Digits(), "hand/"+h.Digits()
	if _, ok := e.Dialect(in.Dialect); !ok {
		names := []string{}
		for _, d := range e.Dialects() {
			names = append(names, d.Name)
		}
		f.Add("dialect", fmt.Sprintf("there is no dialect %q; there are %s", in.Dialect, strings.Join(names, ", ")), nearestOf(in.Dialect, names))
	}
	if in.Address != "" {
		a, err := netip.ParseAddr(in.Address)
		if err != nil || !a.IsPrivate() {
			f.Add("address", "an address in the home's network", "192.168.40.23")
		} else if in.Site == "" {
			f.Add("site", "an address belongs to a site", "")
		}
		s.Address = in.Address
	}
	if in.Site != "" {
		site, err := e.FindSite(ctx, in.Site)
		if err != nil {
			return s, err
		}
		s.SiteID = site.ID
	}
	if err := f.Err("The unit was not noted."); err != nil {
		return s, err
	}
	err = e.Store.Write(ctx, func(tx *store.Tx) error {
		if err := e.keepSighting(tx, s); err != nil {
			return err
		}
		s, err = store.One[store.Sighting](tx, "id = ?", s.ID)
		return err
	})
	return s, err
}

// overhear looks at a message on a topic that is no device's: a unit may speak
// there under a topic that nobody intended.
func (in *ingest) overhear(m broker.Message) {
	if len(m.Payload) == 0 || len(m.Payload) > dialect.MaxReply || m.Replayed || m.From == "inline" {
		return
	}
	for _, d := range in.e.Dialects() {
		base, facts, ok := d.Overhear(m.Topic, m.Payload)
		if !ok {
			continue
		}
		h, err := inventory.ParseHardwareID(facts.Text("hardware_id"))
		if err != nil || len(in.unknown) >= 1000 {
			continue
		}
		s := store.Sighting{ID: "broker/" + base, Source: "broker", Name: base, Dialect: d.Name, Digits: h.Digits(), HardwareID: string(h), Version: facts.Text("version")}
		if a, err := netip.ParseAddr(facts.Text("address")); err == nil && a.IsPrivate() {
			s.Address = a.String()
		}
		in.unknown[s.ID] = s
		return
	}
}

// nameServer completes the address of a site's DNS server with its usual port.
func nameServer(s string) (string, bool) {
	if s == "" {
		return "", true
	}
	if _, _, err := net.SplitHostPort(s); err != nil {
		s = net.JoinHostPort(s, "53")
	}
	host, port, err := net.SplitHostPort(s)
	if err != nil {
		return s, false
	}
	n, err := strconv.Atoi(port)
	return s, err == nil && n > 0 && n < 1<<16 && host != "" && !strings.ContainsAny(host, "/ ")
}
