package tftp_test

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"net/netip"

	"pilotrix/core/clock"
	"pilotrix/core/network/simulated"
	"pilotrix/core/offer"
	"pilotrix/core/transfer/tftp"
)

// A server hands out what is on its stage, by its exact name, and a client fetches it.
func Example() {
	lan, ctx := simulated.New(1), context.Background()
	laptop, device := lan.Host("eth0", netip.MustParsePrefix("192.0.2.10/24")), lan.Host("lan",
		netip.MustParsePrefix("192.0.2.41/24"))

	stage := &offer.Stage{}
	image := []byte("lark-7.6.1")
	_, err := stage.Offer(offer.File{
		Name: "lark.cgo",
		Size: int64(len(image)),
		Open: func() (io.ReadSeekCloser, error) { return whole{bytes.NewReader(image)}, nil },
	})
	if err != nil {
		fmt.Println(err)
		return
	}
	server, err := tftp.Listen(netip.MustParseAddrPort("192.0.2.10:69"),
		tftp.Options{Network: laptop, Stage: stage, Clock: clock.Real()})
	if err != nil {
		fmt.Println(err)
		return
	}
	serving, end := context.WithCancel(ctx)
	ended := make(chan error)
	go func() { ended <- server.Serve(serving) }()

	var got bytes.Buffer
	result, err := tftp.Client{Network: device, Clock: clock.Real()}.Get(ctx, server.Addr(), "lark.cgo", &got)
	fmt.Println(got.String(), result.Terms.Size, err)
	_, err = tftp.Client{Network: device, Clock: clock.Real()}.Get(ctx, server.Addr(), "lark", io.Discard)
	fmt.Println(err)
	end()
	fmt.Println(<-ended)
	// Output:
	// lark-7.6.1 10 <nil>
	// the other side says: no lark here; lark.cgo is staged (asked for without .cgo) (file not found)
	// <nil>
}

type whole struct{ *bytes.Reader }

func (whole) Close() error { return nil }
