package reach

import (
	"errors"
	"net"
	"strings"
	"testing"

	"github.com/miekg/dns"

	"fado/internal/carrier"
)

func rr(t *testing.T, s string) dns.RR {
	t.Helper()
	r, err := dns.NewRR(s)
	if err != nil {
		t.Fatal(err)
	}
	return r
}

// TestRecordsArePutTogether: in whatever order and however many messages they come;
// what is not asked for, or says farewell, is left out.
func TestRecordsArePutTogether(t *testing.T) {
	lines := []string{
		"h1.local. 120 IN A 192.168.40.23", `Um\ dois\.tr\195\170s._junco._tcp.local. 120 IN TXT "id=1" "note=a\"b"`, `Um\ dois\.tr\195\170s._junco._tcp.local. 120 IN SRV 0 0 80 h1.local.`,
		`_junco._tcp.local. 120 IN PTR Um\ dois\.tr\195\170s._junco._tcp.local.`,
		"_other._tcp.local. 120 IN PTR x._other._tcp.local.", "x._other._tcp.local. 120 IN SRV 0 0 81 h1.local.",
		"_junco._tcp.local. 120 IN PTR far._elsewhere._tcp.local.", // not below what was asked for
		"_junco._tcp.local. 0 IN PTR gone._junco._tcp.local.", "gone._junco._tcp.local. 120 IN SRV 0 0 82 h1.local.",
		"_junco._tcp.local. 120 IN PTR nowhere._junco._tcp.local.",
	}
	for shift := range lines {
		r := newRecords("local.")
		for i := range lines {
			r.take(&dns.Msg{Answer: []dns.RR{rr(t, lines[(i+shift)%len(lines)])}})
		}
		list := r.found([]string{"_junco._tcp"})
		if len(list) != 1 {
			t.Fatalf("from %d on: %+v", shift, list)
		}
		if x := list[0]; x.Instance != "Um dois.três" || x.Port != 80 || x.Address.String() != "192.168.40.23" || x.Host != "h1.local" || strings.Join(x.TXT, "|") != `id=1|note=a"b` {
			t.Errorf("from %d on: %+v", shift, x)
		}
		asked := map[string]bool{}
		for _, q := range r.questions([]string{"_junco._tcp"}) {
			asked[dns.TypeToString[q.Qtype]+" "+q.Name] = true
		}
		if len(asked) != 3 || !asked["PTR _junco._tcp.local."] || !asked["SRV nowhere._junco._tcp.local."] || !asked["TXT nowhere._junco._tcp.local."] {
			t.Errorf("it asks on for %v", asked)
		}
	}
}

// TestANameServerIsAsked: over TCP, step by step, and says no in every way.
func TestANameServerIsAsked(t *testing.T) {
	zone := map[string][]string{
		"PTR _junco._tcp.lagar.home.arpa.":    {"_junco._tcp.lagar.home.arpa. 10 IN PTR j1._junco._tcp.lagar.home.arpa."},
		"SRV j1._junco._tcp.lagar.home.arpa.": {"j1._junco._tcp.lagar.home.arpa. 10 IN SRV 0 0 80 adega-level-1.lagar.home.arpa."},
		"TXT j1._junco._tcp.lagar.home.arpa.": {`j1._junco._tcp.lagar.home.arpa. 10 IN TXT "id=7"`},
		"A adega-level-1.lagar.home.arpa.":    {"adega-level-1.lagar.home.arpa. 10 IN A 192.168.40.23"},
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	code := dns.RcodeSuccess
	s := &dns.Server{Listener: l, Handler: dns.HandlerFunc(func(w dns.ResponseWriter, q *dns.Msg) {
		m := new(dns.Msg)
		m.SetReply(q)
		if m.Rcode = code; code == dns.RcodeSuccess {
			list := zone[dns.TypeToString[q.Question[0].Qtype]+" "+strings.ToLower(q.Question[0].Name)]
			for _, x := range list {
				m.Answer = append(m.Answer, rr(t, x))
			}
			if len(list) == 0 {
				m.Rcode = dns.RcodeNameError
			}
		}
		_ = w.WriteMsg(m)
	})}
	go func() { _ = s.ActivateAndServe() }()
	t.Cleanup(func() { _ = s.Shutdown() })
	n := NameServer{Net: carrier.Net{}, At: l.Addr().String(), Domain: "lagar.home.arpa"}
	list, err := n.Browse(t.Context(), []string{"_junco._tcp", "_http._tcp"})
	if err != nil || len(list) != 1 || list[0].Instance != "j1" || list[0].Address.String() != "192.168.40.23" || list[0].TXT[0] != "id=7" {
		t.Errorf("%+v, %v", list, err)
	}
	if a, err := n.Lookup(t.Context(), "adega-level-1"); err != nil || len(a) != 1 {
		t.Errorf("%v, %v", a, err)
	}
	if a, err := n.Lookup(t.Context(), "nobody"); err != nil || len(a) != 0 {
		t.Errorf("%v, %v", a, err)
	}
	code = dns.RcodeRefused
	if _, err := n.Lookup(t.Context(), "adega-level-1"); !errors.Is(err, ErrNoFinder) || !strings.Contains(err.Error(), "refused") {
		t.Error(err)
	}
	_ = s.Shutdown()
	if _, err := n.Browse(t.Context(), []string{"_junco._tcp"}); !errors.Is(err, ErrNoFinder) {
		t.Error(err)
	}
}

func FuzzRecords(f *testing.F) {
	m := &dns.Msg{Answer: []dns.RR{&dns.PTR{Hdr: dns.RR_Header{Name: "_junco._tcp.local.", Rrtype: dns.TypePTR, Class: dns.ClassINET, Ttl: 1}, Ptr: `a\.b._junco._tcp.local.`}}}
	b, err := m.Pack()
	if err != nil {
		f.Fatal(err)
	}
	f.Add(b)
	f.Fuzz(func(t *testing.T, b []byte) {
		m := &dns.Msg{}
		if m.Unpack(b) != nil {
			return
		}
		r := newRecords("local.")
		r.take(m)
		_ = r.questions([]string{"_junco._tcp"})
		for _, x := range r.found([]string{"_junco._tcp"}) {
			if strings.Contains(x.Instance, "._junco._tcp.local") && !strings.Contains(string(b), "_junco") {
				t.Errorf("%+v", x)
			}
		}
	})
}
