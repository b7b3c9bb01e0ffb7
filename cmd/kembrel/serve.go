package main

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/netip"
	"os"
	"os/signal"
	"os/user"
	"path/filepath"
	"runtime/debug"
	"strings"
	"syscall"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/spf13/cobra"
	"kembrel.internal/kembrel"

	"kembrel/api"
	python "kembrel/bindings/python"
	"kembrel/cli/term"
	"kembrel/client"
	"kembrel/console"
	"kembrel/host"
	"kembrel/service"
	"kembrel/service/people"
	"kembrel/service/subscriptions"
	"kembrel/store/blob"
	"kembrel/store/cluster"
	"kembrel/store/pg"
	"kembrel/web"
)

func start(a *term.App) *cobra.Command {
	var rescue bool
	cmd := &cobra.Command{Use: "start", Short: "Start everything on this machine: private PostgreSQL, service, console",
		Long: `Start a private PostgreSQL in the data folder, and the service with its console, until interrupted. The first start makes an administrator
and leaves a token for this user, so that the other commands work at once; every start prints a one-time link to the console.`,
		Example: "  kembrel start\n  kembrel start --data /srv/kembrel --listen 127.0.0.1:8000", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			ctx, stop := signal.NotifyContext(cmd.Context(), os.Interrupt, syscall.SIGTERM, syscall.SIGHUP)
			defer stop()
			return runStart(ctx, a, rescue)
		}}
	a.Settings.Add(cmd.Flags(), append([]string{"data"}, ofService...)...)
	cmd.Flags().BoolVar(&rescue, "rescue", false, rescueHelp)
	return cmd
}

// ofService are the settings of the service, however it is started.
var ofService = []string{"blobs", "listen", "metrics", "reserve", "lost-after", "seal-after", "tls-cert", "tls-key",
	"https", "trusted-proxy", "providers", "platforms", "public-url", "allow-receivers",
	"log-level", "log-format"}

const rescueHelp = "print a one-time link that signs an administrator in, where nobody can any more"

func serve(a *term.App) *cobra.Command {
	var rescue bool
	cmd := &cobra.Command{Use: "serve", Short: "Start the service on a database and a blob store that others run",
		Long: `Start the service with its console on a PostgreSQL database and a folder or a bucket for blobs that are looked after elsewhere, until interrupted.
Any number of them may serve the same database and blobs. The first start prints a one-time link for the administrator.`,
		Example: "  kembrel serve --database postgres://kembrel@db/kembrel --blobs /srv/blobs --listen 0.0.0.0:7420\n  kembrel serve --database postgres://kembrel@db/kembrel --blobs 's3://kembrel/blobs?endpoint=https://s3.harbour:9000'", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			ctx, stop := signal.NotifyContext(cmd.Context(), os.Interrupt, syscall.SIGTERM, syscall.SIGHUP)
			defer stop()
			s := a.Settings
			if s.Get("database") == "" || s.Get("blobs") == "" {
				return fmt.Errorf("serve needs --database and --blobs; to have a private database made and run, use: kembrel start")
			}
			log, err := newLog(a)
			if err != nil {
				return err
			}
			if err := portFree(s.Get("listen")); err != nil {
				return err
			}
			how, err := reached(a, log)
			if err != nil {
				return err
			}
			return runService(ctx, a, log, how, s.Get("database"), s.Get("database-keeper"), s.Get("blobs"), false,
				func(ctx context.Context, svc *service.Service, address string, first bool) error {
					fmt.Fprintf(a.Err, "Kembrel %s serves %s\n", a.Version, address)
					sayOthers(a, address)
					if rescue {
						return sayRescue(ctx, a, svc, address)
					}
					if !first {
						return nil
					}
					link, err := ownerLink(ctx, svc)
					if err == nil {
						fmt.Fprintf(a.Err,
							"first start: sign in as the administrator, once, within 15 minutes: %s%s\n", address, link)
					}
					return err
				})
		}}
	a.Settings.Add(cmd.Flags(), append([]string{"database", "database-keeper"}, ofService...)...)
	cmd.Flags().BoolVar(&rescue, "rescue", false, rescueHelp)
	return cmd
}

