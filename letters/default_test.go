package letters

import (
	"errors"
	"io"
	"strings"
	"testing"
	"time"

	"golang.org/x/net/html"
	"golang.org/x/text/language"

	"github.com/illumicode/illumicode/internal/core/render"
)

func defaults(tb testing.TB) *render.Set {
	tb.Helper()
	set, err := Default()
	if err != nil {
		tb.Fatal(err)
	}
	return render.Of(set)
}

func confirm(locale string, name string) render.Request {
	return render.Request{
		Letter: "confirm", Locale: language.MustParse(locale), Data: map[string]any{"name": name},
		Proof: render.Proof{Link: "https://ferry.example/confirm?t=e30.e30.x", LinkLife: 24 * time.Hour,
			Code: "482 913", CodeLife: 10 * time.Minute},
		Writer: writer(render.Writer{Name: "Tern Isle Ferry", HomePage: "https://ferry.example/",
			Imprint: "Quay 1\nTern Isle"}),
	}
}

// writer returns w with its default colours.
func writer(w render.Writer) render.Writer {
	w, err := w.Check()
	if err != nil {
		panic(err)
	}
	return w
}

func TestConfirmInManyLanguages(t *testing.T) {
	for _, tt := range []struct {
		locale string
		want   []string
	}{
		{"en", []string{"Hello Mara,", "Confirm email address", "24 hours", "10 minutes", "Your code"}},
		{"de", []string{"Guten Tag Mara,", "E-Mail-Adresse bestätigen", "24 Stunden", "10 Minuten", "Ihr Code"}},
		{"pl", []string{"Dzień dobry, Mara,", "24 godziny", "10 minut"}},
		{"ar", []string{"24 ساعة", "10 دقائق"}},
		{"ja", []string{"Mara様", "24時間", "10分"}},
		{"pt-PT", []string{"Olá, Mara,", "Ou introduza o código", "24 horas"}},
		{"fr-CA", []string{"Bonjour Mara,", "adresse courriel"}},
		{"nl", []string{"Hello Mara,"}}, // the fallback
	} {
		got, err := defaults(t).Render(confirm(tt.locale, "Mara"))
		if err != nil {
			t.Fatal(err)
		}
		shown := words(t, got.HTML)
		for _, want := range append(tt.want, "482 913", "Tern Isle Ferry", "Quay 1") {
			if !strings.Contains(got.Text, want) || !strings.Contains(shown, want) {
				t.Errorf("%s: %q is missing from the text or the HTML part:\n%s", tt.locale, want, got.Text)
			}
		}
		if !strings.Contains(got.Text, "\nhttps://ferry.example/confirm?t=e30.e30.x\n") ||
			!strings.Contains(got.HTML, `href="https://ferry.example/confirm?t=e30.e30.x"`) {
			t.Errorf("%s: the link is not whole in both parts", tt.locale)
		}
		if !strings.Contains(got.Subject, "Tern Isle Ferry") || strings.Contains(got.Subject, "482") {
			t.Errorf("%s: subject %q", tt.locale, got.Subject)
		}
		if strings.Contains(got.Text, "\n\n\n") || len(got.HTML) > 100_000 {
			t.Errorf("%s: a gap in the text, or HTML over 100 kB", tt.locale)
		}
		for line := range strings.SplitSeq(got.Text, "\n") {
			if len([]rune(line)) > 72 && strings.Contains(line, " ") {
				t.Errorf("%s: line %q is too long", tt.locale, line)
			}
		}
	}
}

// Each part can be left out, and what is left closes up.
func TestPartsLeaveNoGap(t *testing.T) {
	r := confirm("en", "")
	r.Proof.Code = ""
	r.Writer.HomePage, r.Writer.Imprint = "", ""
	got, err := defaults(t).Render(r)
	if err != nil {
		t.Fatal(err)
	}
	if strings.Contains(got.Text, "Your code") || strings.Contains(got.HTML, "Your code") ||
		strings.Contains(got.Text, "\n\n\n") {
		t.Errorf("the label of a code that is not there, or a gap:\n%s", got.Text)
	}
	if !strings.HasPrefix(got.Text, "Hello,\n") {
		t.Errorf("an empty name leaves a gap: %.20q", got.Text)
	}
	r = render.Request{Letter: "trial", Locale: language.English,
		Writer: writer(render.Writer{Name: "Tern Isle Ferry"})}
	if got, err = defaults(t).Render(r); err != nil || strings.Contains(got.HTML, "<a ") ||
		strings.Contains(got.Text, "\n\n\n") {
		t.Errorf("a letter without proof: %v\n%s", err, got.Text)
	}
}

