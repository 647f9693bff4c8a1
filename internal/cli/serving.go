package cli

import (
	"context"
	"crypto/tls"
	"errors"
	"flag"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"os"
	"os/signal"
	"path/filepath"
	"runtime/debug"
	"strconv"
	"strings"
	"syscall"
	"time"

	"openrelay/console"
	"openrelay/internal/api"
	"openrelay/internal/core/person"
	"openrelay/internal/demo"
	"openrelay/internal/mail"
	"openrelay/internal/relay"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/people"
	"openrelay/internal/store"
)

func interruptible() (context.Context, context.CancelFunc) {
	return signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
}

func serving() []command {
	backup := backupsCommand()
	backup.args, backup.run = "TO", runBackup
	return []command{
		{name: "demo", about: "Start the demo company with its stores and its carrier", run: runDemo},
		{name: "serve", about: "Serve a company file", run: runServe},
		{name: "standins", about: "Start only the simulated outside systems", run: runStandins},
		{
			name:  "init",
			about: "Name a company and its first person in a file that has nobody yet; the password is read from standard input",
			run:   runInit,
		},
		backup,
		{name: "restore", args: "BACKUP", about: "Make a company file of a backup", run: runRestore},
		{name: "verify", args: "FILE", about: "Check everything that must always hold in a company file", run: runVerify},
		{
			name:  "completion",
			args:  "bash | zsh",
			about: "Print what the shell needs to complete commands: source <(openrelay completion bash)",
			run:   runCompletion,
		},
		{name: "openapi", about: "Print the description of the HTTP interface (OpenAPI 3.1)", run: runOpenAPI},
		{name: "version", about: "Print the version", run: runVersion},
	}
}

func personInFileCommand() command {
	return command{
		name: "in-file",
		args: "FILE EMAIL",
		about: "Add somebody to a company file that is not served, or set name, role and " +
			"password; it is read from standard input",
		run: runUser,
	}
}

func tokenInFileCommand() command {
	return command{name: "in-file", args: "FILE NAME", about: "Make one for a company file that is not served; it is printed once",
		run: runToken}
}

func logger(e *Env, level string) *slog.Logger {
	var l slog.Level
	if l.UnmarshalText([]byte(level)) != nil {
		l = slog.LevelInfo
	}
	return slog.New(slog.NewTextHandler(e.Err, &slog.HandlerOptions{Level: l}))
}

// mustExist keeps a mistyped name from making an empty company.
func mustExist(file string) error {
	if _, err := os.Stat(file); err != nil {
		return fmt.Errorf("company file %s cannot be opened: %w", file, errors.Unwrap(err))
	}
	return nil
}

type serveOptions struct {
	data, listen, level, folder, folders, backups, reach, smtp, smtpFrom, cert, key string
	secure, smtpPlain, openMetrics                                                  bool
}

func (opt *serveOptions) flags(f *flag.FlagSet) {
	f.StringVar(&opt.data, "data", "company.relay", "company `file`; it is made if it is missing")
	f.StringVar(&opt.listen, "listen", "127.0.0.1:8410", "`address` to listen on; anything but loopback belongs behind TLS")
	f.StringVar(&opt.level, "log", "info", "least `level` that is logged: debug, info, warn, error")
	f.StringVar(&opt.folder, "connectors", "", "`folder` of further connector definitions (*.yaml)")
	f.StringVar(&opt.folders, "folders", "", "`folders` in which files may be exchanged with other systems, separated by commas")
	f.StringVar(&opt.backups, "backups", "", "`folder` into which backups are made, by the schedule in Settings")
	f.StringVar(&opt.reach, "reach", "",
		"`ranges` that are not public and may be called all the same, such as 10.1.0.0/16,127.0.0.0/8")
	f.StringVar(&opt.cert, "tls-cert", "", "`file` of the certificate with which to serve over TLS; read again when it changes")
	f.StringVar(&opt.key, "tls-key", "", "`file` of its key")
	f.BoolVar(&opt.secure, "secure-cookies", false, "send session cookies over TLS only (behind a TLS proxy)")
	f.BoolVar(&opt.openMetrics, "open-metrics", false, "let whoever reaches the service read /metrics; else a token is asked for")
	f.StringVar(&opt.smtp, "smtp", "",
		"mail `server`, host:port, through which people are told of exceptions; its name and password come from OPENRELAY_SMTP_USER "+
			"and OPENRELAY_SMTP_PASSWORD")
	f.StringVar(&opt.smtpFrom, "smtp-from", "", "`address` from which that mail comes")
	f.BoolVar(&opt.smtpPlain, "smtp-plain", false, "speak to the mail server without TLS, where it is on the same machine")
}

