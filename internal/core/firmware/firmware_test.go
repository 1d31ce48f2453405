package firmware

import (
	"crypto/ed25519"
	"strings"
	"testing"

	"fado/internal/core/inventory"
)

var digest = strings.Repeat("ab", 32)

func image() Image {
	return Image{SHA256: digest, Firmware: "junco", Version: "1.4.0", Channel: Stable, Part: Program, Models: []string{"junco"}, Chip: "x1", Size: 600 << 10, Sequence: 7, Signed: true}
}

func unit() Unit {
	return Unit{Model: inventory.Model{Name: "junco", Chip: "x1", FlashKiB: 2048, Slots: 2, Power: inventory.Mains}, Firmware: "junco", Version: "1.3.0", Digests: true}
}

func TestFit(t *testing.T) {
	half := 50
	cases := []struct {
		rule  string
		alter func(*Image, *Unit, *Policy) (risky bool)
	}{
		{"", func(i *Image, u *Unit, p *Policy) bool { return false }},
		{"withdrawn", func(i *Image, u *Unit, p *Policy) bool { i.Withdrawn = "loses its clock"; return false }},
		{"model", func(i *Image, u *Unit, p *Policy) bool { i.Models = []string{"sobro-um"}; return false }},
		{"chip", func(i *Image, u *Unit, p *Policy) bool { i.Chip = "x2"; return false }},
		{"signature", func(i *Image, u *Unit, p *Policy) bool { i.Signed = false; return false }},
		{"flash", func(i *Image, u *Unit, p *Policy) bool { u.Model.FlashKiB = 1024; return false }},
		{"flash", func(i *Image, u *Unit, p *Policy) bool { i.NeedsKiB = 4096; return false }},
		{"room", func(i *Image, u *Unit, p *Policy) bool { u.Model.FlashKiB, u.Model.Slots = 1024, 1; return false }},
		{"", func(i *Image, u *Unit, p *Policy) bool {
			u.Model.FlashKiB, u.Model.Slots, u.Size = 1024, 1, 300<<10
			return false
		}},
		{"running", func(i *Image, u *Unit, p *Policy) bool { u.Digests, u.Version = false, "1.4.0"; return false }},
		{"running", func(i *Image, u *Unit, p *Policy) bool { u.Digest = digest; return false }},
		{"version", func(i *Image, u *Unit, p *Policy) bool { u.Version = ""; return false }},
		{"version", func(i *Image, u *Unit, p *Policy) bool { u.Version = "b417"; return false }},
		{"downgrade", func(i *Image, u *Unit, p *Policy) bool { u.Version = "2.0.0"; return false }},
		{"", func(i *Image, u *Unit, p *Policy) bool { u.Version = "2.0.0"; p.Downgrade = true; return false }},
		{"route", func(i *Image, u *Unit, p *Policy) bool { i.OldestFrom = "1.3.5"; return false }},
		{"", func(i *Image, u *Unit, p *Policy) bool { i.OldestFrom = "1.3.0"; return false }},
		{"battery", func(i *Image, u *Unit, p *Policy) bool { u.Model.Power = inventory.Battery; return false }},
		{"battery", func(i *Image, u *Unit, p *Policy) bool {
			u.Model.Power, u.Battery, p.LeastBattery = inventory.Battery, &half, 60
			return false
		}},
		{"consent", func(i *Image, u *Unit, p *Policy) bool { return true }},
		{"", func(i *Image, u *Unit, p *Policy) bool { p.RiskyDelivery = true; return true }},
	}
	for n, c := range cases {
		i, u, p := image(), unit(), Policy{}
		risky := c.alter(&i, &u, &p)
		v := Fit(i, u, p, risky)
		if v.Rule != c.rule || v.Fits != (c.rule == "") || v.Sentence == "" {
			t.Errorf("case %d: %+v, want rule %q", n, v, c.rule)
		}
	}
}

func TestManifestSignature(t *testing.T) {
	pub, key, _ := ed25519.GenerateKey(nil)
	other, _, _ := ed25519.GenerateKey(nil)
	jws, err := Sign(ManifestOf(image()), key)
	if err != nil {
		t.Fatal(err)
	}
	m, err := Verify(jws, other, pub)
	if err != nil || m.Version != "1.4.0" || m.Sequence != 7 || m.Class[0] != "junco" {
		t.Fatalf("%+v, %v", m, err)
	}
	if err := m.Match(image()); err != nil {
		t.Error(err)
	}
	changed := image()
	changed.SHA256 = strings.Repeat("cd", 32)
	if m.Match(changed) == nil {
		t.Error("another file matched")
	}
	if _, err := Verify(jws, other); err == nil {
		t.Error("a stranger's key was enough")
	}
	parts := strings.Split(jws, ".")
	forged := strings.Join([]string{parts[0], parts[1][:len(parts[1])-4] + "AAAA", parts[2]}, ".")
	if _, err := Verify(forged, pub); err == nil {
		t.Error("a changed payload passed")
	}
}

func FuzzVerify(f *testing.F) {
	pub, key, _ := ed25519.GenerateKey(nil)
	jws, _ := Sign(ManifestOf(image()), key)
	f.Add(jws)
	f.Fuzz(func(t *testing.T, s string) {
		if m, err := Verify(s, pub); err == nil && (m.Size <= 0 || m.Version == "") {
			t.Fatal("a hollow manifest passed")
		}
	})
}