func newLog(a *term.App) (*slog.Logger, error) {
	var level slog.Level
	if err := level.UnmarshalText([]byte(a.Settings.Get("log-level"))); err != nil {
		return nil, fmt.Errorf("log-level: %w", err)
	}
	o := &slog.HandlerOptions{Level: level}
	switch a.Settings.Get("log-format") {
	case "json":
		return slog.New(slog.NewJSONHandler(a.Err, o)), nil
	case "text":
		return slog.New(slog.NewTextHandler(a.Err, o)), nil
	}
	return nil, fmt.Errorf("log-format %q is none of text, json", a.Settings.Get("log-format"))
}

// leastSpace is how much room the data folder needs for a first start. Later ones have the reserve, and must come up to
// make room.
const leastSpace = 512 << 20

func runStart(ctx context.Context, a *term.App, rescue bool) error {
	log, err := newLog(a)
	if err != nil {
		return err
	}
	data, err := filepath.Abs(a.Settings.Get("data"))
	if err != nil {
		return err
	}
	if err := portFree(a.Settings.Get("listen")); err != nil {
		return err
	}
	how, err := reached(a, log)
	if err != nil {
		return err
	}
	if err := os.MkdirAll(data, 0o711); err != nil {
		return fmt.Errorf("data folder: %w; choose another with --data", err)
	}
	lock, err := lockFolder(data)
	if err != nil {
		return err
	}
	defer lock.Close()
	if free, err := host.FreeBytes(data); err == nil && free < leastSpace && !begun(data) {
		return fmt.Errorf("only %s are free at %s; make room (%s at least) or choose another folder with --data",
			api.Bytes(free), data, api.Bytes(leastSpace))
	}
	fmt.Fprintf(a.Err, "Starting PostgreSQL in %s ...\n", data)
	db, err := cluster.Start(ctx, filepath.Join(data, "postgres"), log)
	if err != nil {
		return err
	}
	defer db.Stop()
	return runService(ctx, a, log, how, db.URL, db.Admin, blobsOf(a, data), a.Settings.Get("blobs") == "",
		func(ctx context.Context, svc *service.Service, address string, _ bool) error {
			if err := leaveCredential(ctx, svc, address); err != nil { // as of a user without a home
				log.Warn("commands of this user are not signed in by themselves", "err", err)
			}
			if rescue {
				return sayRescue(ctx, a, svc, address)
			}
			link, err := ownerLink(ctx, svc)
			if err != nil {
				return err
			}
			fmt.Fprintf(a.Err,
				"Kembrel %s is up at %s\nOpen the console (this link works once, within 15 minutes; kembrel sign-in --link makes another):\n\n    %s%s\n\n",
				a.Version, address, address, link)
			sayOthers(a, address)
			return nil
		})
}

// sayRescue prints a link for an administrator: whoever starts the service has the machine, and with it all that is on
// it.
func sayRescue(ctx context.Context, a *term.App, svc *service.Service, address string) error {
	link, name, err := svc.Rescue(ctx)
	if err != nil {
		return err
	}
	fmt.Fprintf(a.Err,
		"Kembrel %s is up at %s\nThis link signs %s in as an administrator, once, within 15 minutes; the audit names it:\n\n    %s%s\n\n", a.Version, address, name, address, link.Path)
	return nil
}

// reach is how people reach the service.
type reach struct {
	tls    *tls.Config // of its own; nil: it answers in the open
	secure bool        // by https, its own or a proxy's
}

// reached reads how. Where it is in the open and beyond this machine, it warns.
func reached(a *term.App, log *slog.Logger) (reach, error) {
	cert, key := a.Settings.Get("tls-cert"), a.Settings.Get("tls-key")
	if (cert == "") != (key == "") {
		return reach{}, term.Usage("a certificate goes with its key: give --tls-cert and --tls-key")
	}
	if cert != "" {
		c, err := web.NewCertificate(cert, key, log)
		if err != nil {
			return reach{}, err
		}
		return reach{c.TLS(), true}, nil
	}
	secure := a.Settings.Get("https") == "true"
	host, _, err := net.SplitHostPort(a.Settings.Get("listen"))
	ip := net.ParseIP(host)
	if local := err == nil && (host == "localhost" || ip != nil && ip.IsLoopback()); !local && !secure {
		fmt.Fprintf(a.Err,
			"Warning: %s is reached from other machines without TLS, so passwords and tokens go over the network in the open. Give the service a certificate (--tls-cert, --tls-key), or put a proxy with TLS before it and say --https=true (docs/running.md).\n", a.Settings.Get("listen"))
	}
	return reach{nil, secure}, nil
}