// splitFolders reads a list of folders.
func splitFolders(text string) (out []string) {
	for _, one := range strings.Split(text, ",") {
		if one = strings.TrimSpace(one); one != "" {
			if at, err := filepath.Abs(one); err == nil {
				out = append(out, at)
			}
		}
	}
	return out
}

// engine are the options as the relay wants them.
func (opt *serveOptions) engine(e *Env, log *slog.Logger) (engine.Options, error) {
	allowed, err := ranges(opt.reach)
	o := engine.Options{Log: log, Folder: opt.folder, Backups: opt.backups, Reach: allowed, Folders: splitFolders(opt.folders)}
	if opt.smtp != "" {
		o.Mail = mail.Sender{Server: opt.smtp, From: opt.smtpFrom, User: e.Getenv("OPENRELAY_SMTP_USER"),
			Password: e.Getenv("OPENRELAY_SMTP_PASSWORD"), Plain: opt.smtpPlain}
	}
	return o, err
}

func runServe(ctx context.Context, e *Env, f *flag.FlagSet, args []string) error {
	opt := &serveOptions{}
	opt.flags(f)
	if err := parse(f, args, 0, 0); err != nil {
		return err
	}
	if (opt.smtp == "") != (opt.smtpFrom == "") {
		return usage{"-smtp and -smtp-from go together"}
	}
	if (opt.cert == "") != (opt.key == "") {
		return usage{"-tls-cert and -tls-key go together"}
	}
	log := logger(e, opt.level)
	o, err := opt.engine(e, log)
	if err != nil {
		return err
	}
	// Half as many collections for some memory, but never beyond what a small machine can spare.
	debug.SetGCPercent(200)
	debug.SetMemoryLimit(160 << 20)
	st, err := store.Open(ctx, opt.data)
	if err != nil {
		return err
	}
	defer st.Close()
	if u := st.Upgraded(); u.Copy != "" {
		log.Info("the tables of the file were brought up to date", "from", u.From, "to", u.To, "as it was", u.Copy)
	}
	if err := st.Hold(); err != nil {
		return err
	}
	r, err := relay.Open(ctx, st, o)
	if err != nil {
		return err
	}
	return opt.serve(ctx, e, log, r)
}

// serve lets a company work until the context ends or its listener fails.
func (opt *serveOptions) serve(ctx context.Context, e *Env, log *slog.Logger, r *relay.Relay) error {
	l, err := net.Listen("tcp", opt.listen)
	if err != nil {
		return fmt.Errorf("listen on %s: %w", opt.listen, err)
	}
	scheme, serve, err := opt.over(log)
	if err != nil {
		return err
	}
	a, handler := api.New(r, api.Options{Log: log, Console: console.Files(), Version: e.Version, Secure: opt.secure || opt.cert != "",
		Proxied: opt.secure && opt.cert == "", OpenMetrics: opt.openMetrics})
	srv := &http.Server{Handler: handler, ReadHeaderTimeout: 10 * time.Second,
		ReadTimeout: 60 * time.Second, IdleTimeout: 2 * time.Minute, MaxHeaderBytes: 64 << 10,
		ErrorLog: slog.NewLogLogger(log.Handler(), slog.LevelWarn)}
	if err := r.Start(); err != nil {
		return err
	}
	fmt.Fprintf(e.Out, "Open Relay serves %s at %s://%s\n", opt.data, scheme, l.Addr())
	if plainBeyond(l.Addr(), opt.secure || opt.cert != "") {
		log.Warn("passwords and sessions cross the network unprotected: serve with -tls-cert and -tls-key, or put a proxy with TLS in "+
			"front and serve with -secure-cookies", "address", l.Addr().String())
	}
	if err := tellFirstRun(ctx, e, r, scheme+"://"+l.Addr().String()); err != nil {
		return err
	}
	done := make(chan error, 1)
	go func() { done <- serve(srv, l) }()
	select {
	case err := <-done:
		return err
	case <-ctx.Done():
	}
	a.End()
	stopping, cancel := context.WithTimeout(context.Background(), 10*time.Second)
	defer cancel()
	err = srv.Shutdown(stopping)
	r.Stop()
	return err
}

