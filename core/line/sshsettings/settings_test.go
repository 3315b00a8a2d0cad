package sshsettings

import (
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// drawn makes settings at random, spelt as people spell them.
type drawn struct {
	*rand.Rand
	folder string
}

func (d drawn) of(all ...string) string { return all[d.IntN(len(all))] }

func (d drawn) setting() string {
	key, value := "", ""
	switch d.IntN(16) {
	case 0:
		key, value = "HostName", d.of("192.0.2.41", "%h.orsholm.example", "quay", "%%h")
	case 1:
		key, value = "Port", d.of("22", "2222", "22022")
	case 2, 3:
		key, value = "User", d.of("harbour", "root", "keeper")
	case 4, 5:
		key, value = "IdentityFile", d.of("~/.ssh/id_quay", "/keys/%h", `"/keys/with blank"`, "none", `/keys/a\ b`,
			"~/.ssh/id_quay")
	case 6:
		key, value = "IdentitiesOnly", d.of("yes", "no", "true")
	case 7:
		key, value = "StrictHostKeyChecking", d.of("yes", "no", "ask", "accept-new", "off")
	case 8:
		key, value = "UserKnownHostsFile", d.of("/dev/null", "~/.ssh/kh /keys/kh", `"/a b" c`)
	case 9:
		key, value = "ProxyJump", d.of("none", "gate", "keeper@gate:2222", "a,b")
	case 10:
		key, value = "ProxyCommand", d.of("none", "nc %h %p", `sh -c "exec nc %h %p" # x`)
	case 11:
		key, value = "HostKeyAlias", d.of("light", "quay1")
	case 12:
		key, value = d.of("PasswordAuthentication", "KbdInteractiveAuthentication", "PubkeyAuthentication"), d.of("yes",
			"no")
	case 13:
		key, value = "PreferredAuthentications", d.of("password", "publickey,password")
	case 14:
		key, value = "NumberOfPasswordPrompts", d.of("1", "5")
	default:
		key, value = d.of("ForwardAgent", "Compression", "ControlMaster"), d.of("yes", "no")
	}
	if d.IntN(3) == 0 {
		key = strings.ToLower(key)
	}
	if raw[strings.ToLower(key)] {
		return d.of("", "  ", "\t") + key + " " + value
	}
	return d.of("", "  ", "\t") + key + d.of(" ", "=", " = ", "\t") + value + d.of("", "", " ", " # a word")
}

func (d drawn) head() string {
	names := func() string { return d.of("quay", "light", "*", "q*", "?uay", "!quay", "*.example", "q*y") }
	switch d.IntN(7) {
	case 0, 1, 2:
		text := "Host " + names()
		for range d.IntN(3) {
			text += " " + names()
		}
		return text
	case 3:
		return "Match all"
	case 4:
		return "Match " + d.of("", "!") + d.of("host", "originalhost") + " " + names() + d.of("", ","+names())
	case 5:
		return "Match " + d.of("user", "localuser", "!user") + " " + d.of("harbour", "root,keeper", "r*") + d.of("",
			" host "+names())
	default:
		return "Match " + d.of("", "!") + `exec "` + d.of("true", "false", "test %h = quay",
			"test %r = root") + `"` + d.of("", " host "+names())
	}
}

func (d drawn) file(name string, depth int) string {
	var lines []string
	for range d.IntN(12) {
		switch n := d.IntN(12); {
		case n < 3:
			lines = append(lines, d.head())
		case n == 3 && depth < 2:
			lines = append(lines, `Include "`+d.file(fmt.Sprintf("%s-%d", name, len(lines)), depth+1)+`"`)
		case n == 4:
			lines = append(lines, d.of("", "# a word", "   "))
		default:
			lines = append(lines, d.setting())
		}
	}
	path := filepath.Join(d.folder, name)
	_ = os.WriteFile(path, []byte(strings.Join(lines, "\n")+"\n"), 0o600)
	return path
}

// compared are what both sides say of a host, by the names that the client prints them under.
func compared(s *Settings) map[string][]string {
	own, _ := s.KnownHosts()
	keys := s.lists["identityfile"]
	if keys == nil {
		for _, name := range defaultKeys {
			keys = append(keys, "~/.ssh/"+name)
		}
	}
	truth := func(key string, otherwise bool) []string {
		return []string{map[bool]string{true: "yes", false: "no"}[s.Is(key, otherwise)]}
	}
	some := func(text string) []string {
		if text == "" {
			return nil
		}
		return []string{text}
	}
	strict := map[string]string{"": "ask", "yes": "true", "no": "false", "off": "false"}
	value := strings.ToLower(s.Get("stricthostkeychecking"))
	if short, ok := strict[value]; ok {
		value = short
	}
	return map[string][]string{
		"hostname": {
			strings.ToLower(s.HostName()),
		},
		"port":                         {s.Port()},
		"user":                         {s.User()},
		"identityfile":                 keys,
		"identitiesonly":               truth("identitiesonly", false),
		"userknownhostsfile":           own,
		"stricthostkeychecking":        {value},
		"proxyjump":                    some(s.Jump()),
		"proxycommand":                 some(s.Command()),
		"hostkeyalias":                 some(s.Get("hostkeyalias")),
		"passwordauthentication":       truth("passwordauthentication", true),
		"kbdinteractiveauthentication": truth("kbdinteractiveauthentication", true),
		"preferredauthentications":     some(s.Get("preferredauthentications")),
		"numberofpasswordprompts":      {fmt.Sprint(s.Prompts())},
	}
}

// passwdHome is this user's folder as the system's list has it.
func passwdHome(t *testing.T) string {
	out, err := exec.Command("getent", "passwd", fmt.Sprint(os.Getuid())).Output()
	require.NoError(t, err)
	return strings.Split(string(out), ":")[5]
}

// TestSettingsAreReadAsTheClientReadsThem draws files, and holds what is read of them to what OpenSSH's own client
// prints.
func TestSettingsAreReadAsTheClientReadsThem(t *testing.T) {
	if _, err := exec.LookPath("ssh"); err != nil {
		t.Fatal("no ssh here; ./dev/test installs it")
	}
	home := passwdHome(t) // the client does not ask the environment
	read := 0
	for seed := range uint64(400) {
		d := drawn{rand.New(rand.NewPCG(seed, 11)), t.TempDir()}
		path := d.file("config", 0)
		asked := Asked{
			Name: d.of("quay", "light", "quay.example", "q"),
			User: d.of("", "", "keeper"),
			Port: d.of("", "", "2022"),
			Home: home,
		}
		args := []string{"-G", "-F", path}
		if asked.User != "" {
			args = append(args, "-l", asked.User)
		}
		if asked.Port != "" {
			args = append(args, "-p", asked.Port)
		}
		var said strings.Builder
		client := exec.Command("ssh", append(args, asked.Name)...)
		client.Stderr = &said
		out, failed := client.Output()
		s, err := Read(asked, path)
		text, _ := exec.Command("sh", "-c", "cd \"$1\"; tail -n +1 *", "sh", d.folder).Output()
		what := fmt.Sprintf("seed %d, %+v:\n%s\nthe client: %s", seed, asked, text, said.String())
		if failed != nil {
			require.Error(t, err, what)
			continue
		}
		require.NoError(t, err, what)
		read++
		theirs := map[string][]string{}
		for line := range strings.Lines(string(out)) {
			key, value, _ := strings.Cut(strings.TrimSpace(line), " ")
			theirs[key] = append(theirs[key], value)
		}
		for key, ours := range compared(s) {
			if key == "userknownhostsfile" {
				ours = []string{strings.Join(ours, " ")}
			}
			require.Equal(t, theirs[key], slices.Clone(ours), "%s, %s", key, what)
		}
	}
	assert.Greater(t, read, 200)
}

// TestWhatIsNotCarriedOutIsNamed with its file and line, where it counts for this host.
func TestWhatIsNotCarriedOutIsNamed(t *testing.T) {
	for line, want := range map[string]string{
		"Canonicalizehostname yes": "is not carried out here", "RemoteCommand uptime": "remotecommand is not carried out here", "PKCS11Provider /x.so": "is not carried out here",
		"HostNmae x": "is not understood here", "Match tagged x": "of Match, all, host", "Match final": "of Match, all, host", `User "x`: "a quote without an end", "User": "nothing behind it",
		"StrictHostKeyChecking perhaps": "has a value that is not known", "User a b": "more behind it", "Match host": "ends before the value", "RequestTTY no": "is not carried out here",
		"KnownHostsCommand /x": "knownhostscommand is not carried out here",
	} {
		path := filepath.Join(t.TempDir(), "config")
		require.NoError(t,
			os.WriteFile(path, []byte("Host other\n  RemoteCommand uptime\nHost quay\n"+line+"\n"), 0o600))
		_, err := Read(Asked{Name: "quay", Home: t.TempDir()}, path)
		require.ErrorContains(t, err, want, line)
		assert.ErrorContains(t, err, path+" line 4", line)
	}
	path := filepath.Join(t.TempDir(), "config")
	require.NoError(t,
		os.WriteFile(path,
			[]byte("IgnoreUnknown Odd*\nOddThing x\nCanonicalizeHostname no\nRemoteCommand none\nInclude nothing/*\nForwardAgent yes\n"),
			0o600))
	_, err := Read(Asked{Name: "quay", Home: t.TempDir()}, path, "/nowhere")
	assert.NoError(t, err)
}

func TestWhatStandsForNames(t *testing.T) {
	t.Setenv("QUAY", "harbour")
	s := &Settings{
		Asked: Asked{Name: "quay", Home: "/h"},
		values: map[string]string{
			"hostname":     "192.0.2.41",
			"port":         "2222",
			"user":         "keeper",
			"proxycommand": "nc %h %p %n %r %%",
		},
	}
	assert.Equal(t, "/h/.ssh/192.0.2.41-keeper-2222-quay-harbour-%", s.Path("~/.ssh/%h-%r-%p-%n-${QUAY}-%%"))
	assert.Equal(t, "/h/x", s.Path("%d/x"))
	assert.Equal(t, "nc 192.0.2.41 2222 quay keeper %", s.CommandLine())
}

// FuzzRead looks for a file that is read to no end, or makes it fail.
func FuzzRead(f *testing.F) {
	f.Add("Host a !b\n User=\"x\" # y\nMatch host a,b user c\nInclude x\n")
	f.Fuzz(func(t *testing.T, text string) {
		if strings.Contains(strings.ToLower(text), "exec") || strings.Contains(strings.ToLower(text), "include") {
			return // nothing is run, or read, that nobody wrote
		}
		path := filepath.Join(t.TempDir(), "config")
		require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
		s, err := Read(Asked{Name: "quay", Home: "/h"}, path)
		if err == nil {
			_, _ = s.Keys()
			_ = s.HostName() + s.CommandLine()
		}
	})
}
