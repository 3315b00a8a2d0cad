package secret

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/zalando/go-keyring"
)

func TestASecretComesFromItsSource(t *testing.T) {
	keyring.MockInit()
	require.NoError(t, keyring.Set("hollow-gw1", "harbour", "lamp-and-tide"))
	t.Setenv("PILOTRIX_TEST", "lamp-and-tide")
	path := filepath.Join(t.TempDir(), "password")
	require.NoError(t, os.WriteFile(path, []byte("lamp-and-tide\r\n"), 0o600))
	for _, source := range []string{"env:PILOTRIX_TEST", "file:" + path, "command:printf 'lamp-and-tide\\r\\nmore\\n'", "keyring:hollow-gw1/harbour"} {
		require.NoError(t, Check(source))
		value, err := Read(source)
		require.NoError(t, err, source)
		assert.Equal(t, "lamp-and-tide", value, source)
	}
}

func TestWhatIsNoSourceIsNotQuoted(t *testing.T) {
	keyring.MockInit()
	for source, want := range map[string]string{
		"lamp-and-tide": "want env:VARIABLE", "lamp:tide": "want env:VARIABLE", "": "want env:VARIABLE", "env": "the variable  is not set", "env:PILOTRIX_NOWHERE": "PILOTRIX_NOWHERE is not set",
		"file:/nowhere/password": "/nowhere/password", "command:exit 3": "exit status 3", "command:true": "printed nothing", "keyring:alone": "want keyring:SERVICE/USER", "keyring:none/harbour": "has none for harbour at none",
	} {
		value, err := Read(source)
		require.ErrorContains(t, err, want, source)
		assert.Empty(t, value)
		assert.NotContains(t, err.Error(), "lamp-and-tide")
	}
	for _, source := range []string{"lamp-and-tide", "env", "lamp:tide", ""} {
		require.Error(t, Check(source), source)
	}
	assert.Equal(t, "k=env:VARIABLE, k=file:PATH, k=command:COMMAND or k=keyring:SERVICE/USER", Sources("k="))
}
