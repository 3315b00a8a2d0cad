package orsel

import (
	"crypto/sha256"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"pilotrix/bench"
)

// linnet is the operating system, from its start to the restart.
type linnet struct {
	*Controller
	*bench.Shell
	group sync.WaitGroup // what runs beside the shell
}

func (x *linnet) run() {
	if x.boot(); !x.OK() {
		return
	}
	x.lan.SetUp(x.Address.Addr(), true)
	x.Wire.Answer()
	x.group.Go(
		bench.Page(x.Context(), x.host, x.Address.Addr(), func() string { return x.HostName + ", linnet " + x.Runs() }))
	x.Text, x.LogsOut = x.words(), true
	x.Prompt = func() string { return x.HostName + " :: " }
	_ = x.Serve(func() bench.Login {
		return bench.Login{
			Name: x.HostName + " operator: ", Word: "secret: ", Refusal: "nobody of ours", Login: x.Login,
			Knows: func(name, word string) bool { return name == x.Login && word == x.Word },
		}
	})
}

// boot takes its time, and starts what was installed.
func (x *linnet) boot() {
	clock := x.Wire.Clock()
	if x.TakeWarm() {
		x.Mu.Lock()
		x.begun, x.settled = clock.Now().Add(-240*time.Hour), true
		x.Mu.Unlock()
		return
	}
	if x.Wait(boots) {
		x.takeOver(clock.Now())
	}
}

func (x *linnet) words() []bench.Word {
	return []bench.Word{
		x.Help("words"),
		{Form: "about", About: "what this is and runs", Run: x.about},
		{Form: "points", About: "the access points, how far each is", Run: x.listPoints},
		{Form: "services", About: "what it does for others", Run: x.services},
		{
			Form:  "service feed STATE",
			About: "give the points their firmware: on or off",
			Run:   x.serviceFeed,
			Grave: true,
		},
		{Form: "image", About: "what was collected, and how far", Run: x.image},
		{Form: "collect ADDRESS NAME", About: "collect an image from a server by TFTP", Run: x.collect, Grave: true},
		{Form: "verify", About: "check what was collected", Run: x.verify, Grave: true},
		{Form: "install", About: "install what was collected, and restart into it", Run: x.installs},
		{Form: "post setup ADDRESS NAME", About: "leave the setup on a server by TFTP", Run: x.post, Grave: true},
		x.Leave("bye"),
	}
}

func (x *linnet) about([]string) error {
	x.Mu.Lock()
	release, serial, up := x.running.Release, x.Serial, x.Wire.Clock().Since(x.begun)
	x.Mu.Unlock()
	x.Fields("name", x.HostName, "model", x.Model, "serial", serial, "release", release, "address", x.Address, "points",
		len(x.points), "up", up.Round(time.Second))
	return nil
}

func (x *linnet) services([]string) error {
	x.Mu.Lock()
	feeds := x.feeds
	x.Mu.Unlock()
	x.Fields("feed", map[bool]string{true: "on", false: "off"}[feeds], "page", "on")
	return nil
}

func (x *linnet) serviceFeed(args []string) error {
	if args[0] != "on" && args[0] != "off" {
		return errors.New("on or off?")
	}
	x.Mu.Lock()
	x.feeds = args[0] == "on"
	x.Mu.Unlock()
	x.Sayf("  feed is %s\r\n", args[0])
	return nil
}

func (x *linnet) image([]string) error {
	now := x.load.Now()
	x.Mu.Lock()
	release, sound, digest := "", x.sound, x.digest
	if x.loaded != nil {
		release = x.loaded.Release
	}
	x.Mu.Unlock()
	size := "?"
	if now.Size > 0 {
		size = bench.Commas(now.Size)
	}
	x.Fields("state", now.State, "collected", fmt.Sprintf("%s of %s B", bench.Commas(now.Got), size), "release",
		bench.Dash(release), "verified", bench.YesNo(sound), "sha256", bench.Dash(digest), "reason",
		bench.Dash(now.Reason))
	return nil
}

func (x *linnet) collect(args []string) error {
	from, err := x.net.By("tftp", args[0], args[1], bench.ServerLogin{}, nil)
	if err != nil {
		return err
	}
	number, err := x.load.Begin(x.Context(), x.Wire.Clock(), bench.Wanted{
		File: args[1], From: from, To: &bench.FlashMemory{Room: room, Rate: fetchRate, Stall: x.StallOnce()},
		Prepare: time.Second, Check: time.Second, Accept: x.accept,
	})
	if err != nil {
		return err
	}
	x.Sayf("  collecting, job %d; image tells how far it is\r\n", number)
	return nil
}

// accept takes what came, or says what is against it.
func (x *linnet) accept(data []byte) error {
	l, err := readLoad(data)
	x.Mu.Lock()
	defer x.Mu.Unlock()
	switch {
	case err != nil:
	case !slices.Contains(l.Models, x.Model):
		err = fmt.Errorf("made for %s", strings.Join(l.Models, ", "))
	case l.Least != "" && bench.Older(x.running.Release, l.Least):
		err = fmt.Errorf("wants linnet %s to come from", l.Least)
	default:
		x.loaded, x.sound, x.digest = &l, false, fmt.Sprintf("%x", sha256.Sum256(data))
	}
	return err
}

func (x *linnet) verify([]string) error {
	x.Mu.Lock()
	loaded := x.loaded
	x.Mu.Unlock()
	if loaded == nil {
		return errors.New("nothing was collected")
	}
	if !x.Dots("  verifying ", 6, 6*time.Second, "") || !x.Stall() {
		return nil
	}
	x.Mu.Lock()
	x.sound = true
	x.Mu.Unlock()
	x.Sayf(" sound: linnet %s\r\n", loaded.Release)
	return nil
}

// install is confirmed by Enter alone.
func (x *linnet) installs([]string) error {
	x.Mu.Lock()
	loaded, sound := x.loaded, x.sound
	x.Mu.Unlock()
	if loaded == nil || !sound {
		return errors.New("nothing that was verified")
	}
	if x.Ask(fmt.Sprintf("  Enter installs linnet %s and restarts, q leaves it: ", loaded.Release)) != "" {
		return errors.New("left as it is")
	}
	if !x.Dots("  installing ", 10, 20*time.Second, " done, restarting\r\n") {
		return nil
	}
	x.Mu.Lock()
	x.install = true
	x.Mu.Unlock()
	return bench.ErrRestart
}

func (x *linnet) post(args []string) error {
	text := "name " + x.HostName + "\nlan " + x.Address.String() + "\n"
	for _, p := range x.Settings.Points {
		text += "point " + p.Name + " " + p.Model + "\n"
	}
	if err := x.net.Leave(x.Context(), args[0], args[1], []byte(text)); err != nil {
		return fmt.Errorf("not posted: %w", err)
	}
	x.Say("  posted\r\n")
	return nil
}
