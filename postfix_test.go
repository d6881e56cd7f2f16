package illumicode_test

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"fmt"
	"log/slog"
	"math/big"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/desk"
	"github.com/illumicode/illumicode/dkim"
	"github.com/illumicode/illumicode/feedback"
	"github.com/illumicode/illumicode/illumicodetest"
	"github.com/illumicode/illumicode/provider"
	"github.com/illumicode/illumicode/provider/smtp"
)

// A realServer is a mail server from Debian, started in a folder of its own, that takes letters
// from user crew over STARTTLS and delivers those for jens@gullquay.example into a Maildir. Others there
// it does not know, and says so to the letter's return path, over LMTP.
type realServer struct {
	dir  string
	port int
	t    *testing.T
}

const serverConfig = `compatibility_level = 3.6
queue_directory = DIR/queue
data_directory = DIR/data
command_directory = /usr/sbin
daemon_directory = /usr/lib/postfix/sbin
mail_owner = postfix
setgid_group = postdrop
myhostname = relay.ternisle.example
mydestination =
inet_interfaces = 127.0.0.1
inet_protocols = ipv4
mynetworks =
virtual_mailbox_domains = gullquay.example
virtual_mailbox_base = DIR/mail
virtual_mailbox_maps = inline:{jens@gullquay.example=inbox/}
smtpd_reject_unlisted_recipient = no
transport_maps = inline:{bounces.ternisle.example=lmtp:inet:127.0.0.1:BACK}
virtual_uid_maps = static:65534
virtual_gid_maps = static:65534
smtpd_tls_security_level = encrypt
smtpd_tls_cert_file = DIR/cert.pem
smtpd_tls_key_file = DIR/key.pem
smtpd_sasl_auth_enable = yes
smtpd_sasl_local_domain = relay.ternisle.example
smtpd_relay_restrictions = permit_sasl_authenticated, reject
smtpd_recipient_restrictions = permit_sasl_authenticated, reject
maillog_file = DIR/log
maillog_file_prefixes = DIR
`

const serverServices = `127.0.0.1:PORT inet n - n - - smtpd
pickup unix n - n 60 1 pickup
cleanup unix n - n - 0 cleanup
qmgr unix n - n 300 1 qmgr
tlsmgr unix - - n 1000? 1 tlsmgr
rewrite unix - - n - - trivial-rewrite
bounce unix - - n - 0 bounce
defer unix - - n - 0 bounce
trace unix - - n - 0 bounce
proxymap unix - - n - - proxymap
error unix - - n - - error
retry unix - - n - - error
virtual unix - n n - - virtual
lmtp unix - - n - - lmtp
anvil unix - - n - 1 anvil
postlog unix-dgram n - n - 1 postlogd
`

// startServer starts the server, which knows where bounces go; it fails, and says why, where that cannot
// be done.
func startServer(t *testing.T, back net.Addr) *realServer {
	t.Helper()
	for _, tool := range []string{"/usr/sbin/postfix", "/usr/sbin/saslpasswd2"} {
		if _, err := os.Stat(tool); err != nil {
			t.Fatalf("this test sends to a real mail server, and %s is not there (`make test` installs it)", tool)
		}
	}
	if os.Getuid() != 0 {
		t.Fatal("this test starts a real mail server, which only root can do")
	}
	dir, err := os.MkdirTemp("", "illumicode-relay-")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	s := &realServer{dir: dir, port: l.Addr().(*net.TCPAddr).Port, t: t}
	l.Close()
	s.run("chmod", "755", dir)
	for _, d := range []string{"queue", "data", "mail", "conf", "conf/sasl"} {
		if err := os.Mkdir(filepath.Join(dir, d), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	fill := strings.NewReplacer("DIR", dir, "PORT", fmt.Sprint(s.port), "BACK", fmt.Sprint(back.(*net.TCPAddr).Port))
	s.write("conf/main.cf", fill.Replace(serverConfig))
	s.write("conf/master.cf", fill.Replace(serverServices))
	s.write("conf/sasl/smtpd.conf",
		fill.Replace(
			"pwcheck_method: auxprop\nauxprop_plugin: sasldb\nmech_list: PLAIN LOGIN\nsasldb_path: DIR/sasldb2\n"))
	s.certificate()
	cmd := exec.Command("/usr/sbin/saslpasswd2", "-p", "-c", "-f", filepath.Join(dir, "sasldb2"), "-u",
		"relay.ternisle.example", "crew")
	cmd.Stdin = strings.NewReader("sea gull at noon")
	if out, err := cmd.CombinedOutput(); err != nil {
		t.Fatalf("saslpasswd2: %v\n%s", err, out)
	}
	s.run("chown", "postfix", filepath.Join(dir, "data"), filepath.Join(dir, "sasldb2"))
	s.run("chown", "65534:65534", filepath.Join(dir, "mail"))
	s.run("/usr/sbin/postfix", "-c", filepath.Join(dir, "conf"), "start")
	t.Cleanup(func() { exec.Command("/usr/sbin/postfix", "-c", filepath.Join(dir, "conf"), "stop").Run() })
	return s
}

func (s *realServer) run(name string, args ...string) {
	s.t.Helper()
	if out, err := exec.Command(name, args...).CombinedOutput(); err != nil {
		s.t.Fatalf("%s %v: %v\n%s", name, args, err, out)
	}
}

func (s *realServer) write(name, text string) {
	s.t.Helper()
	if err := os.WriteFile(filepath.Join(s.dir, name), []byte(text), 0o644); err != nil {
		s.t.Fatal(err)
	}
}

func (s *realServer) certificate() {
	s.t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		s.t.Fatal(err)
	}
	template := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "relay"},
		DNSNames: []string{"localhost"}, IsCA: true,
		BasicConstraintsValid: true, NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour)}
	der, err := x509.CreateCertificate(rand.Reader, template, template, &key.PublicKey, key)
	if err != nil {
		s.t.Fatal(err)
	}
	keyDER, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		s.t.Fatal(err)
	}
	s.write("cert.pem", string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der})))
	s.write("key.pem", string(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: keyDER})))
}

