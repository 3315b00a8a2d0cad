package carrier

import (
	"context"
	"fmt"
	"net/netip"

	"pilotrix/core/arithmetic"
	"pilotrix/core/offer"
	"pilotrix/core/preflight/netfilter"
	"pilotrix/core/transfer/sshd"
	"pilotrix/core/transfer/sshput"
)

// SFTP and SCP are files over SSH, by one server.
var (
	SFTP = Register(Carrier{
		Name: sshput.SFTP, Rank: 4, Port: sshd.Port, Talk: netfilter.OneConnection,
		Listen: func(at netip.AddrPort, s offer.Serving) (Server, Endpoint, error) {
			server, err := sshd.Listen(at, s)
			if err != nil {
				return nil, Endpoint{}, err
			}
			user, password := server.Login()
			return server, Endpoint{
				User:        user,
				Password:    password,
				Key:         server.Key(),
				Fingerprint: server.Fingerprint(),
			}, nil
		},
		Text:      sshText,
		Estimates: arithmetic.StreamEstimate,
		Probe:     sshGreeting,
	})
	SCP = Register(Carrier{
		Name:  sshput.SCP,
		Rank:  5,
		Port:  sshd.Port,
		With:  SFTP.Name,
		Talk:  netfilter.OneConnection,
		Text:  sshText,
		Probe: sshGreeting,
	})
)

func sshText(e Endpoint) string {
	return fmt.Sprintf("SFTP and SCP: %s, user %s, password %s, host key %s", e.At, e.User, e.Password, e.Fingerprint)
}

func sshGreeting(ctx context.Context, p Probe) ([]byte, error) {
	return nil, greeting(ctx, p, "SSH-2.0-")
}
