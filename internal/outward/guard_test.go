package outward

import (
	"errors"
	"net/netip"
	"testing"
)

func TestPrivateAddressesAreRefusedHoweverTheyAreWritten(t *testing.T) {
	for _, address := range []string{"127.0.0.1", "10.1.2.3", "172.16.0.1", "192.168.1.1", "169.254.169.254", "0.0.0.0",
		"100.64.1.1", "198.18.0.1", "224.0.0.1", "255.255.255.255",
		"::1", "::", "fe80::1%eth0", "fd00::1", "ff02::1", "::ffff:127.0.0.1", "::ffff:10.0.0.1", "64:ff9b::a00:1", "2002:7f00:1::"} {
		if err := Guard(nil).Check(netip.MustParseAddr(address)); !errors.Is(err, ErrPrivate) {
			t.Errorf("%s: %v", address, err)
		}
	}
	for _, address := range []string{"1.1.1.1", "93.184.216.34", "2606:4700::1111"} {
		if err := Guard(nil).Check(netip.MustParseAddr(address)); err != nil {
			t.Errorf("%s: %v", address, err)
		}
	}
	allowed := Guard{netip.MustParsePrefix("10.1.0.0/16")}
	if allowed.Check(netip.MustParseAddr("10.1.9.9")) != nil || allowed.Check(netip.MustParseAddr("10.2.0.1")) == nil {
		t.Error("an allowed range is that range and no more")
	}
	if _, err := Guard(nil).Dial(t.Context(), "tcp", "localhost:9"); !errors.Is(err, ErrPrivate) {
		t.Errorf("a name that turns out private: %v", err)
	}
}

// Warehouses and mail servers are reached anywhere, or in the ranges that are named alone,
// and never where machines tell secrets about themselves.
func TestWarehousesAreReachedWhereTheOperatorLetsThemBe(t *testing.T) {
	named := Inside{netip.MustParsePrefix("10.1.0.0/16"), netip.MustParsePrefix("169.254.0.0/16")}
	for _, c := range []struct {
		address     string
		any, within bool
	}{
		{"10.1.2.3", true, true}, {"10.2.0.1", true, false}, {"127.0.0.1", true, false}, {"93.184.216.34", true, false},
		{"::ffff:10.1.9.9", true, true},
		{"169.254.169.254", false, false}, {"::ffff:169.254.169.254", false, false}, {"fe80::1%eth0", false, false},
		{"fd00:ec2::254", false, false}, {"100.100.100.200", false, false}, {"224.0.0.1", false, false},
	} {
		ip := netip.MustParseAddr(c.address)
		for what, got := range map[string][2]bool{"anywhere": {Inside(nil).Check(ip) == nil, c.any},
			"where it is named": {named.Check(ip) == nil, c.within}} {
			if got[0] != got[1] {
				t.Errorf("%s, %s: let through %t", c.address, what, got[0])
			}
		}
		if err := named.Check(ip); err != nil && !errors.Is(err, ErrOutside) {
			t.Errorf("%s: %v", c.address, err)
		}
	}
}
