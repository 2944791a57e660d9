package client_test

import (
	"context"
	"errors"
	"net/http"
	"net/http/httptest"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vinescale/internal/client"
)

func get(t *testing.T, answer http.HandlerFunc) (map[string]any, error) {
	server := httptest.NewServer(answer)
	t.Cleanup(server.Close)
	c, err := client.New(server.URL+"/", "vs_secret")
	require.NoError(t, err)
	var out map[string]any
	return out, c.Get(context.Background(), "/api/v1/hosts", nil, &out)
}

func TestGet_AProblemIsToldInTheServicesWords(t *testing.T) {
	_, err := get(t, func(w http.ResponseWriter, r *http.Request) {
		assert.Equal(t, "Bearer vs_secret", r.Header.Get("Authorization"))
		assert.Equal(t, "/api/v1/hosts", r.URL.Path)
		w.WriteHeader(422)
		w.Write(
			[]byte(
				`{"title":"Unprocessable Entity","detail":"validation failed","errors":` +
					`[{"message":"expected one of cpu, memory","location":"query.of"}]}`))
	})
	var p *client.Problem
	require.True(t, errors.As(err, &p))
	assert.Equal(t, 422, p.Status)
	assert.Equal(t, "validation failed\n  query.of: expected one of cpu, memory", err.Error())
}

func TestGet_SomethingElseAtTheAddressIsRecognised(t *testing.T) {
	_, err := get(t, func(w http.ResponseWriter, _ *http.Request) {
		w.WriteHeader(404)
		w.Write([]byte("<html>not here"))
	})
	assert.ErrorContains(t, err, "404")
	_, err = get(t, func(w http.ResponseWriter, _ *http.Request) { w.Write([]byte("<html>welcome")) })
	assert.ErrorContains(t, err, "is it a vinescale service of the same version?")
	_, err = get(t, func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Length", "100")
		w.Write([]byte("{"))
	})
	assert.ErrorContains(t, err, "broke off")
}

func TestNew_AnAddressThatIsNone(t *testing.T) {
	for _, address := range []string{"", "cellar-1", "127.0.0.1:7470", "ftp://x", "http://", "://"} {
		_, err := client.New(address, "")
		assert.ErrorContains(t, err, "http://HOST:PORT", "%q", address)
	}
}
