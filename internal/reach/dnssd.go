package reach

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"strings"
	"time"

	"github.com/miekg/dns"
	"golang.org/x/net/ipv4"

	"fado/internal/carrier"
)

// Found is one instance of a service that DNS-SD names (RFC 6763).
type Found struct {
	Instance string // its own name, without service and domain
	Service  string // such as _http._tcp
	Host     string
	Address  netip.Addr // the first IPv4 address of the host; not valid when none was given
	Port     int
	TXT      []string
}

// Finder finds services and names on a network.
type Finder interface {
	// Browse lists the instances of some services.
	Browse(ctx context.Context, services []string) ([]Found, error)
	// Lookup gives the IPv4 addresses of a host by its bare name; none when nobody
	// knows it.
	Lookup(ctx context.Context, hostname string) ([]netip.Addr, error)
}

// ErrNoFinder says that a network cannot be asked.
var ErrNoFinder = errors.New("nobody answers questions about names")

// Multicast asks on the link (RFC 6762), over one interface or over all that
// can. It asks with IPv4.
type Multicast struct {
	Interface string
}

// group is where multicast questions go (RFC 6762, section 3).
var group = &net.UDPAddr{IP: net.IPv4(224, 0, 0, 251), Port: 5353}

// asked is when a multicast question is asked again, and when its answers are no
// longer waited for. It is a matter of the network and never scaled.
var asked = []time.Duration{0, time.Second, 3 * time.Second}

// Browse implements Finder.
func (m Multicast) Browse(ctx context.Context, services []string) ([]Found, error) {
	r := newRecords("local.")
	err := m.ask(ctx, func() []dns.Question { return r.questions(services) }, r.take, nil)
	return r.found(services), err
}

// Lookup implements Finder.
func (m Multicast) Lookup(ctx context.Context, hostname string) ([]netip.Addr, error) {
	r, name := newRecords("local."), hostname+".local."
	err := m.ask(ctx, func() []dns.Question { return []dns.Question{{Name: name, Qtype: dns.TypeA, Qclass: dns.ClassINET}} }, r.take,
		func() bool { return len(r.hosts[strings.ToLower(name)]) > 0 })
	return r.hosts[strings.ToLower(name)], err
}

// ask asks what there is to ask, takes the answers, and asks for what is still
// missing, until enough says so or the time is over.
func (m Multicast) ask(ctx context.Context, questions func() []dns.Question, take func(*dns.Msg), enough func() bool) error {
	over, err := m.interfaces()
	if err != nil {
		return err
	}
	conn, err := net.ListenMulticastUDP("udp4", &over[0], group)
	if err != nil {
		return fmt.Errorf("%w: %w", ErrNoFinder, err)
	}
	defer conn.Close()
	stop := context.AfterFunc(ctx, func() { _ = conn.Close() })
	defer stop()
	p := ipv4.NewPacketConn(conn)
	for _, i := range over[1:] {
		_ = p.JoinGroup(&i, group)
	}
	_ = p.SetMulticastTTL(255)
	_ = p.SetMulticastLoopback(true) // a unit may be simulated on this machine
	buf := make([]byte, 9000)        // the largest there is (RFC 6762, section 17)
	began := time.Now()
	for i, at := range asked {
		if i+1 < len(asked) {
			sent := 0
			for _, q := range questions() {
				msg := &dns.Msg{Question: []dns.Question{q}}
				b, err := msg.Pack()
				if err != nil {
					return fmt.Errorf("ask for %s: %w", q.Name, err)
				}
				for _, iface := range over {
					if err := p.SetMulticastInterface(&iface); err != nil {
						continue
					}
					if _, err := conn.WriteToUDP(b, group); err == nil {
						sent++
					}
				}
			}
			if sent == 0 {
				return fmt.Errorf("%w: no interface takes a multicast question", ErrNoFinder)
			}
			at = asked[i+1]
		}
		_ = conn.SetReadDeadline(began.Add(at))
		for {
			n, _, err := conn.ReadFromUDP(buf)
			if err != nil {
				break
			}
			msg := &dns.Msg{}
			if msg.Unpack(buf[:n]) == nil && msg.Response {
				take(msg)
			}
			if enough != nil && enough() {
				return nil
			}
		}
		if ctx.Err() != nil {
			return ctx.Err()
		}
	}
	return nil
}

