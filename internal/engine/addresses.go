package engine

import (
	"fmt"
	"net/netip"

	"fado/internal/core/problem"
	"fado/internal/core/settings"
	"fado/internal/store"
)

// addressInUse finds who has the fixed address that a device is to get: another
// device that is intended to have it or said that it has it, the broker or
// name server that it is told of, or the site, which reserves it or has another
// network. taken, when given, knows of addresses that are
// not in the records yet.
func (e *Engine) addressInUse(tx *store.Tx, d store.Device, v settings.Values, taken map[string]string) (problem.Fields, error) {
	ip, ok := v[settings.AddressIP].(string)
	if !ok || v[settings.AddressMode] != "fixed" {
		return nil, nil
	}
	site, err := findSite(tx, d.SiteID)
	if err != nil {
		return nil, err
	}
	holder := func(ip string) (string, error) {
		if span := settings.Within(ip, SplitList(site.Reserved)); span != "" {
			return "is reserved at " + site.Name + " (" + span + ")", nil
		}
		if site.Range != "" && settings.Within(ip, []string{site.Range}) == "" {
			return "lies outside " + site.Range + ", the network of " + site.Name, nil
		}
		if name := taken[ip]; name != "" {
			return "is the address of " + name + " in the same file", nil
		}
		for key, what := range map[settings.Key]string{settings.BrokerHost: "the broker", settings.AddressDNS: "the name server"} {
			if v[key] == ip {
				return "is the address of " + what, nil
			}
		}
		other, err := store.One[store.Device](tx, `site_id = ? AND id <> ? AND stage <> 'retired' AND id IN (SELECT scope_id FROM intendeds WHERE scope = 'device' AND key = ? AND value = ?)`,
			d.SiteID, d.ID, string(settings.AddressIP), store.JSON(ip))
		if err == nil {
			return "is the address of " + other.Name, nil
		}
		if !isNone(err) {
			return "", err
		}
		other, err = store.One[store.Device](tx, "site_id = ? AND id <> ? AND stage <> 'retired' AND address = ?", d.SiteID, d.ID, ip)
		if err == nil {
			return other.Name + " has it now", nil
		}
		if !isNone(err) {
			return "", err
		}
		return "", nil
	}
	rule, err := holder(ip)
	if rule == "" || err != nil {
		return nil, err
	}
	var f problem.Fields
	f.Add(string(settings.AddressIP), fmt.Sprintf("%s %s", ip, rule), free(v, ip, holder))
	return f, nil
}

// free is an address that would pass, next to one that does not; "" when none is
// near.
func free(v settings.Values, ip string, holder func(string) (string, error)) string {
	a, err := netip.ParseAddr(ip)
	bits, ok := v[settings.AddressPrefix].(int64)
	if err != nil || !ok {
		return ""
	}
	for next := a.Next(); next.IsValid(); next = next.Next() {
		try := settings.Values{settings.AddressMode: "fixed", settings.AddressIP: next.String(), settings.AddressPrefix: bits, settings.AddressGateway: v[settings.AddressGateway]}
		if len(settings.Check(try)) > 0 {
			return ""
		}
		if rule, err := holder(next.String()); rule == "" && err == nil {
			return next.String()
		}
	}
	return ""
}
