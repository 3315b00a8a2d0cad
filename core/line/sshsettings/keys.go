package sshsettings

import (
	"cmp"
	"slices"
	"strconv"
	"strings"
)

// What a setting is to us.
const (
	one           = iota // its first value counts
	listed               // all values of the first line count
	added                // each line adds one
	passedOver           // it changes nothing of what is done here
	refusedUnless        // it would change something, and is not carried out
)

// raw are commands: all that follows, as it stands.
var raw = map[string]bool{
	"proxycommand":      true,
	"proxyjump":         true,
	"localcommand":      true,
	"remotecommand":     true,
	"knownhostscommand": true,
}

// keys are the settings of ssh_config(5), and what each is to us.
var keys = map[string]int{
	"hostname":                        one,
	"port":                            one,
	"user":                            one,
	"identitiesonly":                  one,
	"identityagent":                   one,
	"stricthostkeychecking":           one,
	"hostkeyalias":                    one,
	"passwordauthentication":          one,
	"kbdinteractiveauthentication":    one,
	"challengeresponseauthentication": one,
	"pubkeyauthentication":            one,
	"preferredauthentications":        one,
	"numberofpasswordprompts":         one,
	"connecttimeout":                  one,
	"hostkeyalgorithms":               one,
	"kexalgorithms":                   one,
	"ciphers":                         one,
	"macs":                            one,
	"pubkeyacceptedalgorithms":        one,
	"pubkeyacceptedkeytypes":          one,
	"bindaddress":                     one,
	"addressfamily":                   one,
	"batchmode":                       one,
	"hashknownhosts":                  one,
	"userknownhostsfile":              listed,
	"globalknownhostsfile":            listed,
	"identityfile":                    added,
	"certificatefile":                 added,

	"canonicalizehostname": refusedUnless,
	"bindinterface":        refusedUnless,
	"proxyusefdpass":       refusedUnless,
	"revokedhostkeys":      refusedUnless,
	"pkcs11provider":       refusedUnless,
	"securitykeyprovider":  refusedUnless,
	"requesttty":           refusedUnless,
	"sessiontype":          refusedUnless,
	"requiredrsasize":      passedOver,
}

// harmless are the values with which a setting that is not carried out changes nothing here.
var harmless = map[string][]string{
	"canonicalizehostname": {
		"no",
		"false",
	},
	"proxyusefdpass":      {"no", "false"},
	"revokedhostkeys":     {"none"},
	"pkcs11provider":      {"none"},
	"securitykeyprovider": {"internal"},
	"requesttty":          {"yes", "true", "auto", "force"},
	"sessiontype":         {"default"},
}

// choices are the values that a setting may have.
var choices = map[string][]string{
	"stricthostkeychecking":           {"yes", "true", "no", "false", "off", "ask", "accept-new"},
	"identitiesonly":                  truth,
	"passwordauthentication":          truth,
	"batchmode":                       truth,
	"kbdinteractiveauthentication":    truth,
	"challengeresponseauthentication": truth,
	"pubkeyauthentication":            {"yes", "no", "true", "false", "unbound", "host-bound"},
	"hashknownhosts":                  truth,
	"addressfamily":                   {"any", "inet", "inet6"},
}

var truth = []string{"yes", "no", "true", "false"}

// The rest changes nothing of which host is opened, as whom, with which keys and with which verdict: what is forwarded,
// kept open, logged, shown.
func init() {
	for key := range strings.FieldsSeq(`addkeystoagent canonicaldomains canonicalizefallbacklocal canonicalizemaxdots canonicalizepermittedcnames casignaturealgorithms
		channeltimeout checkhostip clearallforwardings compression compressionlevel connectionattempts controlmaster controlpath controlpersist dynamicforward enableescapecommandline
		enablesshkeysign escapechar exitonforwardfailure fingerprinthash forkafterauthentication forwardagent forwardx11 forwardx11timeout forwardx11trusted gatewayports
		gssapiauthentication gssapidelegatecredentials gssapikeyexchange gssapikexalgorithms gssapiclientidentity gssapirenewalforcesrekey gssapiserveridentity gssapitrustdns
		hostbasedauthentication hostbasedacceptedalgorithms hostbasedkeytypes ipqos kbdinteractivedevices localforward loglevel logverbose nohostauthenticationforlocalhost
		obscurekeystroketiming permitlocalcommand permitremoteopen rekeylimit remoteforward rhostsrsaauthentication rsaauthentication sendenv serveralivecountmax serveraliveinterval setenv
		stdinnull streamlocalbindmask streamlocalbindunlink syslogfacility tag tcpkeepalive keepalive tunnel tunneldevice updatehostkeys useblacklistedkeys usekeychain useprivilegedport
		verifyhostkeydns visualhostkey xauthlocation protocol cipher dsaauthentication fallbacktorsh usersh smartcarddevice afstokenpassing kerberosauthentication kerberostgtpassing warnweakcrypto versionaddendum refuseconnection`) {
		keys[key] = passedOver
	}
	keys["refuseconnection"] = refusedUnless
}

