package carrier

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"

	"pilotrix/core/arithmetic"
	"pilotrix/core/offer"
	"pilotrix/core/preflight/netfilter"
	"pilotrix/core/transfer/httpd"
)

// HTTP is the hypertext transfer protocol, version 1.1 (RFC 9112).
var HTTP = Register(Carrier{
	Name: "http", Rank: 2, Port: 80, Talk: netfilter.OneConnection,
	Listen: func(at netip.AddrPort, s offer.Serving) (Server, Endpoint, error) {
		server, err := httpd.Listen(at, s)
		if err != nil {
			return nil, Endpoint{}, err
		}
		return server, Endpoint{path: server.Path}, nil
	},
	Boot: func(e Endpoint, name string) string {
		at := e.At.String()
		if e.At.Port() == 80 {
			at = e.At.Addr().String()
		}
		return "http://" + at + e.Path(name)
	},
	Text:      func(e Endpoint) string { return fmt.Sprintf("HTTP: http://%s%s", e.At, e.Path("NAME")) },
	Estimates: arithmetic.StreamEstimate,
	Probe:     firstRange,
})

// FirstBytes is how much of a file a Probe gets.
const FirstBytes = 512

func firstRange(ctx context.Context, p Probe) ([]byte, error) {
	client := http.Client{Transport: &http.Transport{
		DisableKeepAlives: true,
		DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) {
			return p.Network.Dial(ctx,
				p.At)
		},
	}}
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, "http://"+p.At.String()+p.Path, nil)
	if err != nil {
		return nil, err
	}
	request.Header.Set("Range", fmt.Sprintf("bytes=0-%d", FirstBytes-1))
	response, err := client.Do(request)
	if err != nil {
		return nil, err
	}
	defer response.Body.Close()
	if response.StatusCode/100 != 2 {
		return nil, errors.New(response.Status)
	}
	return io.ReadAll(io.LimitReader(response.Body, FirstBytes))
}