func TestMissingValueIsNamed(t *testing.T) {
	r := confirm("de", "Mara")
	delete(r.Data, "name")
	_, err := defaults(t).Render(r)
	want := `letter "confirm", locale de: the value "name" is missing`
	if !errors.Is(err, render.ErrMissing) || !strings.Contains(err.Error(), want) {
		t.Errorf("Render = %v, want %q", err, want)
	}
	if err := defaults(t).Check("confrim", language.English, nil); !errors.Is(err, render.ErrMissing) {
		t.Errorf("an unknown letter: %v", err)
	}
}

// A value can become neither markup, nor a link, nor a header, nor a template.
func TestValuesStayValues(t *testing.T) {
	evil := `<a href="https://evil.example">x</a><script>alert(1)</script> {{.site}}`
	got, err := defaults(t).Render(confirm("en", evil))
	if err != nil {
		t.Fatal(err)
	}
	if strings.Contains(got.HTML, "<script>") || strings.Contains(got.HTML, `href="https://evil`) {
		t.Error("a value became markup")
	}
	if !strings.Contains(words(t, got.HTML), evil) {
		t.Error("the value does not show as it was given")
	}
	r := confirm("en", "Mara")
	r.Writer.Name = "Tern\r\nBcc: all@ternisle.example"
	if got, err = defaults(t).Render(r); err != nil || strings.ContainsAny(got.Subject, "\r\n") {
		t.Errorf("subject %q, %v", got.Subject, err)
	}
	r = confirm("en", "Mara")
	r.Proof.Link = "javascript:alert(1)"
	if got, err = defaults(t).Render(r); err != nil || strings.Contains(got.HTML, "javascript:") {
		t.Errorf("a script for a link got through: %v", err)
	}
	if _, err = defaults(t).Render(confirm("en", strings.Repeat("x", 300<<10))); err == nil {
		t.Error("a value of 300 kB was set")
	}
}

// words returns the text a reader of the HTML sees.
func words(tb testing.TB, source string) string {
	tb.Helper()
	z := html.NewTokenizer(strings.NewReader(source))
	var b strings.Builder
	for {
		switch z.Next() {
		case html.ErrorToken:
			if !errors.Is(z.Err(), io.EOF) {
				tb.Fatal(z.Err())
			}
			return b.String()
		case html.TextToken:
			b.Write(z.Text())
		}
	}
}

func TestLocaleMatching(t *testing.T) {
	set := defaults(t)
	for wish, want := range map[string]string{"de-AT": "de", "en-GB": "en-GB", "en-US": "en", "pt-BR, de;q=0.8": "pt",
		"nl, de;q=0.8": "de", "": "en", "not a tag!": "en", "ja": "ja", "ko": "en"} {
		if got := set.Locale(wish).String(); got != want {
			t.Errorf("Locale(%q) = %s, want %s", wish, got, want)
		}
	}
}

// In a letter that runs from right to left a code, an address and a name are set apart, in the text too; the subject
// has no such marks.
func TestRightToLeft(t *testing.T) {
	r := confirm("ar", "Mara")
	got, err := defaults(t).Render(r)
	if err != nil {
		t.Fatal(err)
	}
	for _, want := range []string{"\u2066482 913\u2069", "\u2068Mara\u2069"} {
		if !strings.Contains(got.Text, want) {
			t.Errorf("the text lacks %q:\n%s", want, got.Text)
		}
	}
	r.Proof.Code, r.Letter, r.Data = "", "address-change", map[string]any{"name": "Mara", "new_address": "+4790012345",
		"undo_days": 7}
	if got, err = defaults(t).Render(r); err != nil || !strings.Contains(got.Text, "\u2068+4790012345\u2069") {
		t.Errorf("%v\n%s", err, got.Text)
	}
	if strings.ContainsAny(got.Subject, "\u2066\u2068\u2069") {
		t.Errorf("the subject is %q", got.Subject)
	}
	sms, err := defaults(t).RenderSMS(confirm("en", ""))
	if err != nil || !strings.Contains(sms, "482913") {
		t.Errorf("the text message says %q, %v", sms, err)
	}
}

// A label that the words of a letter name is that of the button that they mean.
func TestNamedLabels(t *testing.T) {
	for _, locale := range defaults(t).Locales() {
		r := confirm(locale.String(), "Mara")
		r.Proof.NotMe = "https://ferry.example/not-me?t=x"
		got, err := defaults(t).Render(r)
		if err != nil {
			t.Fatal(err)
		}
		flat := strings.Join(strings.Fields(got.Text), " ")
		for _, link := range []string{r.Proof.Link, r.Proof.NotMe} {
			before, _, _ := strings.Cut(got.Text, "\n"+link)
			label := before[strings.LastIndexByte(before, '\n')+1:]
			if strings.Count(strings.ReplaceAll(flat, " ", ""), strings.ReplaceAll(label, " ", "")) < 2 {
				t.Errorf("%s: the label %q is not named in the letter:\n%s", locale, label, got.Text)
			}
		}
	}
}
