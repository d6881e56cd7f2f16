package config

import (
	"fmt"
	"time"

	"github.com/illumicode/illumicode/provider"
	"github.com/illumicode/illumicode/provider/discard"
	"github.com/illumicode/illumicode/provider/file"
	"github.com/illumicode/illumicode/provider/httpapi"
	"github.com/illumicode/illumicode/provider/sendmail"
	"github.com/illumicode/illumicode/provider/smtp"
	"github.com/illumicode/illumicode/retry"
)

// Providers returns the ways out. They connect to nothing yet; those that are an io.Closer want to
// be closed.
func (f *File) Providers() ([]provider.Provider, error) {
	var ways []provider.Provider
	for i, p := range f.Provider {
		way, err := f.provider(i, p)
		if err != nil {
			return nil, err
		}
		ways = append(ways, way)
	}
	return ways, nil
}

// provider opens the ith way out.
func (f *File) provider(i int, p Provider) (way provider.Provider, err error) {
	key := fmt.Sprintf("provider[%d]", i)
	if len(p.Outcome) > 0 && p.Kind != "smtp" && p.Kind != "http" {
		return nil, f.wrong(key+".outcome", "has no effect with kind %q; its answers have one meaning each", p.Kind)
	}
	switch p.Kind {
	case "smtp":
		var c smtp.Config
		if c, err = f.smtp(key, p); err != nil {
			return nil, err
		}
		way, err = smtp.New(p.Name, c)
	case "http":
		var c httpapi.Config
		if c, err = f.http(key, p); err != nil {
			return nil, err
		}
		way, err = httpapi.New(p.Name, c)
	case "sendmail":
		path := p.Path
		if path == "" {
			path = "/usr/sbin/sendmail"
		}
		way, err = sendmail.New(p.Name, path, p.Senders...)
	case "file":
		if p.Path == "" {
			return nil, f.wrong(key+".path", "is missing; name the folder to write letters into")
		}
		way, err = file.New(p.Name, f.inFolder(p.Path))
	default:
		way = discard.Provider{As: p.Name}
	}
	if err != nil {
		return nil, f.wrong(key, "%w", err)
	}
	return way, nil
}

// smtp returns what an SMTP provider is configured by.
func (f *File) smtp(key string, p Provider) (smtp.Config, error) {
	var outcomes []smtp.Outcome
	for i, o := range p.Outcome {
		if o.Status+o.Pointer+o.Equals != "" {
			return smtp.Config{}, f.wrong(fmt.Sprintf("%s.outcome[%d]", key, i), "has status, pointer or "+
				"equals, which are of HTTP; for SMTP say at, code, enhanced or words")
		}
		outcomes = append(outcomes, smtp.Outcome{At: o.At, Code: o.Code, Enhanced: o.Enhanced, Words: o.Words,
			Class: retry.Class(o.Class), Concerns: provider.Concern(o.Concerns)})
	}
	password, err := f.secret(key+".password", p.PasswordEnv, p.PasswordFile)
	return smtp.Config{
		Host: p.Host, Port: p.Port, TLS: smtp.TLS(p.TLS), Clear: p.Clear, User: p.User, Password: password,
		CAFile: f.inFolder(p.CAFile),
		Hello:  p.Hello,
		Dial:   time.Duration(p.Dial), Command: time.Duration(p.Command), Final: time.Duration(p.Final),
		Idle: time.Duration(p.Idle), Age: time.Duration(p.Age), Letters: p.Letters, Most: p.Most, Senders: p.Senders,
		Outcomes: outcomes,
	}, err
}

// http returns what a provider over HTTP is configured by.
func (f *File) http(key string, p Provider) (httpapi.Config, error) {
	c := httpapi.Config{
		Method: p.Method, URL: p.URL, Form: p.Form, Body: p.Body, Headers: p.Headers, SMS: p.SMS, Most: p.Most,
		Senders: p.Senders, Auth: httpapi.Auth{User: p.User, Header: p.HMACHeader},
		IdempotencyHeader: p.IdempotencyHeader, MessageID: p.MessageID, Probe: p.Probe,
		Timeout: time.Duration(p.Timeout),
	}
	for _, s := range []struct {
		name, env, file string
		into            *provider.Secret
	}{
		{"password", p.PasswordEnv, p.PasswordFile, &c.Auth.Password},
		{"bearer", p.BearerEnv, p.BearerFile, &c.Auth.Bearer},
		{"hmac", p.HMACEnv, p.HMACFile, &c.Auth.HMAC},
	} {
		var err error
		if *s.into, err = f.secret(key+"."+s.name, s.env, s.file); err != nil {
			return c, err
		}
	}
	for i, o := range p.Outcome {
		if o.At+o.Code+o.Enhanced+o.Words+o.Concerns != "" {
			return c, f.wrong(fmt.Sprintf("%s.outcome[%d]", key, i), "has at, code, enhanced, words or concerns, "+
				"which are of SMTP; for HTTP say status, pointer or equals")
		}
		c.Outcomes = append(c.Outcomes, httpapi.Outcome{Status: o.Status, Pointer: o.Pointer, Equals: o.Equals,
			Class: retry.Class(o.Class)})
	}
	return c, nil
}
