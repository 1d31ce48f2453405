package settings

import "testing"

func TestSpansOfAddresses(t *testing.T) {
	for text, want := range map[string]string{
		"192.168.40.7": "192.168.40.7 192.168.40.7", "192.168.40.1-192.168.40.9": "192.168.40.1 192.168.40.9", " 10.0.0.1 - 10.0.0.2 ": "10.0.0.1 10.0.0.2",
		"192.168.40.64/26": "192.168.40.64 192.168.40.127", "10.1.2.3/8": "10.0.0.0 10.255.255.255", "0.0.0.0/0": "0.0.0.0 255.255.255.255",
		"": "", "192.168.40.9-192.168.40.1": "", "192.168.40": "", "fd00::1": "", "192.168.40.1-": "", "1.2.3.4/33": "",
	} {
		from, to, ok := Span(text)
		if got := from.String() + " " + to.String(); ok != (want != "") || ok && got != want {
			t.Errorf("%q is %s, %v; want %q", text, got, ok, want)
		}
	}
	spans := []string{"192.168.40.1-192.168.40.9", "192.168.40.250"}
	for a, want := range map[string]string{"192.168.40.9": spans[0], "192.168.40.250": spans[1], "192.168.40.10": "", "no": "", "192.168.40.0": ""} {
		if got := Within(a, spans); got != want {
			t.Errorf("%s lies in %q, want %q", a, got, want)
		}
	}
}