// interfaces are those over which questions are asked.
func (m Multicast) interfaces() ([]net.Interface, error) {
	all, err := net.Interfaces()
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrNoFinder, err)
	}
	var over []net.Interface
	for _, i := range all {
		named := m.Interface == i.Name
		if i.Flags&net.FlagUp == 0 || i.Flags&net.FlagMulticast == 0 || m.Interface != "" && !named || m.Interface == "" && i.Flags&net.FlagLoopback != 0 {
			continue
		}
		over = append(over, i)
	}
	if len(over) == 0 {
		if m.Interface != "" {
			return nil, fmt.Errorf("%w: the interface %q is not up, or takes no multicast", ErrNoFinder, m.Interface)
		}
		return nil, fmt.Errorf("%w: no interface takes multicast", ErrNoFinder)
	}
	return over, nil
}

// NameServer asks a DNS server, such as the one in a home's router (RFC 6763,
// section 11). It asks over TCP, which every server has to answer (RFC 7766,
// section 5).
type NameServer struct {
	Net    carrier.Net
	At     string // host:port
	Domain string // such as lagar.home.arpa
}

// Browse implements Finder.
func (n NameServer) Browse(ctx context.Context, services []string) ([]Found, error) {
	r := newRecords(dns.Fqdn(n.Domain))
	// Instances, then where they are, then the addresses of those hosts.
	for range 3 {
		for _, q := range r.questions(services) {
			msg, err := n.ask(ctx, q)
			if err != nil {
				return nil, err
			}
			r.take(msg)
			r.done[q] = true
		}
	}
	return r.found(services), nil
}

// Lookup implements Finder.
func (n NameServer) Lookup(ctx context.Context, hostname string) ([]netip.Addr, error) {
	r, name := newRecords(dns.Fqdn(n.Domain)), hostname+"."+dns.Fqdn(n.Domain)
	msg, err := n.ask(ctx, dns.Question{Name: name, Qtype: dns.TypeA, Qclass: dns.ClassINET})
	if err != nil {
		return nil, err
	}
	r.take(msg)
	return r.hosts[strings.ToLower(name)], nil
}

func (n NameServer) ask(ctx context.Context, q dns.Question) (*dns.Msg, error) {
	raw, err := n.Net.Dial(ctx, "tcp", n.At)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrNoFinder, err)
	}
	defer raw.Close()
	_ = raw.SetDeadline(time.Now().Add(5 * time.Second))
	c := &dns.Conn{Conn: raw}
	msg := &dns.Msg{MsgHdr: dns.MsgHdr{Id: dns.Id(), RecursionDesired: true}, Question: []dns.Question{q}}
	if err := c.WriteMsg(msg); err != nil {
		return nil, fmt.Errorf("%w: %w", ErrNoFinder, err)
	}
	reply, err := c.ReadMsg()
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrNoFinder, err)
	}
	if reply.Id != msg.Id || reply.Rcode != dns.RcodeSuccess && reply.Rcode != dns.RcodeNameError {
		return nil, fmt.Errorf("%w: %s", ErrNoFinder, strings.ToLower(dns.RcodeToString[reply.Rcode]))
	}
	return reply, nil
}

// most is how many instances are taken in: more than a home has, and an end to
// what a server that makes them up can fill.
const most = 2000

// records puts together what comes in several messages and in any order.
type records struct {
	domain    string
	instances map[string]string // full name as it was said, by its folded form
	srv       map[string]*dns.SRV
	txt       map[string][]string
	hosts     map[string][]netip.Addr
	done      map[dns.Question]bool
}