// over tells by which scheme the service is reached, and how it is served.
func (opt *serveOptions) over(log *slog.Logger) (scheme string, serve func(*http.Server, net.Listener) error, err error) {
	if opt.cert == "" {
		return "http", (*http.Server).Serve, nil
	}
	c, err := newCertificate(opt.cert, opt.key, log)
	return "https", func(srv *http.Server, l net.Listener) error {
		srv.TLSConfig = &tls.Config{GetCertificate: c.get, MinVersion: tls.VersionTLS12}
		return srv.ServeTLS(l, "", "")
	}, err
}

// plainBeyond tells whether the service can be reached from beyond this machine without TLS before it.
func plainBeyond(at net.Addr, secure bool) bool {
	tcp, ok := at.(*net.TCPAddr)
	return ok && !secure && !tcp.IP.IsLoopback()
}

// tellFirstRun prints where a company that has nobody yet begins. The key stands behind the # of the address, which browsers
// keep to themselves.
func tellFirstRun(ctx context.Context, e *Env, r *relay.Relay, url string) error {
	key, err := r.OpenFirstRun(ctx)
	if err != nil || key == "" {
		return err
	}
	fmt.Fprintf(e.Out, `
This company has nobody yet. Name it, and its first person, at

    %s/begin#%s

The address is good once, for an hour; a new start prints a new one.
Without a page: openrelay init -data FILE -company NAME -name PERSON -email ADDRESS

`, url, key)
	return nil
}

// ranges reads address ranges in CIDR form (RFC 4632).
func ranges(text string) ([]netip.Prefix, error) {
	var out []netip.Prefix
	for _, one := range strings.FieldsFunc(text, func(r rune) bool { return r == ',' || r == ' ' }) {
		p, err := netip.ParsePrefix(one)
		if err != nil {
			return nil, usage{fmt.Sprintf("-reach %q: a range such as 10.1.0.0/16 is expected", one)}
		}
		out = append(out, p)
	}
	return out, nil
}

// ports are addresses in a row, one for the console and one for each outside system.
func ports(first string) ([1 + demo.Systems]string, error) {
	var out [1 + demo.Systems]string
	host, text, err := net.SplitHostPort(first)
	port, perr := strconv.Atoi(text)
	if err != nil || perr != nil || port < 0 || port > 65535-demo.Systems {
		return out, usage{fmt.Sprintf("-listen %q: an address such as 127.0.0.1:8410 is expected", first)}
	}
	for i := range out {
		p := port
		if port != 0 {
			p += i
		}
		out[i] = net.JoinHostPort(host, strconv.Itoa(p))
	}
	return out, nil
}

// logins lists who may sign in at the demo, one of each role.
// toBeJoined tells what a person needs to join the systems that are not joined yet.
func runStandins(ctx context.Context, e *Env, f *flag.FlagSet, args []string) error {
	first := f.String("listen", "127.0.0.1:8411", "`address` of the first store; the others take the next nine ports")
	hook := f.String("relay", "", "`address` of a relay to push to, such as http://127.0.0.1:8410")
	if err := parse(f, args, 0, 0); err != nil {
		return err
	}
	addrs, err := ports(*first)
	if err != nil {
		return err
	}
	o, err := demo.OpenOutside([demo.Systems]string(addrs[:demo.Systems]), 0)
	if err != nil {
		return err
	}
	defer o.Close()
	if *hook != "" {
		o.CallRelay(strings.TrimRight(*hook, "/"))
	}
	fmt.Fprint(e.Out, outside(o))
	<-ctx.Done()
	return nil
}

