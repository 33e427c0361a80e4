package safe_test

import (
	"bytes"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"insegna.example/internal/safe"
)

func key(b byte) string { return base64.StdEncoding.EncodeToString(bytes.Repeat([]byte{b}, 32)) }

func open(t *testing.T, text string) *safe.Safe {
	v, err := safe.FromText(text, "test")
	require.NoError(t, err)
	return v
}

// TestWhatIsEncryptedIsReadOnlyAsItWas changes every byte, the purpose and the key.
func TestWhatIsEncryptedIsReadOnlyAsItWas(t *testing.T) {
	v := open(t, key(1))
	encrypted, err := v.Encrypt(safe.Secret("the key of the harbour"), "account 7")
	require.NoError(t, err)
	again, err := v.Encrypt(safe.Secret("the key of the harbour"), "account 7")
	require.NoError(t, err)
	assert.NotEqual(t, encrypted, again, "the same secret never looks the same twice")
	assert.NotContains(t, string(encrypted), "harbour")
	got, err := v.Decrypt(encrypted, "account 7")
	require.NoError(t, err)
	assert.Equal(t, "the key of the harbour", string(got))

	_, err = v.Decrypt(encrypted, "account 8")
	require.ErrorIs(t, err, safe.ErrDecrypt, "it cannot stand in for another")
	for i := range encrypted {
		changed := bytes.Clone(encrypted)
		changed[i] ^= 1
		_, err := v.Decrypt(changed, "account 7")
		require.Error(t, err, i)
		_, err = v.Decrypt(encrypted[:i], "account 7")
		require.ErrorIs(t, err, safe.ErrDecrypt, i)
	}
	_, err = open(t, key(2)).Decrypt(encrypted, "account 7")
	var missing *safe.MissingError
	require.ErrorAs(t, err, &missing)
	assert.Equal(t, v.Key(), missing.Key)
}

// TestAKeyIsReplacedWithoutLosingWhatItEncrypted puts a new key in front.
func TestAKeyIsReplacedWithoutLosingWhatItEncrypted(t *testing.T) {
	old := open(t, key(1))
	encrypted, err := old.Encrypt(safe.Secret("x"), "p")
	require.NoError(t, err)
	both := open(t, key(2)+"\n"+key(1)+"\n")
	assert.NotEqual(t, old.Key(), both.Key())
	got, err := both.Decrypt(encrypted, "p")
	require.NoError(t, err)
	assert.Equal(t, "x", string(got))
	fresh, err := both.Encrypt(safe.Secret("y"), "p")
	require.NoError(t, err)
	_, err = old.Decrypt(fresh, "p")
	assert.Error(t, err, "the new key encrypts")
}

func TestTheKeyFile(t *testing.T) {
	path := filepath.Join(t.TempDir(), "safe.key")
	_, err := safe.FromFile(path, false)
	require.ErrorContains(t, err, "is missing, and the database holds what was encrypted with it; put the file back")
	v, err := safe.FromFile(path, true)
	require.NoError(t, err)
	st, err := os.Stat(path)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), st.Mode())
	again, err := safe.FromFile(path, true)
	require.NoError(t, err)
	assert.Equal(t, v.Key(), again.Key(), "a key that is there stays")
	text, err := os.ReadFile(path)
	require.NoError(t, err)
	require.NoError(t, os.Chmod(path, 0o640))
	_, err = safe.FromFile(path, true)
	require.ErrorContains(t, err, "may be read by others (mode 0640); chmod 600 "+path)
	assert.NotContains(t, err.Error(), strings.TrimSpace(string(text)))
	_, err = safe.FromFile("/no/such/folder/key", true)
	require.ErrorContains(t, err, "cannot be made")
	for _, bad := range []string{"", " \n", "x", key(1)[:40], key(1) + " " + "x"} {
		_, err := safe.FromText(bad, "INSEGNA_SAFE_KEY")
		var ke *safe.KeyError
		require.ErrorAs(t, err, &ke, bad)
		assert.Contains(t, err.Error(), "openssl rand -base64 32")
		assert.NotContains(t, err.Error(), key(1)[:40])
	}
}

// TestASecretIsNeverShownByChance prints, logs and encodes one in every way.
func TestASecretIsNeverShownByChance(t *testing.T) {
	s := safe.Secret("harbour")
	held := struct {
		Key  safe.Secret
		List []safe.Secret
	}{s, []safe.Secret{s}}
	var log bytes.Buffer
	slog.New(slog.NewTextHandler(&log, nil)).Info("x", "key", s, "held", held)
	slog.New(slog.NewJSONHandler(&log, nil)).Info("x", "key", s, "held", held)
	js, err := json.Marshal(held)
	require.NoError(t, err)
	all := log.String() + string(js) + fmt.Sprint(s, held) + fmt.Sprintf("%s %v %+v %#v %x %q %d", s, held, held,
		held, s, s, s)
	assert.NotContains(t, all, "harbour")
	assert.NotContains(t, all, "686172626f7572")
	assert.NotContains(t, all, "104")
	assert.Contains(t, all, "(secret)")
}
