package sim

import (
	"net"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/miekg/dns"
)

// announcement is what a unit in a home's network says of itself by DNS-SD
// (RFC 6763).
type announcement struct {
	service, instance, host string
	txt                     []string
}

// answerNames serves the names of the homes as their routers would: DNS over TCP
// (RFC 7766), where units in a network are listed below the network's domain.
func (s *Site) answerNames(l net.Listener) {
	s.work.Go(func() {
		<-s.ctx.Done()
		_ = l.Close()
	})
	s.work.Go(func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			s.work.Go(func() {
				defer c.Close()
				_ = c.SetDeadline(time.Now().Add(10 * time.Second))
				conn := &dns.Conn{Conn: c}
				for {
					q, err := conn.ReadMsg()
					if err != nil {
						return
					}
					if conn.WriteMsg(s.nameReply(q)) != nil {
						return
					}
				}
			})
		}
	})
}

// zone is what the homes' names are, by lower-case owner. It is made anew when a unit
// came or went, and now and then: whoever asks for each of a thousand units does not
// have all of them speak each time.
type zone struct {
	stale atomic.Bool
	mu    sync.Mutex
	at    time.Time
	rows  map[string][]dns.RR
}

func (s *Site) zoneNow() map[string][]dns.RR {
	z := &s.listed
	z.mu.Lock()
	defer z.mu.Unlock()
	if !z.stale.Swap(false) && z.rows != nil && time.Since(z.at) < s.clock.Real(time.Second) {
		return z.rows
	}
	rows := map[string][]dns.RR{}
	put := func(rr dns.RR, owner string, t uint16) {
		*rr.Header() = dns.RR_Header{Name: owner, Rrtype: t, Class: dns.ClassINET, Ttl: 10}
		rows[strings.ToLower(owner)] = append(rows[strings.ToLower(owner)], rr)
	}
	for _, u := range s.all() {
		domain, address, a := u.named()
		if domain == "" {
			continue
		}
		tail := "." + dns.Fqdn(domain)
		host := a.host + tail
		ip := netip.MustParseAddr(address)
		put(&dns.A{A: net.IP(ip.AsSlice())}, host, dns.TypeA)
		if a.service == "" {
			continue
		}
		instance := strings.NewReplacer(`\`, `\\`, ".", `\.`, " ", `\ `).Replace(a.instance) + "." + a.service + tail
		put(&dns.PTR{Ptr: instance}, a.service+tail, dns.TypePTR)
		put(&dns.SRV{Target: host, Port: 80}, instance, dns.TypeSRV)
		put(&dns.TXT{Txt: slices.Clone(a.txt)}, instance, dns.TypeTXT)
	}
	z.at, z.rows = time.Now(), rows
	return rows
}

// nameReply answers one question.
func (s *Site) nameReply(q *dns.Msg) *dns.Msg {
	m := new(dns.Msg)
	m.SetReply(q)
	if len(q.Question) != 1 {
		m.Rcode = dns.RcodeFormatError
		return m
	}
	rows, known := s.zoneNow()[strings.ToLower(q.Question[0].Name)]
	for _, rr := range rows {
		if rr.Header().Rrtype == q.Question[0].Qtype {
			m.Answer = append(m.Answer, rr)
		}
	}
	if !known {
		m.Rcode = dns.RcodeNameError
	}
	return m
}

// named is where a unit is and what it says of itself; domain is "" when it is in
// no network.
func (u *unit) named() (domain, address string, a announcement) {
	u.mu.Lock()
	in := u.in
	address, a = u.address(), u.manner.announce()
	if a.host == "" {
		a.host = "unit-" + strings.ToLower(u.digits())
	}
	u.mu.Unlock()
	u.site.mu.Lock()
	defer u.site.mu.Unlock()
	for _, n := range u.site.networks {
		if n.SSID == in && in != "" {
			return n.Domain, address, a
		}
	}
	return "", "", a
}

func (d *direct) announce() announcement {
	return announcement{"_fado-unit._tcp", "fado-" + strings.ToLower(d.u.digits()), d.settings.Hostname, []string{"id=" + d.u.spec.HardwareID, "version=" + d.u.version()}}
}

func (a *andorinha) announce() announcement {
	digits := a.u.digits()
	return announcement{"_andorinha._tcp", "andorinha-" + digits[len(digits)-6:], a.kept["host"], []string{"build=" + a.u.version()}}
}

func (p *pardal) announce() announcement {
	digits := p.u.digits()
	return announcement{"_http._tcp", "Pardal " + digits[len(digits)-6:], text(p.kept["net"]["host"]), []string{"me=" + p.u.spec.HardwareID, "sw=" + p.u.version(), "path=/"}}
}

// A coruja keeps its radio off too often to be asked.
func (c *coruja) announce() announcement { return announcement{} }

func (m *described) announce() announcement { return announcement{} }
