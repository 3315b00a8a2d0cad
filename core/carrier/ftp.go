package carrier

import (
	"context"
	"fmt"
	"io"
	"net/netip"
	"time"

	"pilotrix/core/arithmetic"
	"pilotrix/core/offer"
	"pilotrix/core/preflight/netfilter"
	"pilotrix/core/transfer/ftpd"
)

// FTP is the file transfer protocol (RFC 959).
var FTP = Register(Carrier{
	Name: "ftp", Rank: 3, Port: 21, Talk: netfilter.DataEitherWay,
	Listen: func(at netip.AddrPort, s offer.Serving) (Server, Endpoint, error) {
		server, err := ftpd.Listen(at, s)
		if err != nil {
			return nil, Endpoint{}, err
		}
		user, password := server.Login()
		return server, Endpoint{User: user, Password: password}, nil
	},
	Text: func(e Endpoint) string {
		return fmt.Sprintf("FTP: %s, user %s, password %s", e.At, e.User, e.Password)
	},
	Estimates: arithmetic.StreamEstimate,
	Probe:     func(ctx context.Context, p Probe) ([]byte, error) { return nil, greeting(ctx, p, "220") },
})

// greetingTime is how long a server may take to greet, by the wall.
const greetingTime = 8 * time.Second

// greeting sees that a server greets as one of its protocol does: more would take a login.
func greeting(ctx context.Context, p Probe, want string) error {
	conn, err := p.Network.Dial(ctx, p.At)
	if err != nil {
		return err
	}
	defer conn.Close()
	_ = conn.SetReadDeadline(time.Now().Add(p.Clock.Wall(greetingTime)))
	got := make([]byte, len(want))
	if _, err := io.ReadFull(conn, got); err != nil {
		return err
	}
	if string(got) != want {
		return fmt.Errorf("it greets with %q", got)
	}
	return nil
}