// blobsOf is where the blobs of kembrel start are: beside its database, unless another place is set.
func blobsOf(a *term.App, data string) string {
	if place := a.Settings.Get("blobs"); place != "" {
		return place
	}
	return filepath.Join(data, "blobs")
}

// lockFolder makes sure that only one process uses a data folder.
func lockFolder(data string) (io.Closer, error) {
	f, err := os.OpenFile(filepath.Join(data, "lock"), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, fmt.Errorf("data folder: %w; choose another with --data", err)
	}
	if err := host.TryLock(f); err != nil {
		f.Close()
		return nil, fmt.Errorf("another kembrel uses the data folder %s; end it, or choose another with --data", data)
	}
	return f, nil
}

func portFree(address string) error {
	l, err := net.Listen("tcp", address)
	if err != nil {
		if errors.Is(err, syscall.EADDRINUSE) {
			return fmt.Errorf("%s is taken by another program; end it, or choose another address with --listen",
				address)
		}
		return fmt.Errorf("cannot listen on %s: %w", address, err)
	}
	return l.Close()
}

// platforms is the folder of binaries for other platforms: the one that is set, or that beside this binary.
func platforms(a *term.App) string {
	if folder := a.Settings.Get("platforms"); folder != "" {
		return folder
	}
	own, err := os.Executable()
	if err != nil {
		return ""
	}
	return filepath.Join(filepath.Dir(own), "platforms")
}

// memoryLimit is where the garbage collector begins to work for every byte; GOMEMLIMIT sets another.
const memoryLimit = 240 << 20

// runService opens the stores and serves until ctx ends. ready is called when it answers.
func runService(ctx context.Context, a *term.App, log *slog.Logger, how reach, database, keeper, blobs string,
	alone bool, ready func(ctx context.Context, svc *service.Service, address string, first bool) error) error {
	lost, err := time.ParseDuration(a.Settings.Get("lost-after"))
	if err != nil || lost < time.Second {
		return fmt.Errorf("lost-after %q: write a time of a second at least, such as 60s", a.Settings.Get("lost-after"))
	}
	proxies := strings.FieldsFunc(a.Settings.Get("trusted-proxy"), func(r rune) bool { return r == ',' || r == ' ' })
	if err := web.CheckProxies(proxies); err != nil {
		return term.Usage("%v", err)
	}
	if os.Getenv("GOMEMLIMIT") == "" {
		debug.SetMemoryLimit(memoryLimit)
	}
	debug.SetGCPercent(150) // beyond the limit above memory matters more than speed
	db, err := pg.Open(ctx, database)
	if err != nil {
		return err
	}
	defer db.Close()
	if err := db.Migrate(ctx, keeper); err != nil {
		return err
	}
	kept, err := blob.Open(ctx, blobs)
	if errors.Is(err, blob.ErrAway) && kept != nil {
		log.Warn("the blob store does not answer yet; checkpoints wait until it does, all else works", "err", err)
	} else if err != nil {
		return err
	}
	reserve, err := humanize.ParseBytes(a.Settings.Get("reserve"))
	if err != nil || reserve > 1<<50 {
		return term.Usage("reserve %q: write a size such as 512MB", a.Settings.Get("reserve"))
	}
	if local, ok := kept.(*blob.Local); ok {
		local.Reserve(int64(reserve))
	}
	seal, err := time.ParseDuration(a.Settings.Get("seal-after"))
	if err != nil || seal < time.Second {
		return fmt.Errorf("seal-after %q: write a time of a second at least, such as 3m", a.Settings.Get("seal-after"))
	}
	telling := subscriptions.Options{Public: a.Settings.Get("public-url")}
	if telling.Allowed, err = networks(a.Settings.Get("allow-receivers")); err != nil {
		return err
	}
	svc := service.New(db, kept, service.Options{Log: log, LostAfter: lost, SealAfter: seal,
		Version: a.Version, Alone: alone, Telling: telling})
	if file := a.Settings.Get("providers"); file != "" {
		list, err := people.ReadProviders(file)
		if err != nil {
			return err
		}
		svc.SignInWith(list)
	}
	first, err := svc.FirstStart(ctx, userName())
	if err != nil {
		return fmt.Errorf("make the first administrator: %w", err)
	}
	running, cancel := context.WithCancel(context.WithoutCancel(ctx)) // requests under way need it to their end
	defer cancel()
	done := make(chan error, 1)
	go func() { done <- svc.Run(running) }()
	server := web.New(svc, web.Options{Log: log, Version: a.Version, Console: console.Files(), Python: python.Files,
		Go: kembrel.Source, GoTime: bindingChanged(),
		Platforms: platforms(a), TLS: how.tls, Secure: how.secure, Proxies: proxies})
	err = server.Serve(ctx, a.Settings.Get("listen"), a.Settings.Get("metrics"), func(address string) error {
		scheme := "http://"
		if how.tls != nil {
			scheme = "https://"
		}
		svc.ListensAt(scheme + reachable(address))
		return ready(ctx, svc, scheme+reachable(address), first)
	})
	cancel()
	if end := <-done; err == nil {
		err = end
	}
	if err == nil {
		fmt.Fprintln(a.Err, "Stopped.")
	}
	return err
}

