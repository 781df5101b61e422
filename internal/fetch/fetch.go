// Package fetch is the one way out: it gets files over HTTP(S), from public addresses unless
// told otherwise, asks for them only where they have changed (RFC 9110, section 13), and tells
// them by their contents.
package fetch

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"os"
	"path/filepath"
	"sync"
	"syscall"
	"time"

	"eastporch/internal/core/addr"
)

// ErrTooLarge means that more came than is taken.
var ErrTooLarge = errors.New("the file is too large")

// A Client gets files over HTTP. It is safe for concurrent use.
type Client struct {
	// Cache is a directory for what was fetched over HTTP, so that it is not
	// fetched again where the server says that it has not changed (RFC 9110). "" keeps
	// nothing.
	Cache string
	// Inside allows fetching from addresses that are not public; InsideKey is the
	// configuration's key that says so, for the error.
	Inside    bool
	InsideKey string

	kept *http.Client // whose connections are kept; nil for none
	got  *sync.Map    // address -> path: what was fetched in this round; nil for none
}

// maxFetched bounds what is fetched over HTTP, in bytes.
const maxFetched = 8 << 30

// Round gives a client that fetches each address once.
func (f *Client) Round() Client {
	other := *f
	other.got = &sync.Map{}
	return other
}

// kept is what is known of a file that was fetched.
type kept struct {
	URL      string `json:"url"`
	ETag     string `json:"etag"`
	Modified string `json:"last_modified"`
	Sum      string `json:"sha256"`
}

// GetOrKept gets a file over HTTP into the cache, unless that has it as it is, and gives
// its path. Where that fails, kept says whether an older one stands at the path.
func (f *Client) GetOrKept(ctx context.Context, address string) (path string, kept bool, err error) {
	path, err = f.Get(ctx, address)
	if err == nil {
		return path, true, nil
	}
	path = f.place(address)
	_, missing := os.Stat(path)
	return path, missing == nil, err
}

// place is where the cache keeps what stands at an address.
func (f *Client) place(address string) string {
	sum := sha256.Sum256([]byte(address))
	return filepath.Join(f.Cache, hex.EncodeToString(sum[:8]))
}

// Get gets a file over HTTP unless the cache has it as it is, and gives its
// path.
func (f *Client) Get(ctx context.Context, address string) (path string, err error) {
	if f.got != nil {
		if path, ok := f.got.Load(address); ok {
			return path.(string), nil
		}
		defer func() {
			if err == nil {
				f.got.Store(address, path)
			}
		}()
	}
	u, err := url.Parse(address)
	if err != nil {
		return "", err
	}
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, address, nil)
	if err != nil {
		return "", err
	}
	dir := f.Cache
	if dir == "" {
		dir = os.TempDir()
	} else if err := os.MkdirAll(dir, 0o755); err != nil {
		return "", err
	}
	path = filepath.Join(dir, filepath.Base(f.place(address)))
	var last kept
	if text, err := os.ReadFile(path + ".json"); err == nil && f.Cache != "" && json.Unmarshal(text, &last) == nil && last.URL == address {
		if _, err := os.Stat(path); err == nil {
			setIf(request.Header, "If-None-Match", last.ETag)
			setIf(request.Header, "If-Modified-Since", last.Modified)
		}
	}
	answer, err := f.client().Do(request)
	if err != nil {
		return "", err
	}
	defer answer.Body.Close()
	switch answer.StatusCode {
	case http.StatusNotModified:
		return path, nil
	case http.StatusOK:
	default:
		return "", fmt.Errorf("%s answered %s", u.Host, answer.Status)
	}
	file, err := os.CreateTemp(dir, "fetching-*")
	if err != nil {
		return "", err
	}
	defer os.Remove(file.Name()) // is gone already where all went well
	sum := sha256.New()
	n, err := io.Copy(io.MultiWriter(file, sum), io.LimitReader(answer.Body, maxFetched+1))
	if err = errors.Join(err, file.Close()); err != nil {
		return "", err
	}
	if n > maxFetched {
		return "", fmt.Errorf("%w: more than %d MB", ErrTooLarge, maxFetched>>20)
	}
	if answer.ContentLength >= 0 && n != answer.ContentLength {
		return "", fmt.Errorf("%s sent %d bytes of %d", u.Host, n, answer.ContentLength)
	}
	now := kept{address, answer.Header.Get("ETag"), answer.Header.Get("Last-Modified"), hex.EncodeToString(sum.Sum(nil))}
	text, _ := json.Marshal(now)
	if _, err := os.Stat(path); err == nil && last.Sum == now.Sum { // the same again: the file stays as old as it is
		return path, os.WriteFile(path+".json", text, 0o644)
	}
	if err := os.Rename(file.Name(), path); err != nil {
		return "", err
	}
	if modified, err := http.ParseTime(answer.Header.Get("Last-Modified")); err == nil {
		_ = os.Chtimes(path, modified, modified) // so that the source is as old as the server says
	}
	return path, os.WriteFile(path+".json", text, 0o644)
}

// Once sends one request and gives what came, of the body no more than most bytes: no redirect is followed,
// and nothing is kept.
func (f *Client) Once(request *http.Request, most int64) (*http.Response, []byte, error) {
	client := f.client()
	client.CheckRedirect = func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }
	defer client.CloseIdleConnections()
	answer, err := client.Do(request)
	if err != nil {
		return nil, nil, err
	}
	defer answer.Body.Close()
	body, err := io.ReadAll(io.LimitReader(answer.Body, most))
	return answer, body, err
}

func setIf(h http.Header, name, value string) {
	if value != "" {
		h.Set(name, value)
	}
}

// client makes an HTTP client that reaches public addresses only, unless told
// otherwise: every address is looked at when it is dialled, after names were
// resolved, on redirects too.
func (f *Client) client() *http.Client {
	dialer := &net.Dialer{Timeout: 15 * time.Second}
	if !f.Inside {
		dialer.Control = func(_, address string, _ syscall.RawConn) error {
			at, err := netip.ParseAddrPort(address)
			if err == nil && addr.KindOf(addr.Canonical(at.Addr())) != addr.Public {
				err = fmt.Errorf("%s is not public: %s allows it", at.Addr(), cmp.Or(f.InsideKey, "a client for the inside"))
			}
			return err
		}
	}
	transport := http.DefaultTransport.(*http.Transport).Clone()
	transport.DialContext, transport.Proxy, transport.DisableCompression = dialer.DialContext, nil, true
	return &http.Client{Transport: transport, Timeout: time.Hour}
}
