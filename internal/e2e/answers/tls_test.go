package answers

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"math/big"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/internal/testkit/live"
)

// selfSigned writes a certificate for 127.0.0.1 and its key into dir.
func selfSigned(t *testing.T, dir string) (cert, key string) {
	t.Helper()
	private, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	about := &x509.Certificate{
		SerialNumber: big.NewInt(1), NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour),
		IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)},
	}
	der, err := x509.CreateCertificate(rand.Reader, about, about, &private.PublicKey, private)
	require.NoError(t, err)
	keyDER, err := x509.MarshalPKCS8PrivateKey(private)
	require.NoError(t, err)
	cert, key = filepath.Join(dir, "cert.pem"), filepath.Join(dir, "key.pem")
	require.NoError(t, os.WriteFile(cert, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}), 0o600))
	require.NoError(t, os.WriteFile(key, pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: keyDER}), 0o600))
	return cert, key
}

func TestTLSOnTheAdminListener(t *testing.T) {
	t.Parallel()
	cert, key := selfSigned(t, t.TempDir())
	s := live.Start(t, map[string]any{"admin.tls_certificate": cert, "admin.tls_key": key})
	require.True(t, strings.HasPrefix(s.AdminURL, "https://"))
	link, err := s.Server.Link(t.Context())
	require.NoError(t, err)
	base, secret, _ := strings.Cut(link, "/sign-in#")
	assert.Equal(t, s.AdminURL, base)
	web := &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{InsecureSkipVerify: true}}}
	defer web.CloseIdleConnections()
	res, err := web.Post(s.AdminURL+"/v1/sessions", "application/json", strings.NewReader(`{"link":"`+secret+`"}`))
	require.NoError(t, err)
	res.Body.Close()
	assert.Equal(t, http.StatusCreated, res.StatusCode)
	assert.Contains(t, res.Header.Get("Set-Cookie"), "__Host-porch_session_")
	assert.Contains(t, res.Header.Get("Set-Cookie"), "Secure")
	assert.NotEmpty(t, res.Header.Get("Strict-Transport-Security"))
}
