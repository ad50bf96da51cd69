package deploy_test

import (
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vornix/core/base/fault"
	"vornix/core/config/project"
	"vornix/core/config/trust"
	"vornix/core/ship/deploy"
	"vornix/core/ship/publish"
	"vornix/demo"
)

// A secret that the project names goes nowhere before a person has allowed that: neither when a
// target is looked at nor when a workshop is opened. What a file in the target's folder says
// afterwards does not widen the consent.
func TestNoSecretGoesOutUnasked(t *testing.T) {
	var got []string
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		got = append(got, r.Header.Get("Authorization"))
		http.Error(w, "", http.StatusNotFound)
	}))
	defer server.Close()
	dir, place := t.TempDir(), t.TempDir()
	file := filepath.Join(place, "server.url")
	require.NoError(t, os.WriteFile(file, []byte(server.URL), 0o600))
	secretFile := filepath.Join(dir, "token")
	require.NoError(t, os.WriteFile(secretFile, []byte("file-secret"), 0o600))
	text := `[project]
name = "lanes"
title = "Lanes"
version = "1.0.0"
profile = "burrow-tramways"

[target.box]
kind = "folder"
path = '` + place + `'
server = "server.url"
token_env = "MAKER"

[target.shop]
kind = "workshop"
url = "` + server.URL + `"
token_env = "MAKER"

[target.filed]
kind = "workshop"
url = "` + server.URL + `"
token_file = "token"
`
	require.NoError(t, os.WriteFile(filepath.Join(dir, project.FileName), []byte(text), 0o600))
	p, err := project.Load(dir, demo.Profiles())
	require.NoError(t, err)
	env := func(name string) string { return map[string]string{"MAKER": "env-secret"}[name] }
	look := func(c trust.Checker) *deploy.State {
		return deploy.Look(t.Context(), p, "box", deploy.Access{Env: env, Trust: c}, false)
	}
	open := func(target string, c trust.Checker) error {
		_, err := publish.Open(t.Context(), p, target, publish.Access{Env: env, Trust: c})
		return err
	}
	st := look(nil)
	assert.Contains(t, st.Asked, "which has not been allowed")
	for _, target := range []string{"shop", "filed"} {
		assert.Equal(t, fault.Refused, fault.KindOf(open(target, nil)), target)
	}
	assert.Empty(t, got, "nothing was asked")

	store := trust.Store{File: filepath.Join(t.TempDir(), "trusted.json")}
	want, err := trust.All(t.Context(), p, "")
	require.NoError(t, err)
	require.NoError(t, store.Allow(p, want))
	look(store.Missing)
	require.Equal(t, []string{"Bearer env-secret"}, got)
	assert.NotEqual(t, fault.Refused, fault.KindOf(open("filed", store.Missing)))
	assert.Equal(t, "Bearer file-secret", got[len(got)-1])

	got = nil
	other := httptest.NewServer(server.Config.Handler)
	defer other.Close()
	require.NoError(t, os.WriteFile(file, []byte(other.URL), 0o600))
	assert.Contains(t, look(store.Missing).Asked, "which has not been allowed")
	require.NoError(t, os.WriteFile(file, []byte("http://depot.example:8080"), 0o600))
	assert.Contains(t, look(trust.Everything).Asked, "where others can read it",
		"over plain HTTP a secret reaches this machine only")
	assert.Empty(t, got)

	// A server that sends the client on does not get the token there.
	on := httptest.NewServer(http.RedirectHandler(other.URL, http.StatusTemporaryRedirect))
	defer on.Close()
	require.NoError(t, os.WriteFile(file, []byte(on.URL), 0o600))
	look(trust.Everything)
	assert.Empty(t, got)
}