func runVerify(ctx context.Context, e *Env, f *flag.FlagSet, args []string) error {
	asJSON := f.Bool("json", false, "print the findings as JSON")
	if err := parse(f, args, 1, 1); err != nil {
		return err
	}
	if err := mustExist(f.Arg(0)); err != nil {
		return err
	}
	st, err := store.Open(ctx, f.Arg(0))
	if err != nil {
		return err
	}
	defer st.Close()
	findings, err := st.Verify(ctx)
	if err != nil {
		return err
	}
	if *asJSON {
		if findings == nil {
			findings = []store.Finding{}
		}
		if err := printJSON(e.Out, findings); err != nil {
			return err
		}
	}
	if len(findings) > 0 {
		if !*asJSON {
			for _, x := range findings {
				fmt.Fprintf(e.Out, "rule %d: %s\n", x.Rule, x.Text)
			}
		}
		return fmt.Errorf("%d things do not hold", len(findings))
	}
	if !*asJSON {
		fmt.Fprintln(e.Out, "Everything holds.")
	}
	return nil
}

// withRelay opens a company file for its people and tokens. A service may run on it or not: SQLite keeps both apart.
func withRelay(ctx context.Context, file string, do func(*relay.Relay) error) error {
	st, err := store.Open(ctx, file)
	if err != nil {
		return err
	}
	defer st.Close()
	r, err := relay.Open(ctx, st, engine.Options{Bare: true})
	if err != nil {
		return err
	}
	return do(r)
}

func runUser(ctx context.Context, e *Env, f *flag.FlagSet, args []string) error {
	name := f.String("name", "", "the person's name")
	reset := f.Bool("reset-second-factor", false, "take the second factor away from who lost it; nothing else is changed")
	role := f.String("role", string(person.Clerk), "one of "+person.List())
	if err := parse(f, args, 2, 2); err != nil {
		return err
	}
	if err := person.Role(*role).Check(); err != nil {
		return usage{err.Error()}
	}
	if *reset {
		return withRelay(ctx, f.Arg(0), func(r *relay.Relay) error {
			u, err := r.Store.UserByEmail(ctx, people.NormalEmail(f.Arg(1)))
			if err != nil {
				return fmt.Errorf("%s: %w", f.Arg(1), err)
			}
			return r.ResetFactor(ctx, u.ID, "command line")
		})
	}
	password, err := readPassword(e)
	if err != nil {
		return err
	}
	if *name == "" {
		*name = f.Arg(1)
	}
	return withRelay(ctx, f.Arg(0), func(r *relay.Relay) error {
		return r.PutUser(ctx, f.Arg(1), *name, person.Role(*role), password)
	})
}

func runToken(ctx context.Context, e *Env, f *flag.FlagSet, args []string) error {
	role := f.String("role", string(person.Clerk), "one of "+person.List())
	if err := parse(f, args, 2, 2); err != nil {
		return err
	}
	if err := person.Role(*role).Check(); err != nil {
		return usage{err.Error()}
	}
	if err := mustExist(f.Arg(0)); err != nil {
		return err
	}
	return withRelay(ctx, f.Arg(0), func(r *relay.Relay) error {
		token, err := r.NewToken(ctx, f.Arg(1), person.Role(*role))
		if err == nil {
			fmt.Fprintln(e.Out, token)
		}
		return err
	})
}

func runOpenAPI(ctx context.Context, e *Env, f *flag.FlagSet, args []string) error {
	if err := parse(f, args, 0, 0); err != nil {
		return err
	}
	dir, err := os.MkdirTemp("", "openrelay-openapi-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	return withRelay(ctx, dir+"/none.relay", func(r *relay.Relay) error {
		a, _ := api.New(r, api.Options{Version: e.Version})
		text, err := a.OpenAPI()
		if err == nil {
			_, err = fmt.Fprintln(e.Out, string(text))
		}
		return err
	})
}
