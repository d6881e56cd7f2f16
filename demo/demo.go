package demo

import (
	"context"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net"
	"os"
	"path/filepath"
	"strconv"
	"sync/atomic"
	"syscall"
	"time"

	"golang.org/x/sync/errgroup"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/delivery"
	"github.com/illumicode/illumicode/inbox"
	"github.com/illumicode/illumicode/internal/flow"
	"github.com/illumicode/illumicode/internal/serving"
	"github.com/illumicode/illumicode/internal/standin"
	rows "github.com/illumicode/illumicode/internal/store"
	"github.com/illumicode/illumicode/letters"
	"github.com/illumicode/illumicode/limit"
	"github.com/illumicode/illumicode/message"
	"github.com/illumicode/illumicode/provider"
	"github.com/illumicode/illumicode/provider/httpapi"
	"github.com/illumicode/illumicode/provider/smtp"
	"github.com/illumicode/illumicode/retry"
	"github.com/illumicode/illumicode/route"
	"github.com/illumicode/illumicode/store"
	"github.com/illumicode/illumicode/store/sqlite"
	"github.com/illumicode/illumicode/token"
)

// Options say where the demo runs. The zero Options are all defaults.
type Options struct {
	// of the site; the two ports above it are the inbox's, the third the simulated providers', the fourth harbour's.
	// Empty means 127.0.0.1:8440; port 0 means any free ones
	Listen string
	Data   string // the folder to keep everything in; empty means a temporary one
	Log    *slog.Logger
}

// A Demo is a running demo.
type Demo struct {
	SiteURL  string
	InboxURL string
	SMTP     string           // host:port
	Beacon   *standin.Standin // simulated mail interface and SMS gateway, for notices
	beacon   string           // its base URL
	Data     string           // the folder
	Kept     bool             // whether Data outlives the demo

	Inbox   *inbox.Inbox
	Service *illumicode.Service

	harbour *sluice      // in front of the provider that fails in the middle
	ahead   atomic.Int64 // how far the demo's clock is ahead of the wall, in nanoseconds
	group   *errgroup.Group
	stop    context.CancelFunc
	opened  []func() error // what to close again, the last first
}

// Now returns the demo's own time.
func (d *Demo) Now() time.Time { return time.Now().Add(time.Duration(d.ahead.Load())) }

// Ahead moves the demo's clock forward, once the letters under way are recorded as sent: else one
// that has just arrived would have been sent after the leap.
func (d *Demo) Ahead(ctx context.Context, by time.Duration) error {
	if err := d.settle(ctx); err != nil {
		return err
	}
	d.ahead.Add(int64(by))
	d.Service.Wake()
	return nil
}

