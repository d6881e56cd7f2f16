package keyring

import (
	"crypto/ed25519"
	"crypto/hkdf"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"
)

var t0 = time.Date(2031, 1, 2, 3, 4, 5, 0, time.UTC)

const issuer = "https://ferry.example"

func testRing(tb testing.TB) *Keyring {
	tb.Helper()
	ring, err := NewKeyring(newKey("k1", []byte(strings.Repeat("a", 32)), time.Time{}))
	if err != nil {
		tb.Fatal(err)
	}
	return ring
}

func sample(key *Key) Claims {
	return Claims{Challenge: "c-1", IssuedAt: t0.Unix(), Expires: t0.Add(time.Hour).Unix(),
		ID: "j-1", Bound: key.Bind("challenge", "mara@ternisle.example")}
}

func TestVerifyRefusals(t *testing.T) {
	ring := testRing(t)
	s := NewSigner(ring, issuer, "signup")
	good := s.Sign(ring.Active(), sample(ring.Active()))
	header, payload, tag, _ := split(good)

	foreign, _ := NewKeyring(GenerateKey(t0))
	retired, _ := NewKeyring(GenerateKey(t0), newKey("k1", []byte(strings.Repeat("a", 32)), t0))
	enc := func(s string) string { return b64.EncodeToString([]byte(s)) }
	resign := func(header string) string { // an attacker who somehow has the link key
		m := ring.Active().link.pool.Get().(*mac)
		tag := m.tag(header + "." + payload)
		return header + "." + payload + "." + string(tag[:])
	}
	for _, tt := range []struct {
		name string
		tok  string
		s    *Signer
		now  time.Time
		want error
	}{
		{"fits", good, s, t0, nil},
		{"last good second", good, s, t0.Add(time.Hour - time.Second), nil},
		{"the second of expiry", good, s, t0.Add(time.Hour), ErrExpired},
		{"empty", "", s, t0, ErrMalformed},
		{"cut short", good[:len(good)-1], s, t0, ErrMalformed},
		{"no tag", header + "." + payload, s, t0, ErrMalformed},
		{"fourth part", good + ".x", s, t0, ErrMalformed},
		{"too long", header + "." + payload + strings.Repeat("A", MaxLen) + "." + tag, s, t0, ErrMalformed},
		{"line break in the tag", header + "." + payload + "." + tag[:20] + "\n" + tag[21:], s, t0, ErrForged},
		{"another key", NewSigner(foreign, issuer, "signup").Sign(foreign.Active(), sample(foreign.Active())), s, t0,
			ErrUnknownKey},
		{"retired key", good, NewSigner(retired, issuer, "signup"), t0, ErrUnknownKey},
		{"key not yet retired", good, NewSigner(retired, issuer, "signup"), t0.Add(-time.Second), nil},
		{"another purpose", good, NewSigner(ring, issuer, "signin"), t0, ErrPurpose},
		{"another site", good, NewSigner(ring, "https://other.example", "signup"), t0, ErrPurpose},
		{"alg none", enc(`{"alg":"none","kid":"k1","typ":"illumicode-link+jwt"}`) + "." + payload + "." + tag, s, t0,
			ErrMalformed},
		{"alg none, empty tag", enc(`{"alg":"none"}`) + "." + payload + ".", s, t0, ErrMalformed},
		{"foreign alg, signed", resign(enc(`{"alg":"HS512","kid":"k1","typ":"illumicode-link+jwt"}`)), s, t0,
			ErrMalformed},
		{"foreign typ, signed", resign(enc(`{"alg":"HS256","kid":"k1","typ":"JWT"}`)), s, t0, ErrMalformed},
		{"critical header, signed",
			resign(enc(`{"alg":"HS256","crit":["x"],"kid":"k1","typ":"illumicode-link+jwt","x":1}`)), s, t0,
			ErrMalformed},
		{"expired forgery", header + "." + payload + "." + strings.Repeat("A", tagLen), s, t0.Add(99 * time.Hour),
			ErrForged},
	} {
		claims, err := tt.s.Verify(tt.tok, tt.now)
		if !errors.Is(err, tt.want) {
			t.Errorf("%s: Verify = %v, want %v", tt.name, err, tt.want)
		}
		if err != nil && !errors.Is(err, ErrExpired) && claims != (Claims{}) {
			t.Errorf("%s: claims %+v beside an error", tt.name, claims)
		}
	}
}

