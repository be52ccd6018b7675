package fence

import (
	"net/netip"
	"net/url"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestPlacesThatAreNearerThanTheDistributor: who is elsewhere names nothing of this computer or its network.
func TestPlacesThatAreNearerThanTheDistributor(t *testing.T) {
	for ip, is := range map[string]nearness{
		"127.0.0.1": computer, "127.9.9.9": computer, "::1": computer, "0.0.0.0": computer, "::ffff:127.0.0.1": computer,
		"10.1.2.3": network, "172.16.0.1": network, "192.168.7.7": network, "fd00::1": network, "100.64.1.1": network,
		"169.254.169.254": linkLocal, "fe80::1": linkLocal, "224.0.0.1": linkLocal, "93.184.216.34": public, "2001:db8::1": public,
	} {
		require.Equal(t, is, near(netip.MustParseAddr(ip)), ip)
	}
	folder := t.TempDir()
	for _, c := range []struct {
		distributor, place string
		allowed            bool
	}{
		{"https://93.184.216.34/quay", "http://127.0.0.1:631/", false},
		{"https://93.184.216.34/quay", "https://192.168.1.1/admin", false},
		{"https://93.184.216.34/quay", "http://169.254.169.254/latest", false},
		{"https://93.184.216.34/quay", "https://[::1]/", false},
		{"https://93.184.216.34/quay", "https://93.184.216.35/pack", true},
		{"cinder-quay", "http://127.0.0.1/", false},
		{"cinder quay", "https://10.0.0.1/", false},
		{folder, "http://127.0.0.1:8080/", true},
		{folder, "https://192.168.1.1/", false},
		{"http://127.0.0.1:9999/", "http://127.0.0.1:8080/", true},
		{"127.0.0.1:9999", "http://localhost:8080/", true},
		{"https://192.168.1.5/quay", "https://192.168.1.6/pack", true},
		{"https://192.168.1.5/quay", "http://127.0.0.1/", false},
	} {
		u, err := url.Parse(c.place)
		require.NoError(t, err)
		err = For(t.Context(), c.distributor).Check(t.Context(), u)
		if c.allowed {
			require.NoError(t, err, c)
		} else {
			require.ErrorIs(t, err, ErrNear, c)
		}
	}
}
