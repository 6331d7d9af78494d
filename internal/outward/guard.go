// Package outward lets calls go out to public addresses, and to those that the operator
// allows, and to no others.
package outward

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"syscall"
	"time"
)

// ErrPrivate is wrapped where a call would go to an address that is not open to the
// world.
var ErrPrivate = errors.New("calls go to public addresses only; allow others when starting the service: --allow-private 10.1.2.0/24")

// notPublic are ranges that are no public addresses and that the standard
// library has no word for (RFC 6890).
var notPublic = []netip.Prefix{
	netip.MustParsePrefix("0.0.0.0/8"), netip.MustParsePrefix("100.64.0.0/10"), netip.MustParsePrefix("192.0.0.0/24"),
	netip.MustParsePrefix("192.0.2.0/24"),
	netip.MustParsePrefix("198.18.0.0/15"), netip.MustParsePrefix("198.51.100.0/24"), netip.MustParsePrefix("203.0.113.0/24"),
	netip.MustParsePrefix("240.0.0.0/4"),
	netip.MustParsePrefix("64:ff9b::/96"), netip.MustParsePrefix("64:ff9b:1::/48"), netip.MustParsePrefix("2001::/23"),
	netip.MustParsePrefix("2001:db8::/32"), netip.MustParsePrefix("2002::/16"),
}

// Guard refuses addresses that are not public and not among those it holds.
type Guard []netip.Prefix

// Check refuses an address, wrapping ErrPrivate.
func (g Guard) Check(ip netip.Addr) error {
	ip = ip.Unmap().WithZone("")
	for _, p := range g {
		if p.Contains(ip) {
			return nil
		}
	}
	private := ip.IsPrivate() || ip.IsLoopback() || ip.IsLinkLocalUnicast() || ip.IsLinkLocalMulticast() ||
		ip.IsInterfaceLocalMulticast() || ip.IsMulticast() || ip.IsUnspecified()
	for _, p := range notPublic {
		private = private || p.Contains(ip)
	}
	if private {
		return fmt.Errorf("%s: %w", ip, ErrPrivate)
	}
	return nil
}

// Dial connects to an address that passes, whatever name it was given by: it is
// checked after the name was resolved, so that a name cannot turn private
// between a check and its use.
func (g Guard) Dial(ctx context.Context, network, address string) (net.Conn, error) {
	return dial(ctx, network, address, g.Check)
}

// never are addresses where machines tell secrets about themselves, and those of one link
// alone: nothing that people name is there.
var never = []netip.Prefix{
	netip.MustParsePrefix("169.254.0.0/16"), netip.MustParsePrefix("fe80::/10"), netip.MustParsePrefix("fd00:ec2::254/128"),
	netip.MustParsePrefix("100.100.100.200/32"),
	netip.MustParsePrefix("224.0.0.0/4"), netip.MustParsePrefix("ff00::/8"), netip.MustParsePrefix("255.255.255.255/32"),
}

// ErrOutside is wrapped where warehouses and mail servers are named where none may be.
var ErrOutside = errors.New("warehouses and mail servers are reached where the operator lets them be: --reach 10.1.2.0/24; never at link-local and metadata addresses")

// Inside lets connections go to warehouses and mail servers: to the ranges that the operator
// names, and where none is named to any but those that are never reached.
type Inside []netip.Prefix

// Check refuses an address, wrapping ErrOutside.
func (g Inside) Check(ip netip.Addr) error {
	ip = ip.Unmap().WithZone("")
	for _, p := range never {
		if p.Contains(ip) {
			return fmt.Errorf("%s: %w", ip, ErrOutside)
		}
	}
	for _, p := range g {
		if p.Contains(ip) {
			return nil
		}
	}
	if len(g) > 0 {
		return fmt.Errorf("%s: %w", ip, ErrOutside)
	}
	return nil
}

// Dial connects to an address that passes; it is checked after the name was resolved.
func (g Inside) Dial(ctx context.Context, network, address string) (net.Conn, error) {
	return dial(ctx, network, address, g.Check)
}

func dial(ctx context.Context, network, address string, check func(netip.Addr) error) (net.Conn, error) {
	d := net.Dialer{Timeout: 10 * time.Second, Control: func(_, address string, _ syscall.RawConn) error {
		at, err := netip.ParseAddrPort(address)
		if err != nil {
			return err
		}
		return check(at.Addr())
	}}
	return d.DialContext(ctx, network, address)
}
