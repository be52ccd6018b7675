// Package fence keeps requests from places on this computer or its own network that somebody elsewhere has named.
package fence

import (
	"context"
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"os"
	"strings"
	"sync/atomic"
	"syscall"
	"time"

	"morvant/internal/problem"
)

// ErrNear is returned for a place on this computer or its own network that an adapter names though its distributor is
// elsewhere: what listens there takes requests from here for the player's own.
var ErrNear = problem.New("it names a place on this computer or its own network, where the distributor is not", "Ask whoever wrote the adapter; a distributor of your own network is added by its address there")

// nearness is a kind of addresses that not everybody can reach.
type nearness string

const (
	public    nearness = ""
	computer  nearness = "this computer"
	network   nearness = "this network"
	linkLocal nearness = "this wire"
)

var shared = netip.MustParsePrefix("100.64.0.0/10") // RFC 6598

func near(ip netip.Addr) nearness {
	ip = ip.Unmap()
	switch {
	case ip.IsLoopback(), ip.IsUnspecified():
		return computer
	case ip.IsLinkLocalUnicast(), ip.IsMulticast():
		return linkLocal
	case ip.IsPrivate(), shared.Contains(ip):
		return network
	}
	return public
}

// Fence keeps requests from places that are nearer than the distributor.
type Fence struct {
	may     map[nearness]bool
	proxied atomic.Bool // a proxy connects, and its own address says nothing
}

// For returns the one for a distributor: its address is a web address or a host, a folder here, or text for the
// adapter alone.
func For(ctx context.Context, address string) *Fence {
	f := &Fence{may: map[nearness]bool{public: true}}
	if _, err := os.Stat(address); err == nil {
		f.may[computer] = true
		return f
	}
	u, err := url.Parse(address)
	if err != nil || u.Host == "" {
		u, err = url.Parse("//" + address)
	}
	if err != nil || u.Host == "" || strings.ContainsAny(address, " \t") {
		return f
	}
	for _, ip := range lookUp(ctx, u.Hostname()) {
		f.may[near(ip)] = true
	}
	return f
}

// lookUp returns the addresses of a host; none where it is not known.
func lookUp(ctx context.Context, host string) []netip.Addr {
	if ip, err := netip.ParseAddr(host); err == nil {
		return []netip.Addr{ip}
	}
	ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	list, _ := net.DefaultResolver.LookupNetIP(ctx, "ip", host)
	return list
}

// Check returns an error for a place that is nearer than the distributor.
func (f *Fence) Check(ctx context.Context, u *url.URL) error {
	for _, ip := range lookUp(ctx, u.Hostname()) {
		if !f.may[near(ip)] {
			return fmt.Errorf("%s (%s): %w", u.Hostname(), near(ip), ErrNear)
		}
	}
	return nil
}

// Around puts the fence around all that a transport connects to, whatever a name has come to mean since it was checked.
func (f *Fence) Around(t *http.Transport) {
	dialer := &net.Dialer{Timeout: 30 * time.Second, KeepAlive: 30 * time.Second, Control: func(_, address string, _ syscall.RawConn) error {
		at, err := netip.ParseAddrPort(address)
		if err == nil && !f.proxied.Load() && !f.may[near(at.Addr())] {
			return fmt.Errorf("%s: %w", at.Addr(), ErrNear)
		}
		return nil
	}}
	t.DialContext = dialer.DialContext
	proxy := t.Proxy
	t.Proxy = func(r *http.Request) (*url.URL, error) {
		u, err := proxy(r)
		if u != nil {
			f.proxied.Store(true)
		}
		return u, err
	}
}
