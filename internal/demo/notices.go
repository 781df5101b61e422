package demo

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"maps"
	"net"
	"net/http"
	"slices"
	"strings"
	"syscall"
	"time"

	"eastporch/internal/client"
	"eastporch/internal/core/notice"
	"eastporch/internal/demo/standin"
)

// MailAddress is where the demo's invented mail server takes mails, where that is free, and MailPage where it shows them.
const (
	MailAddress = "127.0.0.1:2525"
	MailPage    = "127.0.0.1:8092"
)

// listen listens at an address, or at a free port where that is taken.
func listen(address string) (net.Listener, error) {
	l, err := net.Listen("tcp", address)
	if errors.Is(err, syscall.EADDRINUSE) {
		l, err = net.Listen("tcp", "127.0.0.1:0")
	}
	return l, err
}

// StartMail runs the invented mail server until ctx ends. It wants a login, with a password that is made up anew.
func StartMail(ctx context.Context) (at, page string, sink *standin.Mail, err error) {
	sink = &standin.Mail{Login: "porch", Password: "made-up-" + rand.Text()}
	l, err := listen(MailAddress)
	if err != nil {
		return "", "", nil, fmt.Errorf("the invented mail server: %w", err)
	}
	web, err := listen(MailPage)
	if err != nil {
		return "", "", nil, errors.Join(fmt.Errorf("the invented mail server: %w", err), l.Close())
	}
	mux := http.NewServeMux()
	mux.Handle("/", sink)
	mux.HandleFunc("POST /hook", func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(http.StatusNoContent) })
	server := &http.Server{Handler: mux, ReadHeaderTimeout: 10 * time.Second}
	go func() { _ = sink.Serve(l) }()     // it ends when the listener is closed
	go func() { _ = server.Serve(web) }() // it ends when the server is closed
	go func() {
		<-ctx.Done()
		sink.Stop()
		_ = l.Close() // nobody is to be told
		_ = server.Close()
	}()
	return l.Addr().String(), web.Addr().String(), sink, nil
}

// Notices makes the regatta's channels, and its notices that are not there yet.
func Notices(ctx context.Context, c *client.Client, at, page, password string) error {
	text, err := files.ReadFile("files/notices.yaml")
	if err != nil {
		return err
	}
	all, err := notice.ReadSet([]byte(strings.NewReplacer(MailAddress, at, MailPage, page).Replace(string(text))))
	if err != nil {
		return err
	}
	secrets := map[string]string{notice.Mail: password, notice.Webhook: "made-up-" + rand.Text()}
	for _, name := range slices.Sorted(maps.Keys(all.Channels)) {
		if _, err := c.SaveChannel(ctx, Site, name, notice.ChannelSave{Said: all.Channels[name], NewSecret: secrets[all.Channels[name].Kind]}); err != nil {
			return fmt.Errorf("channel %s: %w", name, err)
		}
	}
	there, err := c.Notices(ctx, Site)
	if err != nil {
		return err
	}
	for _, name := range slices.Sorted(maps.Keys(all.Notices)) {
		if slices.ContainsFunc(there.Notices, func(s notice.State) bool { return s.Name == name }) {
			continue
		}
		if _, err := c.SaveNotice(ctx, Site, name, notice.Save{Said: all.Notices[name]}); err != nil {
			return fmt.Errorf("notice %s: %w", name, err)
		}
	}
	return nil
}
