package web

import (
	"fmt"
	"html/template"
	"strconv"
	"strings"

	"github.com/illumicode/illumicode/challenge"
)

// What templates call for words. Whole sentences stand in words.toml, with places for what is put in.

// pick returns the words of a key: those for a phone number, and those for a sign-in, before the others.
func (p page) pick(key string) string {
	var ends []string
	if p.Purpose == challenge.SignIn {
		ends = append(ends, "_signin")
	}
	if p.Phone {
		ends = append([]string{"_sms"}, ends...)
		if p.Purpose == challenge.SignIn {
			ends = append([]string{"_signin_sms"}, ends...)
		}
	}
	for _, end := range ends {
		if words := p.Words[key+end]; words != "" {
			return words
		}
	}
	return p.Words[key]
}

// Say returns the words of a key as markup: what is put in is escaped, and set apart for readers of both directions. A
// {{time}} is counted down, from Count.
func (p page) Say(key string) template.HTML { return p.SayIn(key, p.Count) }

// SayIn is Say with the seconds that {{time}} counts down from.
func (p page) SayIn(key string, seconds int) template.HTML {
	apart := func(s string) string { return "<bdi>" + template.HTMLEscapeString(s) + "</bdi>" }
	return template.HTML(p.put(template.HTMLEscapeString(p.pick(key)), map[string]string{
		"site": apart(p.Site.Name), "address": `<b class="address">` + apart(p.Address) + "</b>",
		"n": strconv.Itoa(p.Tries), "request": apart(p.Request),
		"resend": template.HTMLEscapeString(p.pick("resend_button")),
		"time":   fmt.Sprintf(`<b data-count="%d">%s</b>`, seconds, p.Clock(seconds)),
	}))
}

// Plain returns the words of a key as text, for titles.
func (p page) Plain(key string) string {
	return p.put(p.pick(key), map[string]string{"site": p.Site.Name, "address": p.Address, "n": strconv.Itoa(p.Tries),
		"request": p.Request, "resend": p.pick("resend_button"), "time": p.Clock(p.Count)})
}

// put replaces {{name}} by the values.
func (p page) put(words string, values map[string]string) string {
	if !strings.Contains(words, "{{") {
		return words
	}
	var pairs []string
	for name, value := range values {
		pairs = append(pairs, "{{"+name+"}}", value)
	}
	return strings.NewReplacer(pairs...).Replace(words)
}

// Clock writes seconds as minutes and seconds, and as hours before them from one on.
func (p page) Clock(seconds int) string {
	if seconds >= 3600 {
		return fmt.Sprintf("%d:%02d:%02d", seconds/3600, seconds/60%60, seconds%60)
	}
	return fmt.Sprintf("%d:%02d", seconds/60, seconds%60)
}