// Every single flipped bit, in each of the three parts, is refused.
func TestVerifyFlippedBits(t *testing.T) {
	ring := testRing(t)
	s := NewSigner(ring, issuer, "signup")
	good := s.Sign(ring.Active(), sample(ring.Active()))
	for i := range good {
		for bit := range 8 {
			bad := []byte(good)
			bad[i] ^= 1 << bit
			if _, err := s.Verify(string(bad), t0); err == nil {
				t.Fatalf("byte %d bit %d flipped: accepted", i, bit)
			}
		}
	}
}

func TestKeyringFile(t *testing.T) {
	a, b := GenerateKey(t0), GenerateKey(t0)
	b.verifyUntil = t0.Add(24 * time.Hour)
	ring, err := NewKeyring(a, b)
	if err != nil {
		t.Fatal(err)
	}
	back, err := ParseKeyring(ring.Marshal())
	if err != nil {
		t.Fatal(err)
	}
	if got := back.Active().Bind("x"); back.Active().ID() != a.ID() || got != a.Bind("x") {
		t.Errorf("the active key changed on its way through the file")
	}
	if _, err := back.Key(b.ID(), t0.Add(25*time.Hour)); !errors.Is(err, ErrUnknownKey) {
		t.Errorf("retired key: %v, want ErrUnknownKey", err)
	}
	if s := fmt.Sprintf("%v %+v %#v", a, a, a); strings.Contains(s, fmt.Sprint(a.secret)) ||
		strings.Contains(s, "secret") {
		t.Errorf("a printed key shows its secret: %s", s)
	}
	good := string(ring.Marshal())
	secret := base64.RawURLEncoding.EncodeToString(a.secret)
	for _, tt := range []struct{ name, file, want string }{
		{"not JSON", "hello", "JWK Set"},
		{"short secret", strings.Replace(good, secret, secret[:40], 1), "30 bytes"},
		{"padding", strings.Replace(good, secret, secret+"=", 1), "base64url"},
		{"two active", strings.Replace(good, `"verify"`, `"active"`, 1), "second active"},
		{"none active", strings.Replace(good, `"active"`, `"verify"`, 1), "no active key"},
		{"RSA", strings.Replace(good, `"oct"`, `"RSA"`, 1), "kty"},
		{"same kid", strings.ReplaceAll(good, b.kid, a.kid), "two keys"},
	} {
		_, err := ParseKeyring([]byte(tt.file))
		if err == nil || !strings.Contains(err.Error(), tt.want) {
			t.Errorf("%s: %v, want an error with %q", tt.name, err, tt.want)
		} else if strings.Contains(err.Error(), secret[:40]) {
			t.Errorf("%s: the error shows the secret", tt.name)
		}
	}
}

// A rotation keeps what was made before good until its end, and new keys sign; a file keeps all of it.
func TestRotation(t *testing.T) {
	ring := testRing(t)
	s := NewSigner(ring, issuer, "signup")
	old := ring.Active()
	tok := s.Sign(old, sample(old))
	lookup := ring.Index()[0].Lookup("mara@ternisle.example")
	next, err := ring.Rotate(ForLinks, t0, t0.Add(time.Hour))
	if err != nil {
		t.Fatal(err)
	}
	for _, use := range []Use{ForReceipts, ForReceipts, ForLookups} {
		if next, err = next.Rotate(use, t0, t0.Add(time.Hour)); err != nil {
			t.Fatal(err)
		}
	}
	read, err := ParseKeyring(next.Marshal())
	if err != nil {
		t.Fatal(err)
	}
	if string(read.Marshal()) != string(next.Marshal()) {
		t.Errorf("the file read and written:\n%s\nwant\n%s", read.Marshal(), next.Marshal())
	}
	ring.Replace(read) // in use: the signer has it at once
	if ring.Active().ID() == old.ID() {
		t.Error("the old key still signs")
	}
	if _, err := s.Verify(tok, t0.Add(time.Hour-time.Second)); err != nil && !errors.Is(err, ErrExpired) {
		t.Errorf("before its end: %v", err)
	}
	if _, err := s.Verify(tok, t0.Add(time.Hour)); !errors.Is(err, ErrUnknownKey) {
		t.Errorf("at its end: %v", err)
	}
	if index := ring.Index(); len(index) != 2 || index[1].Lookup("mara@ternisle.example") != lookup ||
		index[0].Lookup("mara@ternisle.example") == lookup {
		t.Errorf("%d keys for lookups, or the old one finds nothing", len(index))
	}
	if _, err := ring.Without(ring.Active().ID()); err == nil {
		t.Error("the key that signs was retired")
	}
	var set struct{ Keys []map[string]string }
	if err := json.Unmarshal(ring.JWKS(t0), &set); err != nil || len(set.Keys) != 2 {
		t.Fatalf("%d public keys, %v", len(set.Keys), err)
	}
	for _, k := range set.Keys {
		if k["d"] != "" || k["k"] != "" || k["kty"] != "OKP" || k["kid"] == old.ID() {
			t.Errorf("the public set has %v", k)
		}
	}
	if err := json.Unmarshal(ring.JWKS(t0.Add(time.Hour)), &set); err != nil || len(set.Keys) != 1 {
		t.Errorf("%d public keys after the old one's end, %v", len(set.Keys), err)
	}
}