func newRecords(domain string) *records {
	return &records{domain, map[string]string{}, map[string]*dns.SRV{}, map[string][]string{}, map[string][]netip.Addr{}, map[dns.Question]bool{}}
}

func (r *records) take(m *dns.Msg) {
	for _, rr := range slices.Concat(m.Answer, m.Ns, m.Extra) {
		name := strings.ToLower(rr.Header().Name)
		gone := rr.Header().Ttl == 0 // said as a farewell (RFC 6762, section 10.1)
		switch rr := rr.(type) {
		case *dns.PTR:
			if full := strings.ToLower(rr.Ptr); gone {
				delete(r.instances, full)
			} else if strings.HasSuffix(full, "."+name) && len(r.instances) < most {
				r.instances[full] = rr.Ptr
			}
		case *dns.SRV:
			if !gone && len(r.srv) < most {
				r.srv[name] = rr
			}
		case *dns.TXT:
			if !gone && len(r.txt) < most {
				r.txt[name] = rr.Txt
			}
		case *dns.A:
			if a, ok := netip.AddrFromSlice(rr.A.To4()); ok && !gone && len(r.hosts) < most && !slices.Contains(r.hosts[name], a) {
				r.hosts[name] = append(r.hosts[name], a)
			}
		}
	}
}

// questions are those that are not answered yet.
func (r *records) questions(services []string) []dns.Question {
	var out []dns.Question
	ask := func(name string, kind uint16) {
		if q := (dns.Question{Name: name, Qtype: kind, Qclass: dns.ClassINET}); !r.done[q] && !slices.Contains(out, q) {
			out = append(out, q)
		}
	}
	for _, s := range services {
		ask(s+"."+r.domain, dns.TypePTR)
	}
	for full, name := range r.instances {
		if !slices.ContainsFunc(services, func(s string) bool { return strings.HasSuffix(full, "."+strings.ToLower(s+"."+r.domain)) }) {
			continue
		}
		if r.srv[full] == nil {
			ask(name, dns.TypeSRV)
		} else if len(r.hosts[strings.ToLower(r.srv[full].Target)]) == 0 {
			ask(r.srv[full].Target, dns.TypeA)
		}
		if _, told := r.txt[full]; !told {
			ask(name, dns.TypeTXT)
		}
	}
	return out
}

// found lists the instances whose whereabouts are known, by name.
func (r *records) found(services []string) []Found {
	var out []Found
	for full, name := range r.instances {
		for _, s := range services {
			tail := "." + s + "." + r.domain
			srv := r.srv[full]
			if srv == nil || !strings.HasSuffix(full, strings.ToLower(tail)) {
				continue
			}
			f := Found{Instance: unescape(name[:len(name)-len(tail)]), Service: s, Host: strings.TrimSuffix(srv.Target, "."), Port: int(srv.Port)}
			if a := r.hosts[strings.ToLower(srv.Target)]; len(a) > 0 {
				f.Address = a[0]
			}
			for _, t := range r.txt[full] {
				f.TXT = append(f.TXT, unescape(t))
			}
			out = append(out, f)
		}
	}
	slices.SortFunc(out, func(a, b Found) int { return strings.Compare(a.Service+a.Instance, b.Service+b.Instance) })
	return out
}

// unescape takes the escapes of RFC 1035, section 5.1, out of a name.
func unescape(s string) string {
	var b strings.Builder
	for i := 0; i < len(s); i++ {
		if s[i] != '\\' || i+1 == len(s) {
			b.WriteByte(s[i])
			continue
		}
		if i+3 < len(s) && digit(s[i+1]) && digit(s[i+2]) && digit(s[i+3]) {
			if n := int(s[i+1]-'0')*100 + int(s[i+2]-'0')*10 + int(s[i+3]-'0'); n < 256 {
				b.WriteByte(byte(n))
				i += 3
				continue
			}
		}
		i++
		b.WriteByte(s[i])
	}
	return strings.ToValidUTF8(b.String(), "\uFFFD")
}

func digit(c byte) bool { return c >= '0' && c <= '9' }
