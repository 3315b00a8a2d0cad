package line

import (
	"bytes"
	"crypto/hmac"
	"crypto/sha1" //nolint:gosec // the files have it so
	"encoding/base64"
	"errors"
	"fmt"
	"os"
	"strings"

	"golang.org/x/crypto/ssh"

	"pilotrix/core/line/sshsettings"
)

// knownKey is one line of a file of known hosts (sshd(8), SSH_KNOWN_HOSTS FILE FORMAT).
type knownKey struct {
	file   string
	line   int
	marker string // cert-authority, revoked, or none
	hosts  []string
	key    ssh.PublicKey
}

func (k knownKey) place() string { return fmt.Sprintf("%s, line %d", k.file, k.line) }

// knownKeys are those of all files. A line that is not understood hides no other one: it is reported of where it may
// have been the one that was looked for.
type knownKeys struct {
	all []knownKey
	odd []string // places of lines that are not understood
}

// readKnown reads files; one that is not there has none.
func readKnown(paths []string) (k knownKeys, err error) {
	for _, path := range paths {
		data, err := os.ReadFile(path)
		if errors.Is(err, os.ErrNotExist) {
			continue
		}
		if err != nil {
			return k, err
		}
		for i, line := range bytes.Split(data, []byte("\n")) {
			line = bytes.TrimSpace(line)
			if len(line) == 0 || line[0] == '#' {
				continue
			}
			marker, hosts, key, _, _, err := ssh.ParseKnownHosts(line)
			if err != nil {
				k.odd = append(k.odd, fmt.Sprintf("%s, line %d", path, i+1))
				continue
			}
			k.all = append(k.all, knownKey{path, i + 1, marker, hosts, key})
		}
	}
	return k, nil
}

// of are the keys of a marker that are a host's, by one name of its own.
func (k knownKeys) of(name, marker string) (some []knownKey) {
	for _, one := range k.all {
		if one.marker == marker && one.isOf(name) {
			some = append(some, one)
		}
	}
	return some
}

func (k knownKey) isOf(name string) bool {
	if len(k.hosts) == 1 && strings.HasPrefix(k.hosts[0], "|1|") {
		return hashedAs(k.hosts[0], name)
	}
	return sshsettings.MatchesList(strings.Join(k.hosts, ","), name, true)
}

// hashedAs holds a name to |1|salt|hash, the HMAC-SHA1 of the name.
func hashedAs(text, name string) bool {
	salt, hash, ok := strings.Cut(strings.TrimPrefix(text, "|1|"), "|")
	key, err := base64.StdEncoding.DecodeString(salt)
	want, errHash := base64.StdEncoding.DecodeString(hash)
	if !ok || err != nil || errHash != nil {
		return false
	}
	sum := hmac.New(sha1.New, key)
	sum.Write([]byte(strings.ToLower(name)))
	return hmac.Equal(sum.Sum(nil), want)
}

func sameKey(a, b ssh.PublicKey) bool { return bytes.Equal(a.Marshal(), b.Marshal()) }
