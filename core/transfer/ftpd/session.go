package ftpd

import (
	"bufio"
	"bytes"
	"context"
	"fmt"
	"io"
	"net"
	"net/netip"
	"strconv"
	"strings"
	"time"

	"pilotrix/core/offer"
	"pilotrix/core/plain"
	"pilotrix/core/transfer/places"
)

// session is one device. It belongs to one goroutine; what reads its commands and what moves its files are others,
// which only say it.
type session struct {
	s       *Server
	ctx     context.Context
	control control
	peer    netip.AddrPort
	conn    *places.Conn
	asked   chan asked
	waiting []asked // what came while a file moves, in its order

	user     string
	loggedIn bool
	failures int
	text     bool // TYPE A was said
	from     int64
	size     int64 // ALLO, 0 when it was not said
	listener net.Listener
	call     netip.AddrPort

	moving *moving // nil for nothing
	quit   bool
}

// asked is one command.
type asked struct {
	word, param string
	err         error // instead of one
}

const (
	maxFailures = 5  // of a login
	maxWaiting  = 16 // commands while a file moves
)

// talk serves one control connection to its end.
func (s *Server) talk(ctx context.Context, conn *places.Conn) {
	defer conn.Close()
	ctx, end := context.WithCancel(ctx)
	defer end()
	v := &session{
		s:       s,
		ctx:     ctx,
		conn:    conn,
		control: control{conn, bufio.NewReader(conn)},
		peer:    conn.Peer(),
		asked:   make(chan asked),
	}
	defer v.leave()
	if v.control.reply(220, "staged files only") != nil {
		return
	}
	go v.read()
	for !v.quit {
		v.step()
	}
}

// read hands the commands on, one by one.
func (v *session) read() {
	for {
		var a asked
		a.word, a.param, a.err = v.control.command()
		select {
		case v.asked <- a:
		case <-v.ctx.Done():
			return
		}
		if a.err != nil {
			return
		}
	}
}

// leave ends what is under way.
func (v *session) leave() {
	v.disarrange()
	if v.moving != nil {
		v.moving.cancel()
		<-v.moving.done
	}
}

// step waits for the next thing that happens, and does what it asks for.
func (v *session) step() {
	if v.moving == nil && len(v.waiting) > 0 {
		next := v.waiting[0]
		v.waiting = v.waiting[1:]
		v.obey(next)
		return
	}
	idle := time.NewTimer(v.idleTime())
	defer idle.Stop()
	var done chan outcome
	if v.moving != nil {
		done = v.moving.done
	}
	select {
	case <-v.ctx.Done():
		v.quit = true
	case end := <-done:
		v.moved(end)
	case a := <-v.asked:
		v.take(a)
	case <-idle.C:
		if v.moving == nil { // a file that moves has a limit of its own
			v.say(true, "refused", "a session in which nothing happened was closed")
			v.end(421, "nothing happened for long")
		}
	}
}

func (v *session) idleTime() time.Duration {
	if v.loggedIn {
		return idleTime
	}
	return loginTime
}

func (v *session) reply(code int, text string) {
	if v.control.reply(code, text) != nil {
		v.quit = true
	}
}

func (v *session) end(code int, text string) {
	v.reply(code, text)
	v.quit = true
}

func (v *session) say(fromPeer bool, kind, text string) {
	v.s.opt.Watcher.Said(offer.Rung{Protocol: "FTP", Peer: v.peer, FromPeer: fromPeer, Kind: kind, Text: text})
}

// take does what a command asks for now, or once the file that moves is through.
func (v *session) take(a asked) {
	switch {
	case a.err == errLongLine:
		v.end(500, "that line has no end")
	case a.err != nil && v.moving != nil && v.saidQuit(): // it hung up, and meant its file to come to its end before
	case a.err != nil:
		v.quit = true
	case v.moving == nil || duringTransfer[a.word]:
		v.obey(a)
	case len(v.waiting) == maxWaiting:
		v.end(421, "too many commands while a file moves")
	default:
		v.waiting = append(v.waiting, a)
	}
}

// saidQuit reports whether the device has said that it leaves once its file is through (RFC 959 section 4.1.1, QUIT).
func (v *session) saidQuit() bool {
	return len(v.waiting) > 0 && v.waiting[len(v.waiting)-1].word == "QUIT"
}

// duringTransfer are the commands that are answered while a file moves (RFC 959 section 4.1.3).
var duringTransfer = map[string]bool{"ABOR": true, "STAT": true, "NOOP": true}