// networks reads networks, or addresses, of the inside that may be told of events.
func networks(text string) (out []netip.Prefix, err error) {
	for _, one := range strings.FieldsFunc(text, func(r rune) bool { return r == ',' || r == ' ' }) {
		network, err := netip.ParsePrefix(one)
		if address, wrong := netip.ParseAddr(one); err != nil && wrong == nil {
			network, err = netip.PrefixFrom(address, address.BitLen()), nil
		}
		if err != nil {
			return nil, term.Usage("allow-receivers: %q is no address or network; write such as 10.20.0.0/16", one)
		}
		out = append(out, network)
	}
	return out, nil
}

// sayOthers says at which addresses other machines reach a service that listens on every interface.
func sayOthers(a *term.App, address string) {
	host, port, err := net.SplitHostPort(a.Settings.Get("listen"))
	if ip := net.ParseIP(host); err != nil || host != "" && (ip == nil || !ip.IsUnspecified()) {
		return
	}
	scheme, _, _ := strings.Cut(address, "://")
	all, _ := net.InterfaceAddrs()
	for _, one := range all {
		if of, ok := one.(*net.IPNet); ok && of.IP.IsGlobalUnicast() {
			fmt.Fprintf(a.Err, "On other machines: %s://%s\n", scheme, net.JoinHostPort(of.IP.String(), port))
		}
	}
}

// reachable replaces an address that means every interface by this machine's own.
func reachable(address string) string {
	host, port, err := net.SplitHostPort(address)
	if ip := net.ParseIP(host); err == nil && ip != nil && ip.IsUnspecified() {
		return "127.0.0.1:" + port
	}
	return address
}

func userName() string {
	if u, err := user.Current(); err == nil && u.Username != "" {
		return u.Username
	}
	return "administrator"
}

func ownerLink(ctx context.Context, svc *service.Service) (string, error) {
	owner, err := svc.OwnerAccess(ctx)
	if err != nil {
		return "", err
	}
	link, err := svc.CreateLink(ctx, owner, nil)
	if err != nil {
		return "", err
	}
	return link.Path, nil
}

// leaveCredential makes sure that this user's commands can sign in.
func leaveCredential(ctx context.Context, svc *service.Service, address string) error {
	known, err := client.LoadCredential(address)
	if err != nil {
		return err
	}
	if known.Token != "" {
		if _, err := svc.WhoByToken(ctx, strings.TrimSpace(known.Token), "127.0.0.1"); err == nil {
			return nil
		}
	}
	owner, err := svc.OwnerAccess(ctx)
	if err != nil {
		return err
	}
	in := &api.NewToken{}
	in.Body.Name, in.Body.Days = "left by kembrel start", 365
	token, err := svc.CreateToken(ctx, owner, in)
	if err != nil {
		return err
	}
	err = client.SaveCredential(address, client.Credential{Token: token.Secret, Name: owner.Name})
	if err != nil { // nobody has it
		_, failed := svc.RevokeToken(ctx, owner, &api.TokenInput{ID: token.ID})
		err = errors.Join(err, failed)
	}
	return err
}

// begun reports whether a data folder has a database in it already.
func begun(data string) bool {
	_, err := os.Stat(filepath.Join(data, "postgres", "data", "PG_VERSION"))
	return !errors.Is(err, os.ErrNotExist)
}