// A receipt is no link, and a link is no receipt: neither key set takes the other's.
func TestReceiptIsNoLink(t *testing.T) {
	ring, err := testRing(t).Rotate(ForReceipts, t0, t0)
	if err != nil {
		t.Fatal(err)
	}
	receipt, err := ring.SignReceipt(Receipt{Issuer: issuer, Audience: "signup", Subject: "7", IssuedAt: t0.Unix(),
		Expires: t0.Add(24 * time.Hour).Unix()})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := NewSigner(ring, issuer, "signup").Verify(receipt, t0); err == nil {
		t.Error("a receipt is taken for a link")
	}
	parts := strings.Split(receipt, ".")
	sig, err := b64.DecodeString(parts[2])
	if err != nil || !ed25519.Verify(ring.Receipts()[0].Public(), []byte(parts[0]+"."+parts[1]), sig) {
		t.Errorf("its signature does not fit, %v", err)
	}
	payload, err := b64.DecodeString(parts[1])
	var c Receipt
	if err != nil || json.Unmarshal(payload, &c) != nil || c.Expires != t0.Add(ReceiptLife).Unix() {
		t.Errorf("it lives until %d, %v; want five minutes at most", c.Expires, err)
	}
	if _, err := testRing(t).SignReceipt(c); !errors.Is(err, ErrNoReceiptKey) {
		t.Errorf("without a key: %v", err)
	}
}

func unhex(s string) []byte {
	b, err := hex.DecodeString(strings.ReplaceAll(s, " ", ""))
	if err != nil {
		panic(err)
	}
	return b
}

// RFC 4231 §4.2 to §4.4 and §4.7: HMAC-SHA-256 as our pooled state computes it.
func TestHMACVectors(t *testing.T) {
	for i, tt := range []struct {
		key  []byte
		data string
		want string
	}{
		{unhex(strings.Repeat("0b", 20)), "Hi There",
			"b0344c61d8db38535ca8afceaf0bf12b881dc200c9833da726e9376c2e32cff7"},
		{[]byte("Jefe"), "what do ya want for nothing?",
			"5bdcc146bf60754e6a042426089575c75a003f089d2739839dec58b964ec3843"},
		{unhex(strings.Repeat("aa", 20)), strings.Repeat("\xdd", 50),
			"773ea91e36800e46854db8ebd09181a72959098b3ef8c122d9635514ced565fe"},
		{unhex(strings.Repeat("aa", 131)), "Test Using Larger Than Block-Size Key - Hash Key First",
			"60e431591ee0b67f0d8a26aacbf5b77f8e0bc6213728c5140546040f0ee37f54"},
	} {
		m := newMACs(tt.key)
		for range 2 { // the second use is of a state that was reset
			if got := m.sum(tt.data); hex.EncodeToString(got[:]) != tt.want {
				t.Errorf("case %d: %x, want %s", i+1, got, tt.want)
			}
		}
	}
	long := strings.Repeat("x", 3*MaxLen+1) // fed to the state in pieces
	h := hmac.New(sha256.New, []byte("k"))
	h.Write([]byte(long))
	if got := newMACs([]byte("k")).sum(long); !hmac.Equal(got[:], h.Sum(nil)) {
		t.Error("a message longer than the buffer has another HMAC")
	}
}