// obey does what one command asks for. Each ends in a reply.
func (v *session) obey(a asked) {
	c, known := commands[a.word]
	switch {
	case a.word == "":
		v.reply(500, "no command")
	case !known:
		v.reply(502, plain.Clip(a.word, 20)+" is not served here")
	case !v.loggedIn && !c.always:
		v.reply(530, "log in first")
	case c.param && strings.TrimSpace(a.param) == "":
		v.reply(501, a.word+" needs a parameter")
	default:
		if a.word != "PASS" {
			a.param = strings.TrimSpace(a.param)
		}
		c.run(v, a.param)
	}
}

// command is what a device may say.
type command struct {
	always bool // before the login, too
	param  bool // it needs one
	run    func(v *session, param string)
}

// says is a command whose reply is always the same.
func says(code int, text string) command {
	return command{run: func(v *session, _ string) { v.reply(code, text) }}
}

// only is a command that takes one parameter of some.
func only(word string, values ...string) command {
	return command{param: true, run: func(v *session, param string) {
		for _, value := range values {
			if strings.EqualFold(param, value) {
				v.reply(200, word+" is "+value)
				return
			}
		}
		v.reply(504, word+" is "+values[0]+" here")
	}}
}

// commands are RFC 959 section 4.1, RFC 2428, RFC 2389 and RFC 3659: nothing that makes, renames or removes anything.
var commands map[string]command

func init() {
	commands = map[string]command{
		"USER": {always: true, param: true, run: (*session).userIs},
		"PASS": {always: true, run: (*session).passwordIs},
		"QUIT": {always: true, run: func(v *session, _ string) { v.end(221, "goodbye") }},
		"NOOP": {always: true, run: func(v *session, _ string) { v.reply(200, "still here") }},
		"SYST": {always: true, run: func(v *session, _ string) { v.reply(215, "UNIX Type: L8") }},
		"HELP": {always: true, run: func(v *session, _ string) {
			v.reply(214, "RETR fetches a staged file; STOR leaves one for which a slot is open")
		}},
		"FEAT": {always: true, run: func(v *session, _ string) {
			v.reply(211, "served here:\n"+strings.Join(features, "\n")+"\nthat is all")
		}},
		"OPTS": {always: true, param: true, run: func(v *session, param string) {
			if strings.EqualFold(param, "UTF8 ON") {
				v.reply(200, "names are in UTF-8")
				return
			}
			v.reply(501, "only UTF8 ON")
		}},
		"PWD": says(257, `"/"`), "XPWD": says(257, `"/"`),
		"CWD": {param: true, run: (*session).changeFolder}, "CDUP": says(200, "there is one folder"),
		"TYPE": {param: true, run: (*session).typeIs},
		"MODE": only("MODE", "S"), "STRU": only("STRU", "F"),
		"ALLO": {param: true, run: (*session).allocate},
		"REST": {param: true, run: (*session).restart},
		"PASV": {run: func(v *session, _ string) { v.passive(false) }},
		"EPSV": {run: (*session).extendedPassive},
		"PORT": {param: true, run: func(v *session, param string) { v.active(param, portOf) }},
		"EPRT": {param: true, run: func(v *session, param string) { v.active(param, extendedPortOf) }},
		"ABOR": {run: (*session).abort},
		"STAT": {run: (*session).status},
		"SIZE": {param: true, run: (*session).sizeOf},
		"MDTM": {param: true, run: (*session).modifiedAt},
		"MLST": {run: (*session).facts},
		"RETR": {param: true, run: (*session).retrieve},
		"STOR": {param: true, run: (*session).store},
		"LIST": {run: func(v *session, _ string) { v.list("LIST", longLine) }},
		"NLST": {run: func(v *session, _ string) { v.list("NLST", func(f offer.File) string { return f.Name }) }},
		"MLSD": {run: func(v *session, _ string) {
			v.list("MLSD", func(f offer.File) string { return factsOf(f) + " " + f.Name })
		}},
	}
}

var features = []string{"EPRT", "EPSV", "MDTM", "MLST type*;size*;modify*;perm*;", "REST STREAM", "SIZE", "UTF8"}

func (v *session) userIs(user string) {
	v.user, v.loggedIn = user, false
	v.reply(331, "the password, please")
}

func (v *session) passwordIs(password string) {
	if v.loggedIn = v.s.isLogin(v.user, password); v.loggedIn {
		v.conn.Settled()
		v.reply(230, "go ahead")
		return
	}
	v.say(true, "refused", "a wrong user or password")
	if v.failures++; v.failures == maxFailures {
		v.end(421, "too many wrong passwords")
		return
	}
	v.reply(530, "a wrong user or password")
}

func (v *session) changeFolder(to string) {
	if to == "/" || to == "." || to == ".." {
		v.reply(250, "there is one folder")
		return
	}
	v.reply(550, "there is one folder, /")
}