// A real mail server accepts and delivers our letter over STARTTLS with authentication, and what
// it delivers still carries a signature that another library accepts. What it cannot deliver comes back
// and makes the address bounced.
func TestRealMailServer(t *testing.T) {
	back, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	server := startServer(t, back.Addr())
	config := smtp.Config{Host: "localhost", Port: server.port, TLS: smtp.StartTLS, User: "crew",
		Password: "sea gull at noon",
		CAFile:   filepath.Join(server.dir, "cert.pem"), Hello: "ferry.example"}
	way, err := smtp.New("relay", config)
	if err != nil {
		t.Fatal(err)
	}
	defer way.Close()
	key, _, err := dkim.GenerateKey("ternisle.example", "pier")
	if err != nil {
		t.Fatal(err)
	}
	signer, err := dkim.New(key)
	if err != nil {
		t.Fatal(err)
	}
	if r := way.Check(t.Context(), "crew@ternisle.example", "jens@gullquay.example"); r.Failed() {
		log, _ := os.ReadFile(filepath.Join(server.dir, "log"))
		t.Fatalf("check: %+v\n%s\n%s", r.Steps, strings.Join(r.Raw, "\n"), log)
	}
	k := illumicodetest.New(t, withReturnPath,
		func(c *illumicode.Config) { c.Providers, c.Sign = []provider.Provider{way}, signer })
	go feedback.New(k.Service, nil, slog.New(slog.DiscardHandler)).Serve(t.Context(), back, true)
	p, err := k.Service.Signup(t.Context(), illumicode.Request{Address: "jens@gullquay.example", Name: "Jens Öhlén",
		Locale: "ar"}, illumicode.Subject("a"))
	if err != nil || p.Ticket == "" {
		t.Fatal(err)
	}
	waitSent(t, k, 1)
	var mails []string
	for range 200 {
		if mails, _ = filepath.Glob(filepath.Join(server.dir, "mail", "inbox", "new", "*")); len(mails) > 0 {
			break
		}
		time.Sleep(50 * time.Millisecond) // the server's own pace
	}
	if len(mails) != 1 {
		log, _ := os.ReadFile(filepath.Join(server.dir, "log"))
		t.Fatalf("%d letters delivered\n%s", len(mails), log)
	}
	const verify = `
import dkim, sys
raw = open(sys.argv[1], "rb").read().replace(b"\r\n", b"\n").replace(b"\n", b"\r\n")
print(dkim.verify(raw, dnsfunc=lambda name, timeout=5: sys.argv[2].encode()))`
	out, err := exec.CommandContext(t.Context(), "/usr/bin/python3", "-c", verify, mails[0],
		key.Record()).CombinedOutput()
	if err != nil || strings.TrimSpace(string(out)) != "True" {
		t.Errorf("the delivered letter's signature: %s, %v", out, err)
	}
	if _, err := k.Service.Signup(t.Context(), illumicode.Request{Address: "gone@gullquay.example"},
		illumicode.Subject("b")); err != nil {
		t.Fatal(err)
	}
	eventually(t, func() bool { return fmt.Sprint(scopes(t, k, "gone@gullquay.example")) == "[bounced]" })
	story, err := desk.New(k.Service).Story(t.Context(), "gone@gullquay.example")
	if err != nil || len(story.Letters) != 1 || len(story.Letters[0].Returned) != 1 ||
		story.Letters[0].Returned[0].Status != "5.1.1" {
		t.Errorf("the bounce of a real server: %+v, %v", story.Letters, err)
	}
	config.Password = "sea gull at midnight"
	wrong, err := smtp.New("relay", config)
	if err != nil {
		t.Fatal(err)
	}
	if r := wrong.Check(t.Context(), "crew@ternisle.example", "jens@gullquay.example"); !r.Failed() ||
		!strings.Contains(r.Steps[len(r.Steps)-1].Next, "app password") {
		t.Errorf("a wrong password: %+v", r.Steps)
	}
}
