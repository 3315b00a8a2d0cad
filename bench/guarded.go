package bench

import "sync"

// Guarded is what a device keeps behind its lock whatever family it is of: the faults that it has on purpose, and what
// it lies about.
type Guarded[Faults any] struct {
	Mu     sync.Mutex
	Faults Faults
	Lying  Fibs // from its next start on
}

// Fail switches faults on.
func (g *Guarded[Faults]) Fail(faults Faults) {
	g.Mu.Lock()
	defer g.Mu.Unlock()
	g.Faults = faults
}

// NoConsole is a device without a console: it is reached by its shell session only.
type NoConsole struct{}

// ShellOnly implements ShellOnly.
func (NoConsole) ShellOnly() {}

// Baud implements Device.
func (NoConsole) Baud() int { return 115200 }

// Fetches are the words of a command language that fetch a file by each protocol that a Client knows, such as "haul
// tftp ADDRESS NAME". With HTTP a file has a path.
func Fetches(form, about string, run func(protocol, address, name string) error) (words []Word) {
	for _, protocol := range []struct{ name, what string }{{"tftp", "NAME"}, {"http", "PATH"}, {"ftp", "NAME"}, {"sftp", "NAME"}} {
		words = append(words, Word{
			Form: form + " " + protocol.name + " ADDRESS " + protocol.what, About: about, Level: 1, Grave: true,
			Run: func(args []string) error { return run(protocol.name, args[0], args[1]) },
		})
	}
	return words
}
