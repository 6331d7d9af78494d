package outward

import (
	"errors"
	"net/netip"
	"testing"
)

func TestPrivateAddressesAreRefusedHoweverTheyAreWritten(t *testing.T) {
	for _, address := range []string{"127.0.0.1", "10.1.2.3", "172.16.0.1", "192.168.1.1", "169.254.169.254", "0.0.0.0", "100.64.1.1", "198.18.0.1", "224.0.0.1", "255.255.255.255",
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
