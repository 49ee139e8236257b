package site

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const withDatabase = `site: S
intent: {stage: live}
sources:
  settings: {dialect: brindle, root: ".", hosts: [db.internal.example], databases: {main: {user: looker, password: "PASSWORD"}}, token: "TOKEN", api: https://api.name.example}
`

func TestSecretsStandElsewhere(t *testing.T) {
	dir := t.TempDir()
	parse := func(password, token string) (*Site, error) {
		text := []byte(withDatabase)
		for mark, value := range map[string]string{"PASSWORD": password, "TOKEN": token} {
			text = []byte(replace(string(text), mark, value))
		}
		return Parse(filepath.Join(dir, FileName), text)
	}
	t.Setenv("LOOKER", "MARKED-1")
	require.NoError(t, os.WriteFile(filepath.Join(dir, "token"), []byte(" MARKED-2 \nmore\n"), 0o600))
	s, err := parse("${LOOKER}", "file:token")
	require.NoError(t, err)
	password, err := s.Reveal(s.Sources.Settings.Databases["main"].Password)
	require.NoError(t, err)
	assert.Equal(t, "MARKED-1", password)
	token, err := s.Reveal(s.Sources.Settings.Token)
	require.NoError(t, err)
	assert.Equal(t, "MARKED-2", token, "the first line, trimmed")
	none, err := s.Reveal(Secret{})
	require.NoError(t, err)
	assert.Empty(t, none)

	_, err = parse("hunter", "file:token")
	assert.ErrorContains(t, err, "line 4")
	assert.ErrorContains(t, err, "a secret does not stand in the site file")
	assert.NotContains(t, err.Error(), "hunter")
	s, err = parse("${NOT_SET_ANYWHERE}", "file:none")
	require.NoError(t, err)
	_, err = s.Reveal(s.Sources.Settings.Databases["main"].Password)
	assert.ErrorContains(t, err, "NOT_SET_ANYWHERE is not set")
	_, err = s.Reveal(s.Sources.Settings.Token)
	assert.ErrorContains(t, err, "the secret's file none cannot be read")
}

func replace(text, old, new string) string {
	for i := 0; i+len(old) <= len(text); i++ {
		if text[i:i+len(old)] == old {
			return text[:i] + new + text[i+len(old):]
		}
	}
	return text
}

func TestValuesToCarryOver(t *testing.T) {
	write := func(text string) string {
		file := filepath.Join(t.TempDir(), "kept.yaml")
		require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
		return file
	}
	values, err := LoadValues(write("values:\n  cache.page: \"yes\"\n  upload.types: [jpg, png]\n  feed.items: 20\n"))
	require.NoError(t, err)
	assert.Equal(t, map[string]string{"cache.page": "yes", "upload.types": "jpg, png", "feed.items": "20"}, values)
	for text, want := range map[string]string{
		"values: {cache.paeg: x}": `there is no setting "cache.paeg" (did you mean "cache.page"?)`, "valeus: {}": "is not known here", "": "is empty", "values: [": "not valid YAML",
	} {
		_, err := LoadValues(write(text))
		assert.ErrorContains(t, err, want)
	}
	_, err = LoadValues("nowhere.yaml")
	assert.ErrorIs(t, err, os.ErrNotExist)
}