// typeIs chooses how files are sent. Until a device has said so they go as they are: what devices fetch are images, and
// those that say nothing want them whole.
func (v *session) typeIs(param string) {
	switch strings.ToUpper(param) {
	case "A", "A N":
		v.text = true
		v.reply(200, "text, with CR LF at the end of each line")
	case "I", "L 8", "L8":
		v.text = false
		v.reply(200, "files as they are")
	default:
		v.reply(504, "TYPE is A, I or L 8 here")
	}
}

func number(param string) (int64, bool) {
	n, err := strconv.ParseInt(param, 10, 64)
	return n, err == nil && n >= 0
}

func (v *session) allocate(param string) {
	text, _, _ := strings.Cut(param, " ")
	size, ok := number(text)
	if !ok {
		v.reply(501, "ALLO wants a number of bytes")
		return
	}
	v.size = size
	v.reply(200, fmt.Sprintf("%d bytes are expected", size))
}

// restart takes note of where the next transfer begins. How its data is to move may be said before or after that.
func (v *session) restart(param string) {
	from, ok := number(param)
	if !ok {
		v.reply(501, "REST wants a number of bytes")
		return
	}
	v.from = from
	v.reply(350, fmt.Sprintf("the next transfer begins at %d", from))
}

// abort ends the file that moves (RFC 959 section 4.1.3): its own reply comes first, then ABOR's.
func (v *session) abort(string) {
	if v.moving == nil {
		v.disarrange()
		v.reply(226, "nothing is under way")
		return
	}
	v.moving.cancel()
	v.moved(<-v.moving.done)
	v.reply(226, "broken off")
}

func (v *session) status(param string) {
	switch {
	case v.moving != nil:
		v.reply(213, fmt.Sprintf("%s: %d B so far", v.moving.file, v.moving.bytes.Load()))
	case param == "":
		v.reply(211, fmt.Sprintf("logged in as %s; nothing is under way", plain.Clip(v.user, 40)))
	default:
		v.sizeOf(param)
	}
}

// find finds a staged file, and says when there is none.
func (v *session) find(param string) (offer.File, bool) {
	staged, remark, err := v.s.opt.Stage.Find(param)
	switch {
	case err != nil:
		v.say(true, "refused", err.Error())
		v.reply(550, err.Error())
	case remark != "":
		v.say(true, "remark", staged.Name+" was "+remark)
	}
	return staged, err == nil
}

// sizeOf says how many bytes a fetch would bring (RFC 3659 section 4), which for text is only known once it was read.
func (v *session) sizeOf(param string) {
	staged, ok := v.find(param)
	if !ok {
		return
	}
	size := staged.Size
	if v.text {
		feeds, err := lineFeeds(staged)
		if err != nil {
			v.say(false, "refused", err.Error())
			v.reply(550, "the file cannot be read")
			return
		}
		size += feeds
	}
	v.reply(213, strconv.FormatInt(size, 10))
}

// lineFeeds counts the lines of a file, each of which has a CR more as text.
func lineFeeds(staged offer.File) (n int64, err error) {
	file, err := staged.Open()
	if err != nil {
		return 0, err
	}
	defer file.Close()
	for buffer := make([]byte, 64<<10); ; {
		got, err := file.Read(buffer)
		n += int64(bytes.Count(buffer[:got], []byte{'\n'}))
		if err == io.EOF {
			return n, nil
		}
		if err != nil {
			return n, err
		}
	}
}

// timeFormat is RFC 3659 section 2.3's.
const timeFormat = "20060102150405"

func (v *session) modifiedAt(param string) {
	staged, ok := v.find(param)
	switch {
	case !ok:
	case staged.Modified.IsZero():
		v.reply(550, "not known")
	default:
		v.reply(213, staged.Modified.UTC().Format(timeFormat))
	}
}

// facts answers MLST (RFC 3659 section 7).
func (v *session) facts(param string) {
	line := "type=dir;perm=el; /"
	if param != "" && param != "/" {
		staged, ok := v.find(param)
		if !ok {
			return
		}
		line = factsOf(staged) + " " + staged.Name
	}
	v.reply(250, "as it is staged:\n"+line+"\nthat is all")
}

func factsOf(f offer.File) string {
	facts := fmt.Sprintf("type=file;size=%d;", f.Size)
	if !f.Modified.IsZero() {
		facts += "modify=" + f.Modified.UTC().Format(timeFormat) + ";"
	}
	return facts + "perm=r;"
}

func longLine(f offer.File) string {
	at := "Jan 01  1970"
	if !f.Modified.IsZero() {
		at = f.Modified.UTC().Format("Jan 02  2006")
	}
	return fmt.Sprintf("-r--r--r-- 1 staged staged %12d %s %s", f.Size, at, f.Name)
}