// RFC 5869 appendix A.1 and A.3, and that derive is that function without a salt.
func TestHKDFVectors(t *testing.T) {
	ikm := unhex(strings.Repeat("0b", 22))
	got, err := hkdf.Key(sha256.New, ikm, unhex("000102030405060708090a0b0c"), string(unhex("f0f1f2f3f4f5f6f7f8f9")),
		42)
	if want := "3cb25f25faacd57a90434f64d0362f2a2d2d0a90cf1a5a4c5db02d56ecc4c5bf34007208d5b887185865"; err != nil ||
		hex.EncodeToString(got) != want {
		t.Errorf("A.1: %x %v", got, err)
	}
	if got := derive(ikm, ""); hex.EncodeToString(
		got) != "8da4e775a563c18f715f802a063c5a31b8a11f5c5ee1879ec3454e5f3c738d2d" {
		t.Errorf("A.3: derive = %x", got) // the first 32 of the vector's 42 bytes
	}
	if string(derive(ikm, labelLink)) == string(derive(ikm, labelCode)) {
		t.Error("two labels gave one key")
	}
}

// RFC 7515 appendix A.1: the signature of the example, from its key and signing input.
func TestJWSVector(t *testing.T) {
	key, err := b64.DecodeString(
		"AyM1SysPpbyDfgZld3umj1qzKObwVMkoqQ-EstJQLr_T-1qS0gZH75aKtMN3Yj0iPS4hcgUuTwjAzZr1Z9CAow")
	if err != nil {
		t.Fatal(err)
	}
	m := newMACs(key).pool.Get().(*mac)
	tag := m.tag("eyJ0eXAiOiJKV1QiLA0KICJhbGciOiJIUzI1NiJ9." +
		"eyJpc3MiOiJqb2UiLA0KICJleHAiOjEzMDA4MTkzODAsDQogImh0dHA6Ly9leGFtcGxlLmNvbS9pc19yb290Ijp0cnVlfQ")
	if want := "dBjftJeZ4CVP-mB92K27uhbUJU1p1r_wW1gFWFOEjXk"; string(tag[:]) != want {
		t.Errorf("tag = %s, want %s", tag, want)
	}
}

func FuzzVerify(f *testing.F) {
	ring := testRing(f)
	s := NewSigner(ring, issuer, "signup")
	f.Add(s.Sign(ring.Active(), sample(ring.Active()))) // without an accepted seed, only refusals get explored
	f.Add("a.b." + strings.Repeat("A", tagLen))
	f.Fuzz(func(t *testing.T, tok string) {
		c, err := s.Verify(tok, t0)
		if err != nil {
			return
		}
		if again := s.Sign(ring.Active(), c); again != tok {
			t.Errorf("second spelling accepted: %q", tok)
		}
	})
}

func ExampleSigner_Verify() {
	t0 := time.Date(2031, 1, 2, 3, 4, 5, 0, time.UTC)
	ring, _ := NewKeyring(GenerateKey(t0))
	s := NewSigner(ring, "https://ferry.example", "signup")
	tok := s.Sign(ring.Active(), Claims{Challenge: "c-17", Expires: t0.Add(15 * time.Minute).Unix()})
	claims, err := s.Verify(tok, t0)
	fmt.Println(claims.Challenge, err)
	_, err = s.Verify(tok, t0.Add(15*time.Minute)) // the second of expiry is already too late
	fmt.Println(err)
	// Output:
	// c-17 <nil>
	// token: expired
}

// The claims hold nothing but what the documentation lists, and never the address.
func TestClaimsHoldNoAddress(t *testing.T) {
	ring := testRing(t)
	tok := NewSigner(ring, issuer, "signup").Sign(ring.Active(), sample(ring.Active()))
	_, payload, _, _ := split(tok)
	raw, _ := b64.DecodeString(payload)
	var m map[string]any
	if err := json.Unmarshal(raw, &m); err != nil {
		t.Fatal(err)
	}
	if strings.Contains(string(raw), "mara") || len(m) != 7 {
		t.Errorf("claims = %s", raw)
	}
}

