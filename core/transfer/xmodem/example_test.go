package xmodem

import (
	"bytes"
	"context"
	"fmt"
	"io"
)

type keeping struct{ bytes.Buffer }

func (*keeping) Close() error { return nil }

// A file is sent over one end of a line and received at the other.
func ExampleSend() {
	here, there := pair()
	ctx, image := context.Background(), []byte("tern-4.2.1")
	var got keeping
	received := make(chan error)
	go func() {
		_, err := Receive(ctx, there, func(Header) (io.WriteCloser, error) { return &got, nil },
			Options{Variant: XMODEM1K})
		received <- err
	}()
	result, err := Send(ctx, here,
		[]File{{Header: Header{Name: "tern.img", Size: int64(len(image))}, Data: bytes.NewReader(image)}},
		Options{Variant: XMODEM1K})
	fmt.Println(result.Blocks, "block,", result.Padding, "bytes of padding,", err, <-received)
	fmt.Println(bytes.HasPrefix(got.Bytes(), image))
	// Output:
	// 1 block, 118 bytes of padding, <nil> <nil>
	// true
}
