// Package inventory is the file of the devices that an engineer keeps: where each is reached and how it talks. It is
// YAML of ours, meant to be edited by hand as well as by the program: a change by the program touches the lines of
// that device and leaves all else as it was written.
package inventory

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"github.com/adrg/xdg"

	"pilotrix/core/line"
	"pilotrix/core/ownfile"
	"pilotrix/core/secret"
	"pilotrix/core/source"
)

// Document is the file.
type Document struct {
	Devices []Device `yaml:"devices" jsonschema_description:"The devices that are kept"`
}

// Device is one that is kept.
type Device struct {
	Device   string `yaml:"device" jsonschema:"required" jsonschema_description:"The name it is called by"`
	Place    string `yaml:"place,omitempty" jsonschema_description:"Where it stands, in words"`
	Target   string `yaml:"target" jsonschema:"required" jsonschema_description:"What a line is opened to, such as ssh://harbour@192.0.2.41 or serial:/dev/ttyUSB0?speed=9600"`
	Dialect  string `yaml:"dialect,omitempty" jsonschema_description:"How it talks: a dialect's name or file; found out on the console unless said"`
	Identity string `yaml:"identity,omitempty" jsonschema_description:"What its dialect reads as its identity, such as its name or serial number; the program keeps it when it has read it"`
	Password string `yaml:"password,omitempty" jsonschema_description:"Where the password of a shell session comes from, such as env:VARIABLE; never the password itself"`
}

// Inventory is a loaded file.
type Inventory struct {
	Document
	path string
	text string
}

// nameForm is what a device may be called: it is typed on command lines.
var nameForm = regexp.MustCompile(`^[\pL\pN][\pL\pN._-]*$`)

// Usual is the path of the file that is used unless another is said.
func Usual() string { return filepath.Join(xdg.ConfigHome, "pilotrix", "devices.yaml") }

// Load reads a file. One that is not there holds no device.
func Load(path string) (*Inventory, error) {
	data, err := ownfile.Read(path)
	if errors.Is(err, fs.ErrNotExist) {
		return &Inventory{path: path}, nil
	}
	if err != nil {
		return nil, err
	}
	return Parse(path, data)
}

// Parse checks a text; name is used in complaints.
func Parse(name string, data []byte) (*Inventory, error) {
	i := &Inventory{path: name, text: string(data)}
	if strings.TrimSpace(uncommented(i.text)) == "" {
		return i, nil
	}
	f, err := source.Decode(name, data, &i.Document)
	if err != nil {
		return nil, err
	}
	seen := map[string]bool{}
	for at, d := range i.Devices {
		check(f, fmt.Sprintf("devices[%d]", at), d, seen)
	}
	return i, f.Err()
}

func uncommented(text string) string {
	var kept []string
	for row := range strings.Lines(text) {
		if !strings.HasPrefix(strings.TrimSpace(row), "#") {
			kept = append(kept, row)
		}
	}
	return strings.Join(kept, "")
}

func check(f *source.File, path string, d Device, seen map[string]bool) {
	for _, wrong := range d.Check() {
		f.Complain(path+"."+wrong.Key, "%s", wrong.Text)
	}
	if seen[d.Device] && d.Device != "" {
		f.Complain(path+".device", "device %q is there twice", d.Device)
	}
	seen[d.Device] = true
}

// Wrong is something that is wrong with one value of a device.
type Wrong struct{ Key, Text string }

// Check says what is wrong with a device by itself.
func (d Device) Check() (all []Wrong) {
	if d.Device != "" && !nameForm.MatchString(d.Device) {
		all = append(all,
			Wrong{"device", fmt.Sprintf("%q cannot be a name: want letters, digits, dots, _ and -, such as mare-gw1",
				d.Device)})
	}
	if d.Target != "" {
		if _, err := line.ParseTarget(d.Target); err != nil {
			all = append(all, Wrong{"target", err.Error()})
		}
	}
	if d.Password != "" && secret.Check(d.Password) != nil {
		all = append(all,
			Wrong{"password", "it says where the password comes from, " + secret.Sources("") + ", and is never the password itself"})
	}
	for _, one := range []struct{ key, text string }{{"place", d.Place}, {"dialect", d.Dialect}, {"identity", d.Identity}} {
		if strings.ContainsFunc(one.text, func(r rune) bool { return r < ' ' || r == 0x7f }) {
			all = append(all, Wrong{one.key, "it holds a control character"})
		}
	}
	return all
}

// Find finds a device by its name.
func (i *Inventory) Find(name string) (Device, bool) {
	for _, d := range i.Devices {
		if d.Device == name {
			return d, true
		}
	}
	return Device{}, false
}

// Names lists the devices.
func (i *Inventory) Names() (all []string) {
	for _, d := range i.Devices {
		all = append(all, d.Device)
	}
	return all
}

// Path is where the file is.
func (i *Inventory) Path() string { return i.path }

// Put keeps a device, in the place of the one called before, or at the end for an empty name. The file is written
// whole or not at all, as it is then: what another program has put into it since it was loaded stays.
func (i *Inventory) Put(before string, d Device) error {
	if d.Device == "" || d.Target == "" {
		return errors.New("a device has a name and a target")
	}
	for _, wrong := range d.Check() {
		return fmt.Errorf("%s: %s", wrong.Key, wrong.Text)
	}
	return i.change(before, func(now *Inventory) (string, error) {
		if _, there := now.Find(d.Device); there && d.Device != before {
			return "", fmt.Errorf("device %s is kept already", d.Device)
		}
		if before == "" {
			return now.appended(d.entry()), nil
		}
		return now.replaced(before, d.entry())
	})
}

// Remove forgets a device.
func (i *Inventory) Remove(name string) error {
	return i.change(name, func(now *Inventory) (string, error) { return now.replaced(name, "") })
}