// Get is the value of a setting, empty for none.
func (s *Settings) Get(key string) string { return s.values[key] }

// List are the values of a setting that has several.
func (s *Settings) List(key string) []string { return s.lists[key] }

// Place is where a setting was said.
func (s *Settings) Place(key string) string { return s.places[key] }

// Is reports whether a setting that is yes or no is so; otherwise is what it is where nothing is said.
func (s *Settings) Is(key string, otherwise bool) bool {
	switch strings.ToLower(s.values[key]) {
	case "yes", "true", "unbound", "host-bound":
		return true
	case "no", "false":
		return false
	}
	return otherwise
}

// HostName is the host that is connected to.
func (s *Settings) HostName() string {
	name := cmp.Or(s.values["hostname"], "%h")
	return strings.NewReplacer("%%", "%", "%h", s.Name).Replace(name)
}

const usualPort = "22"

// Port is the port that is connected to.
func (s *Settings) Port() string { return cmp.Or(s.values["port"], usualPort) }

// User is who is logged in as.
func (s *Settings) User() string { return cmp.Or(s.values["user"], loginName()) }

// defaultKeys are the files of keys that are tried where none is named, in their order.
var defaultKeys = []string{"id_rsa", "id_ecdsa", "id_ecdsa_sk", "id_ed25519", "id_ed25519_sk", "id_xmss", "id_dsa"}

// Keys are the files of keys in the order in which they are tried; named is whether somebody named them.
func (s *Settings) Keys() (paths []string, named bool) {
	for _, path := range s.lists["identityfile"] {
		named = true
		if !strings.EqualFold(path, "none") {
			paths = append(paths, s.Path(path))
		}
	}
	if !named {
		for _, name := range defaultKeys {
			paths = append(paths, s.Path("~/.ssh/"+name))
		}
	}
	return paths, named
}

// KnownHosts are the files of known hosts: the user's, of which the first one is written to, then the system's.
func (s *Settings) KnownHosts() (own, global []string) {
	own, global = s.lists["userknownhostsfile"], s.lists["globalknownhostsfile"]
	if own == nil {
		own = []string{"~/.ssh/known_hosts", "~/.ssh/known_hosts2"}
	}
	if global == nil {
		global = []string{"/etc/ssh/ssh_known_hosts", "/etc/ssh/ssh_known_hosts2"}
	}
	none := func(path string) bool { return strings.EqualFold(path, "none") }
	own, global = slices.DeleteFunc(slices.Clone(own), none), slices.DeleteFunc(slices.Clone(global), none)
	for _, paths := range [][]string{own, global} {
		for i := range paths {
			paths[i] = s.Path(paths[i])
		}
	}
	return own, global
}

// Verdicts on a key that is met for the first time.
const (
	Ask     = "ask"
	Refuse  = "yes"
	TakeNew = "accept-new"
)

// Strict is what is done with a key that is met for the first time.
func (s *Settings) Strict() string {
	switch strings.ToLower(s.values["stricthostkeychecking"]) {
	case "yes", "true":
		return Refuse
	case "accept-new", "no", "off", "false":
		return TakeNew
	}
	return Ask
}

// Jump is the way through other hosts, empty for none; Command is the one that leads there instead.
func (s *Settings) Jump() string    { return s.unlessNone("proxyjump") }
func (s *Settings) Command() string { return s.unlessNone("proxycommand") }

func (s *Settings) unlessNone(key string) string {
	if strings.EqualFold(s.values[key], "none") {
		return ""
	}
	return s.values[key]
}

// Prompts is how often a password is asked for.
func (s *Settings) Prompts() int {
	n, err := strconv.Atoi(s.values["numberofpasswordprompts"])
	if err != nil || n < 1 {
		return 3
	}
	return n
}
