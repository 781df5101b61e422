package demo

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/http/httputil"
	"net/url"
	"slices"
	"strings"
	"syscall"
	"time"

	"eastporch/internal/core/gate"
	"eastporch/internal/core/handover"
	"eastporch/internal/core/link"
	"eastporch/internal/core/rehearsal"
)

// SeenFrom are addresses that the regatta's page can be looked at from, by the words of
// its footer.
var SeenFrom = map[string]string{
	"Portugal": "198.18.3.40", "Japan": "198.19.141.9", "Brazil": "198.19.45.7", "Canada": "198.18.41.12", "Norway": "2001:db8:5e1:40::1f",
}

// SiteAddress is where the demo serves the page, where that is free.
const SiteAddress = "127.0.0.1:8082"

// seenFromCookie holds one of the words of [SeenFrom].
const seenFromCookie = "seen_from"

// Front does in Go what a reverse proxy does before the page: it passes /porch/ and /to/, the links, on to
// the service, and asks the service about every other request. Before a page of your own, use a
// recipe of package snippet.
func Front(visitors *url.URL, key string, app http.Handler) http.Handler {
	service := &httputil.ReverseProxy{Rewrite: func(r *httputil.ProxyRequest) {
		r.Out.URL.Scheme, r.Out.URL.Host, r.Out.URL.Path = visitors.Scheme, visitors.Host, strings.TrimPrefix(r.In.URL.Path, "/porch")
		r.Out.Host = Site
		if r.Out.Header.Del("Authorization"); !isLink(r.In.URL.Path) { // which nobody needs a key for
			r.Out.Header.Set("Authorization", "Bearer "+key)
		}
		r.Out.Header["X-Forwarded-For"] = []string{seenAs(r.In)}
	}}
	web := &http.Client{Timeout: time.Second}
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if strings.HasPrefix(r.URL.Path, "/porch/") || isLink(r.URL.Path) {
			service.ServeHTTP(w, r)
			return
		}
		rehearsing := r.Header[rehearsal.Header]
		for name := range r.Header {
			if handover.Forged(name) {
				delete(r.Header, name)
			}
		}
		ask, err := http.NewRequestWithContext(r.Context(), http.MethodGet, visitors.String()+"/v1/handover", nil)
		if err == nil {
			ask.Host = Site
			ask.Header = http.Header{
				"Authorization": {"Bearer " + key}, "X-Forwarded-For": {seenAs(r)}, "Accept-Language": r.Header["Accept-Language"], "Cookie": r.Header["Cookie"],
				"Porch-Original-Method": {r.Method}, "Porch-Original-Target": {r.RequestURI}, "Porch-Original-Scheme": {"http"}, "Porch-Original-Host": {r.Host}, rehearsal.Header: rehearsing,
			}
			if answer, err := web.Do(ask); err == nil {
				_ = answer.Body.Close()
				if answer.Header.Get(rehearsal.Header) != "" {
					w.Header().Set(rehearsal.Header, "1")
					w.Header().Set("Cache-Control", "no-store")
				}
				if answer.Header.Get(handover.GateField) == string(gate.Refuse) {
					refusal(visitors, answer.Header.Get("Porch-Gate-Reference")).ServeHTTP(w, r)
					return
				}
				for _, name := range handover.Fields {
					if value := answer.Header.Get(name); value != "" {
						r.Header.Set(name, value)
					}
				}
			}
		}
		app.ServeHTTP(w, r)
	})
}

func isLink(path string) bool { return strings.HasPrefix(path, link.Path("")) }

// refusal shows the service's page for those whom a gate refuses.
func refusal(visitors *url.URL, reference string) http.Handler {
	return &httputil.ReverseProxy{Rewrite: func(r *httputil.ProxyRequest) {
		r.Out.Method, r.Out.Body, r.Out.ContentLength = http.MethodGet, http.NoBody, 0
		r.Out.URL = &url.URL{Scheme: visitors.Scheme, Host: visitors.Host, Path: "/v1/gate/refusal", RawQuery: url.Values{"reference": {reference}}.Encode()}
		r.Out.Host = Site
		r.Out.Header = http.Header{"Accept-Language": r.In.Header["Accept-Language"]}
	}}
}

// seenAs is the forwarding list of a request: of where its visitor wants to be seen
// from, or the one that it has with its peer at the end.
func seenAs(r *http.Request) string {
	if cookie, err := r.Cookie(seenFromCookie); err == nil {
		if address := SeenFrom[cookie.Value]; address != "" {
			return address
		}
	}
	peer, _, _ := net.SplitHostPort(r.RemoteAddr)
	return strings.Join(append(slices.Clone(r.Header["X-Forwarded-For"]), peer), ", ")
}

// StartSite serves the page through [Front] at an address, such as 127.0.0.1:8082, or at a
// free port where that is taken, until ctx ends. stopped is closed when everything has
// ended. visitors is the public listener of the service, and key one that may ask there.
func StartSite(ctx context.Context, address, visitors, key string, page *Page) (at string, stopped <-chan struct{}, err error) {
	service, err := url.Parse(visitors)
	if err != nil {
		return "", nil, err
	}
	l, err := net.Listen("tcp", address)
	if errors.Is(err, syscall.EADDRINUSE) {
		l, err = net.Listen("tcp", "127.0.0.1:0")
	}
	if err != nil {
		return "", nil, fmt.Errorf("the regatta's page: %w", err)
	}
	done := make(chan struct{})
	server := &http.Server{Handler: Front(service, key, page), ReadHeaderTimeout: 10 * time.Second}
	go func() { _ = server.Serve(l) }() // it ends when the server is closed
	go func() {
		defer close(done)
		<-ctx.Done()
		_ = server.Close()
	}()
	return "http://" + l.Addr().String(), done, nil
}
