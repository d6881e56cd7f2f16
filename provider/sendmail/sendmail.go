// Package sendmail is the way out through a local program that takes a message on its standard
// input, with the calling convention that mail systems on Unix share.
package sendmail

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os/exec"
	"strings"
	"syscall"
	"time"

	"github.com/illumicode/illumicode/provider"
	"github.com/illumicode/illumicode/retry"
)

// A Provider runs one program for each letter. It is safe for concurrent use. Use [New].
type Provider struct {
	name    string
	path    string
	senders []string
}

var _ provider.Provider = (*Provider)(nil)

// New returns a provider that runs the program at path, such as /usr/sbin/sendmail, as
//
//	path -i -f FROM -- TO
//
// senders are the addresses and domains it may send from; none means any. The error says that
// there is no such program.
func New(name, path string, senders ...string) (*Provider, error) {
	full, err := exec.LookPath(path)
	if err != nil {
		return nil, fmt.Errorf("sendmail provider %q: %w; give the path of the program", name, err)
	}
	return &Provider{name, full, senders}, nil
}

// Name returns the provider's name.
func (p *Provider) Name() string { return p.name }

// Can returns what the provider carries: mail.
func (p *Provider) Can() provider.Ability { return provider.Ability{Mail: true, Senders: p.senders} }

// Exit codes of sysexits.h, which such programs share.
const (
	exUsage       = 64
	exNoUser      = 67
	exNoHost      = 68
	exUnavailable = 69
	exTempFail    = 75
	exNoPerm      = 77
	exConfig      = 78
)

// Send implements [provider.Provider].
func (p *Provider) Send(ctx context.Context, h provider.Handover) provider.Result {
	if strings.HasPrefix(h.Envelope.From, "-") || strings.HasPrefix(h.Envelope.To, "-") {
		return provider.Result{
			Class: retry.MessageRefused, Reply: "an address that begins with a dash could be taken for an option"}
	}
	cmd := exec.CommandContext(ctx, p.path, "-i", "-f", h.Envelope.From, "--", h.Envelope.To)
	cmd.WaitDelay = 2 * time.Second // for a program that leaves children behind
	var said bytes.Buffer
	cmd.Stdout, cmd.Stderr = &said, &said
	in, err := cmd.StdinPipe()
	if err != nil {
		return provider.Result{Class: retry.Transient, Reply: err.Error()}
	}
	if err := h.Begin(ctx); err != nil {
		return provider.NotSent(err)
	}
	if err := cmd.Start(); err != nil {
		return provider.Result{Class: retry.Misconfigured, Reply: err.Error()}
	}
	_, writeErr := h.Message.WriteTo(in)
	if writeErr != nil && !errors.Is(writeErr, syscall.EPIPE) {
		cmd.Process.Kill() // before its input ends, so that half a letter is not taken for a whole one
	}
	finalErr := error(nil)
	if writeErr == nil {
		if finalErr = h.Final(ctx); finalErr != nil {
			cmd.Process.Kill()
		}
	}
	in.Close() // an error here is the program's early end, which Wait tells
	err = cmd.Wait()
	reply := strings.TrimSpace(said.String())
	exit, exited := errors.AsType[*exec.ExitError](err)
	switch {
	case finalErr != nil:
		return provider.NotSent(finalErr)
	case err == nil && writeErr == nil:
		return provider.Result{Class: retry.Accepted, Reply: "exit 0 " + reply}
	case writeErr != nil && !errors.Is(writeErr, syscall.EPIPE):
		return provider.Result{Class: retry.Transient, Reply: writeErr.Error()}
	case exited && exit.ExitCode() >= 0:
		return provider.Result{Class: classOf(exit.ExitCode()), Code: exit.ExitCode(),
			Reply: fmt.Sprintf("exit %d %s", exit.ExitCode(), reply)}
	case err == nil: // it ended well without reading to the end
		return provider.Result{Class: retry.Ambiguous, Reply: "the program ended before it had read the letter"}
	}
	return provider.Result{
		Class: retry.Ambiguous, Reply: strings.TrimSpace("the program was ended: " + err.Error() + " " + reply)}
}

func classOf(exit int) retry.Class {
	switch exit {
	case exNoUser, exNoHost:
		return retry.RecipientRefused
	case exUsage, exNoPerm, exConfig, exUnavailable:
		return retry.Misconfigured
	case exTempFail:
		return retry.Transient
	}
	// data, input, software, OS: of those that remain, the letter's fault or the system's
	if exit > exUsage && exit < exTempFail {
		return retry.MessageRefused
	}
	return retry.Transient
}