// settle waits until no letter is under way: one arrives a moment before that is recorded.
func (d *Demo) settle(ctx context.Context) error {
	tick := time.NewTicker(2 * time.Millisecond)
	defer tick.Stop()
	for {
		sum, err := flow.Of(d.Service).Store.Summary(ctx, d.Now())
		if err != nil || sum.Count[rows.Claimed] == 0 {
			return err
		}
		select {
		case <-tick.C:
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

// Wait returns when the demo has ended, by Stop or by a failure.
func (d *Demo) Wait() error {
	return errors.Join(d.group.Wait(), d.close())
}

// Stop makes the demo end; Wait tells when it has.
func (d *Demo) Stop() { d.stop() }

// fog is the address whose first letter the inbox turns away, to show a retry.
const fog = "nils.fogg@ternisle.example"

// refuseFog is the inbox's temper.
func refuseFog(to string, before int) *inbox.Refusal {
	if to == fog && before == 0 {
		return &inbox.Refusal{Code: 451, Enhanced: [3]int{4, 7, 1}, Text: "Fog in the harbour, please come again"}
	}
	return nil
}

// Start runs the demo until ctx ends or Stop is called. Errors say what to do, above all when a
// port is taken.
func Start(ctx context.Context, o Options) (_ *Demo, err error) {
	if o.Listen == "" {
		o.Listen = "127.0.0.1:8440"
	}
	if o.Log == nil {
		o.Log = slog.New(slog.DiscardHandler)
	}
	d := &Demo{Data: o.Data, Kept: o.Data != ""}
	defer func() {
		if err != nil {
			d.close()
		}
	}()
	ports, err := d.listen(o.Listen)
	if err != nil {
		return nil, err
	}
	if err := d.furnish(); err != nil {
		return nil, err
	}
	st, err := sqlite.Open(ctx, filepath.Join(d.Data, "ferry.db"))
	if err != nil {
		return nil, err
	}
	d.opened = append(d.opened, st.Close)
	if err := st.Migrate(ctx); err != nil {
		return nil, err
	}
	if d.Service, err = d.service(st, o.Log, ports.harbour); err != nil {
		return nil, err
	}
	ferry, err := newFerry(ctx, d.Service)
	if err != nil {
		return nil, err
	}
	ctx, d.stop = context.WithCancel(ctx)
	d.group, ctx = errgroup.WithContext(ctx)
	d.group.Go(func() error { return d.Service.Run(ctx) })
	d.group.Go(func() error { return d.Inbox.Serve(ctx, ports.inboxSMTP, ports.inboxWeb) })
	d.group.Go(func() error { return serving.Until(ctx, ports.site, ferry) })
	d.group.Go(func() error { return serving.Until(ctx, ports.beacon, d.Beacon.Handler()) })
	d.group.Go(func() error { return d.harbour.serve(ctx, ports.harbour) })
	return d, nil
}

// close closes what was opened, the last first.
func (d *Demo) close() error {
	var errs []error
	for i := len(d.opened) - 1; i >= 0; i-- {
		errs = append(errs, d.opened[i]())
	}
	return errors.Join(errs...)
}

// ports are where the parts of the demo listen.
type ports struct{ site, inboxWeb, inboxSMTP, beacon, harbour net.Listener }

// listen opens the ports, and makes what only needs to know them.
func (d *Demo) listen(address string) (p ports, err error) {
	all, err := listen(address, 5)
	if err != nil {
		return p, err
	}
	for _, l := range all {
		d.opened = append(d.opened, func() error { l.Close(); return nil }) // its server may have closed it
	}
	p = ports{all[0], all[1], all[2], all[3], all[4]}
	d.harbour = newSluice(p.inboxSMTP.Addr().String())
	d.SiteURL, d.InboxURL = "http://"+p.site.Addr().String(), "http://"+p.inboxWeb.Addr().String()
	d.SMTP, d.beacon = p.inboxSMTP.Addr().String(), "http://"+p.beacon.Addr().String()
	d.Beacon = standin.New(1, standin.Temper{LatencyMS: 2, Fail: 0.002, Senders: []string{"ternisle.example"}})
	return p, nil
}

// furnish makes the folder of the demo's data, and the inbox in it.
func (d *Demo) furnish() (err error) {
	if d.Data == "" {
		if d.Data, err = os.MkdirTemp("", "illumicode-demo-"); err != nil {
			return err
		}
		d.opened = append(d.opened, func() error { return os.RemoveAll(d.Data) })
	} else if err := os.MkdirAll(d.Data, 0o700); err != nil {
		return fmt.Errorf("demo: --data: %w", err)
	}
	d.Inbox, err = inbox.New(inbox.Config{Dir: filepath.Join(d.Data, "inbox"), Refuse: refuseFog})
	return err
}

// providers returns the four ways out.
func (d *Demo) providers(at net.Listener) ([]provider.Provider, error) {
	harbour, err := d.relay("harbour", at.Addr().String())
	if err != nil {
		return nil, err
	}
	d.opened = append(d.opened, harbour.Close)
	pier, err := d.relay("pier", d.SMTP)
	if err != nil {
		return nil, err
	}
	d.opened = append(d.opened, pier.Close)
	mail, sms, err := d.beacons()
	return []provider.Provider{harbour, pier, mail, sms}, err
}

// service returns the service of the ferry.
func (d *Demo) service(st *store.Store, log *slog.Logger, harbour net.Listener) (*illumicode.Service, error) {
	keys, err := keysOf(filepath.Join(d.Data, "keyring.json"))
	if err != nil {
		return nil, err
	}
	ways, err := d.providers(harbour)
	if err != nil {
		return nil, err
	}
	set, err := letters.Load(letterFiles(), letters.Fallback)
	if err != nil {
		return nil, err
	}
	crew, err := message.ParseAddress("crew@ternisle.example")
	if err == nil {
		crew, err = crew.WithName("Tern Isle Ferry")
	}
	if err != nil {
		return nil, err
	}
	return illumicode.New(illumicode.Config{
		Store: st, Keys: keys, From: crew, Providers: ways, Letters: set, Log: log, Now: d.Now,
		Site: illumicode.Site{BaseURL: d.SiteURL, Name: "Tern Isle Ferry", HomePage: d.SiteURL + "/",
			Imprint: "Tern Isle Ferry Co-operative\nThe Old Customs House, Quay 1, Tern Isle"},
		Outbox: delivery.Settings{Retry: retry.Policy{Base: time.Second}, Terms: terms},
		Limits: islandLimits(), TellOwner: true,
	})
}

// terms are the providers' caps: harbour is fast and preferred, pier is a small plan, beacon carries the
// notices and foghorn the texts, which cost.
var terms = map[string]route.Terms{
	"harbour": {Cost: 0.001, Caps: route.Caps{PerSecond: 50, PerDay: 20_000}},
	"pier":    {Cost: 0.002, Caps: route.Caps{PerDay: 2_000, PerMonth: 30_000, AtOnce: 4}},
	"beacon":  {Cost: 0.0004, Caps: route.Caps{PerDay: 500_000}},
	"foghorn": {Cost: 0.06, Caps: route.Caps{PerDay: 5_000}},
}

// islandLimits are the default rules, with room for a whole island that registers within minutes, from one
// machine.
func islandLimits() []limit.Rule {
	rules := illumicode.DefaultLimits()
	for i := range rules {
		switch r := &rules[i]; {
		case !r.New && r.By != limit.Network:
		case r.Rate.Times > 0:
			r.Rate.Burst = 10_000
		default:
			r.Quota.Times = 100_000
		}
	}
	return rules
}

// relay returns a way out to the inbox, over STARTTLS with its own certificate.
func (d *Demo) relay(name, at string) (*smtp.Provider, error) {
	ca := filepath.Join(d.Data, "inbox-certificate.pem")
	if err := os.WriteFile(ca, d.Inbox.CertificatePEM(), 0o600); err != nil {
		return nil, err
	}
	host, port, err := net.SplitHostPort(at)
	if err != nil {
		return nil, err
	}
	n, err := strconv.Atoi(port)
	if err != nil {
		return nil, err
	}
	return smtp.New(name, smtp.Config{Host: host, Port: n, TLS: smtp.StartTLS, CAFile: ca, Hello: "ferry.localhost",
		Senders: []string{"crew@ternisle.example"}})
}

// beacons returns the ways out for notices: a mail interface and an SMS gateway, both simulated.
func (d *Demo) beacons() (mail, sms *httpapi.Provider, err error) {
	mail, err = httpapi.New("beacon",
		httpapi.Config{URL: d.beacon + "/mail", Senders: []string{"notices@ternisle.example"},
			Body: `{"from": {{json .From}}, "to": {{json .To}}, "subject": {{json .Subject}}, "text": ` +
				`{{json .Text}}, "html": {{json .HTML}}}`,
			IdempotencyHeader: "Idempotency-Key", MessageID: "/letter/id"})
	if err != nil {
		return nil, nil, err
	}
	sms, err = httpapi.New("foghorn", httpapi.Config{URL: d.beacon + "/sms", SMS: true, Form: true,
		Body: "to={{.To}}\ntext={{.SMS}}", IdempotencyHeader: "Idempotency-Key", MessageID: "/sms/0/id"})
	return mail, sms, err
}

//go:embed letters
var letterFolder embed.FS

// letterFiles returns the demo's own letters.
func letterFiles() fs.FS {
	sub, err := fs.Sub(letterFolder, "letters")
	if err != nil {
		panic(err) // the name is a constant
	}
	return sub
}

// keysOf reads the keyring at path, or makes one there.
func keysOf(path string) (*token.Keyring, error) {
	raw, err := os.ReadFile(path)
	if err == nil {
		return token.Parse(raw)
	}
	ring := token.Generate(time.Now())
	return ring, os.WriteFile(path, ring.Marshal(), 0o600)
}

// listen opens n listeners on consecutive ports from address on, or on free ones for port 0.
func listen(address string, n int) ([]net.Listener, error) {
	host, portText, err := net.SplitHostPort(address)
	if err != nil {
		return nil, fmt.Errorf("demo: --listen %s: write it as host:port, such as 127.0.0.1:8440", address)
	}
	port, err := strconv.Atoi(portText)
	if err != nil || port < 0 || port > 65535-n {
		return nil, fmt.Errorf("demo: --listen %s: the port is not a number that leaves room for the inbox's two",
			address)
	}
	var all []net.Listener
	for i := range n {
		at := net.JoinHostPort(host, strconv.Itoa(port+i))
		if port == 0 {
			at = net.JoinHostPort(host, "0")
		}
		l, err := net.Listen("tcp", at)
		if err != nil {
			for _, open := range all {
				open.Close()
			}
			if errors.Is(err, syscall.EADDRINUSE) {
				return nil, fmt.Errorf(
					"demo: %s is taken by another program; choose other ports with --listen, such as --listen "+
						"%s:%d, or --listen %s:0 for free ones", at, host, (port+1000)%60000, host)
			}
			return nil, fmt.Errorf("demo: %w", err)
		}
		all = append(all, l)
	}
	return all, nil
}
