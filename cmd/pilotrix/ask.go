package main

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"os"
	"strings"

	"golang.org/x/term"

	"pilotrix/core/line"
	"pilotrix/core/plain"
)

// askTerminal asks what a line wants to know before the interface is there. What is secret is not shown.
func (p *program) askTerminal(_ context.Context, q line.Question) (string, error) {
	text := plain.Text(q.Text)
	if len(q.Choice) > 0 {
		text += " (" + strings.Join(q.Choice, "/") + ")"
	}
	fmt.Fprintf(p.err, "%s: ", text)
	if q.Secret {
		answer, err := term.ReadPassword(int(os.Stdin.Fd()))
		fmt.Fprintln(p.err)
		return string(answer), err
	}
	answer, err := bufio.NewReader(os.Stdin).ReadString('\n')
	if err != nil {
		return "", errors.New("nothing was answered")
	}
	return strings.TrimSpace(answer), nil
}