// What was sealed comes back whole, for its purpose, under its key, and under no other.
func TestSeal(t *testing.T) {
	now := time.Unix(1924000000, 0)
	a, b := GenerateKey(now), GenerateKey(now)
	both, err := NewKeyring(a, b)
	if err != nil {
		t.Fatal(err)
	}
	sealed := a.Seal("unsubscribe", "mara@ternisle.example", "sailings")
	if again := a.Seal("unsubscribe", "mara@ternisle.example", "sailings"); again != sealed ||
		strings.Contains(sealed, "mara") {
		t.Errorf("sealed as %q and %q", sealed, again)
	}
	if got, err := both.Unseal("unsubscribe", sealed, now); err != nil || len(got) != 2 ||
		got[0] != "mara@ternisle.example" {
		t.Errorf("%q, %v", got, err)
	}
	_, text, _ := strings.Cut(sealed, ".")
	alone, err := NewKeyring(b)
	if err != nil {
		t.Fatal(err)
	}
	for name, tt := range map[string]struct {
		ring            *Keyring
		purpose, sealed string
		want            error
	}{
		"another purpose": {both, "undo", sealed, ErrForged},
		"another key":     {both, "unsubscribe", b.ID() + "." + text, ErrForged},
		"unknown key":     {alone, "unsubscribe", sealed, ErrUnknownKey},
		"damaged":         {both, "unsubscribe", sealed[:len(sealed)-4] + "AAAA", ErrForged},
		"cut":             {both, "unsubscribe", a.ID() + ".AAAA", ErrMalformed},
		"no key":          {both, "unsubscribe", text, ErrMalformed},
		"line breaks": {both, "unsubscribe", sealed[:len(sealed)-4] + "\r\n" + sealed[len(sealed)-4:],
			ErrMalformed},
		"very long": {both, "unsubscribe", sealed + strings.Repeat("A", 13<<10), ErrMalformed},
	} {
		if got, err := tt.ring.Unseal(tt.purpose, tt.sealed, now); !errors.Is(err, tt.want) {
			t.Errorf("%s: %q, %v; want %v", name, got, err, tt.want)
		}
	}
}

// What was not sealed here is refused; what was is one spelling, for one purpose.
func FuzzUnseal(f *testing.F) {
	ring := testRing(f)
	f.Add(ring.Active().Seal("fuzz", "mara", "sailings"))
	f.Add(ring.Active().ID() + ".")
	f.Fuzz(func(t *testing.T, sealed string) {
		values, err := ring.Unseal("fuzz", sealed, t0)
		if err == nil && ring.Active().Seal("fuzz", values...) != sealed {
			t.Errorf("a second spelling is taken: %q", sealed)
		}
		if _, err := ring.Unseal("another purpose", sealed, t0); err == nil {
			t.Errorf("%q is taken for another purpose", sealed)
		}
	})
}

// A return path leads to its delivery in whatever case a server has written it, in one spelling, and
// to none if one character is another.
func TestReturnPath(t *testing.T) {
	now := time.Date(2026, 11, 23, 10, 0, 0, 0, time.UTC)
	key, other := GenerateKey(now), GenerateKey(now)
	ring, err := NewKeyring(key)
	if err != nil {
		t.Fatal(err)
	}
	const id = "0193579a-0b1c-7def-8123-456789abcdef"
	path := key.ReturnPath(id)
	if len(path) != PathLength || path != strings.ToLower(path) {
		t.Fatalf("ReturnPath = %q", path)
	}
	for _, spelling := range []string{path, strings.ToUpper(path), path[:20] + strings.ToUpper(path[20:])} {
		if got, ok := ring.ReadReturnPath(spelling, now); !ok || got != id {
			t.Errorf("ReadReturnPath(%q) = %q, %v", spelling, got, ok)
		}
	}
	for i := range len(path) {
		for _, c := range "abcdefghijklmnopqrstuvwxyz234567" {
			if byte(c) == path[i] {
				continue
			}
			if got, ok := ring.ReadReturnPath(path[:i]+string(c)+path[i+1:], now); ok {
				t.Errorf("with %c at %d it leads to %q", c, i, got)
			}
		}
	}
	for _, forged := range []string{other.ReturnPath(id), path[:41], path + "a", "", strings.Repeat("=", PathLength)} {
		if got, ok := ring.ReadReturnPath(forged, now); ok {
			t.Errorf("%q leads to %q", forged, got)
		}
	}
	if got := key.ReturnPath("sailing-7"); got != "" {
		t.Errorf("an id that is no UUID has the path %q", got)
	}
}