// change writes what is made of the file as it is now, once it is seen to be read back as it should. A device that is
// named must be what it was when the file was loaded.
func (i *Inventory) change(name string, change func(now *Inventory) (text string, err error)) error {
	var kept *Inventory
	err := ownfile.Change(i.path, func(old []byte) ([]byte, error) {
		now := &Inventory{path: i.path}
		var err error
		if old != nil {
			if now, err = Parse(i.path, old); err != nil {
				return nil, err
			}
		}
		was, known := i.Find(name)
		if ok, there := now.Find(name); name != "" && known && (!there || ok != was) {
			return nil, fmt.Errorf("%s: device %s was changed since it was read: nothing is written over that", i.path,
				name)
		}
		text, err := change(now)
		if err != nil {
			return nil, err
		}
		text = strings.TrimLeft(text, "\n")
		if kept, err = Parse(i.path, []byte(text)); err != nil {
			return nil, fmt.Errorf("it would not be read back: %w", err)
		}
		return []byte(text), nil
	})
	if err == nil {
		*i = *kept
	}
	return err
}

// entry is the device as it stands in the file.
func (d Device) entry() string {
	var out strings.Builder
	lead := "- "
	for _, one := range [][2]string{{"device", d.Device}, {"place", d.Place}, {"target", d.Target}, {"dialect", d.Dialect}, {"identity", d.Identity}, {"password", d.Password}} {
		if one[1] != "" {
			fmt.Fprintf(&out, "%s%s: %s\n", lead, one[0], scalar(one[1]))
			lead = "  "
		}
	}
	return out.String()
}

// bare is what YAML reads as the text that it is, without quotes.
var bare = regexp.MustCompile(`^[\pL/][\pL\pN._/@?=&:~+-]*( [\pL\pN._/@~+-]+)*$`)

// scalar writes a text: as it is where that is plain, and else quoted as JSON does, which YAML reads.
func scalar(text string) string {
	if bare.MatchString(text) && !strings.HasSuffix(text, ":") && !strings.Contains(text, ": ") &&
		!strings.EqualFold(text, "null") {
		return text
	}
	var out strings.Builder
	encoder := json.NewEncoder(&out)
	encoder.SetEscapeHTML(false)
	_ = encoder.Encode(text) // a text has no other than this
	return strings.TrimSuffix(out.String(), "\n")
}

// appended is the text with an entry at its end.
func (i *Inventory) appended(entry string) string {
	text := i.text
	if len(i.Devices) == 0 {
		return strings.TrimRight(withoutEmptyList(text), "\n") + "\ndevices:\n" + indented(entry, 2)
	}
	_, _, indent := i.span(len(i.Devices) - 1)
	_, to, _ := i.span(len(i.Devices) - 1)
	rows := lines(text)
	return strings.Join(rows[:to], "") + indented(entry, indent) + strings.Join(rows[to:], "")
}

// withoutEmptyList drops a devices key that holds nothing.
func withoutEmptyList(text string) string {
	var kept []string
	for _, row := range lines(text) {
		if !strings.HasPrefix(row, "devices:") {
			kept = append(kept, row)
		}
	}
	return strings.Join(kept, "")
}

// replaced is the text with an entry in the place of a device's, an empty one for nothing.
func (i *Inventory) replaced(name, entry string) (string, error) {
	at := slices.IndexFunc(i.Devices, func(d Device) bool { return d.Device == name })
	if at < 0 {
		return "", fmt.Errorf("%s keeps no device %q", i.path, name)
	}
	from, to, indent := i.span(at)
	rows := lines(i.text)
	if from < 0 {
		return "", fmt.Errorf("%s: device %s does not begin on a line of its own: edit it by hand", i.path, name)
	}
	text := strings.Join(rows[:from], "") + indented(entry, indent) + strings.Join(rows[to:], "")
	if entry == "" && len(i.Devices) == 1 {
		text = withoutEmptyList(text)
	}
	return text, nil
}

// span is the lines of a device's entry, and the progress indented. Comments between two entries belong to the one
// that follows them.
func (i *Inventory) span(at int) (from, to, indent int) {
	rows := lines(i.text)
	var begins []int
	indent = -1
	inList := false
	for n, row := range rows {
		body := strings.TrimLeft(row, " ")
		depth := len(row) - len(body)
		switch {
		case depth == 0 && strings.HasPrefix(row, "devices:"):
			inList = true
		case inList && strings.HasPrefix(body, "- ") && (indent < 0 || depth == indent):
			indent = depth
			begins = append(begins, n)
		case inList && depth == 0 && strings.TrimSpace(body) != "" && !strings.HasPrefix(body, "#"):
			inList = false
		}
	}
	if len(begins) != len(i.Devices) {
		return -1, len(rows), max(0, indent)
	}
	to = len(rows)
	if at+1 < len(begins) {
		to = begins[at+1]
	} else {
		for n := begins[at] + 1; n < len(rows); n++ {
			if row := rows[n]; strings.TrimSpace(row) != "" && row[0] != ' ' && row[0] != '#' {
				to = n
				break
			}
		}
	}
	for to > begins[at]+1 {
		if row := strings.TrimSpace(rows[to-1]); row != "" && !strings.HasPrefix(row, "#") {
			break
		}
		to--
	}
	return begins[at], to, indent
}

func lines(text string) []string {
	if text != "" && !strings.HasSuffix(text, "\n") {
		text += "\n"
	}
	return slices.Collect(strings.Lines(text))
}

func indented(entry string, by int) string {
	if entry == "" {
		return ""
	}
	var out strings.Builder
	for row := range strings.Lines(entry) {
		out.WriteString(strings.Repeat(" ", by) + row)
	}
	return out.String()
}
