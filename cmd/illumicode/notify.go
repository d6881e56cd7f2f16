package main

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"mime"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/desk"
	"github.com/illumicode/illumicode/internal/core/events"
	"github.com/illumicode/illumicode/internal/flow"
	"github.com/illumicode/illumicode/internal/store"
	"github.com/illumicode/illumicode/message"
)

func (a *app) notify() *cobra.Command {
	var n illumicode.Notice
	var data, attach []string
	var wait time.Duration
	var events string
	cmd := &cobra.Command{
		Use:   "notify",
		Short: "Send one letter by hand, at once, and tell what the provider said",
		Args:  noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if events != "" {
				if n.To.Address != "" || len(data)+len(attach) > 0 {
					return misuse{
						errors.New("--event takes letter, recipients and values from the rules and the event; " +
							"leave the other flags out")}
				}
				return a.receive(cmd, events)
			}
			if n.To.Address == "" {
				return misuse{errors.New("notify wants --to, the address to write to")}
			}
			values, err := pairs(data)
			if err != nil {
				return err
			}
			n.Data = values
			for _, name := range attach {
				file, err := os.Open(name)
				if err != nil {
					return fmt.Errorf("--attach: %w", err)
				}
				defer file.Close()
				n.Attachments = append(n.Attachments, attachment(name, file))
			}
			f, err := a.load()
			if err != nil {
				return err
			}
			return a.withService(cmd.Context(), f, func(svc *illumicode.Service, _ *slog.Logger) error {
				d, err := desk.New(svc).Send(cmd.Context(), n)
				if err != nil {
					return err
				}
				return a.tellEnd(cmd.Context(), svc, d.ID, wait)
			})
		},
	}
	cmd.Flags().StringVar(&events, "event", "",
		"take the events (CloudEvents 1.0 in JSON) in this file, - for standard input; recipients may follow in lines")
	cmd.Flags().StringVar(&n.Letter, "letter", "trial", "the letter's name")
	cmd.Flags().StringVar(&n.To.Address, "to", "", "the address to write to")
	cmd.Flags().StringVar(&n.To.Name, "name", "", "the reader's display name")
	cmd.Flags().StringVar(&n.To.Locale, "locale", "",
		"the reader's language, such as de (default: the letters' fallback)")
	cmd.Flags().StringArrayVar(&data, "data", nil, "a value of the letter, as name=value; may be given several times")
	cmd.Flags().StringArrayVar(&attach, "attach", nil, "a file to attach; may be given several times")
	cmd.Flags().StringVar(&n.ReplyTo, "reply-to", "", "where answers go (default: the letter's own)")
	cmd.Flags().DurationVar(&wait, "wait", 30*time.Second, "how long to wait if another worker has taken the letter")
	return cmd
}

func attachment(name string, body io.Reader) message.Attachment {
	return message.Attachment{Name: filepath.Base(name), Type: mime.TypeByExtension(filepath.Ext(name)), Body: body}
}

// pairs reads name=value.
func pairs(data []string) (map[string]string, error) {
	values := make(map[string]string)
	for _, pair := range data {
		key, value, ok := strings.Cut(pair, "=")
		if !ok || key == "" {
			return nil, misuse{fmt.Errorf("--data %s: write it as name=value", pair)}
		}
		values[key] = value
	}
	return values, nil
}

// receive takes the events in a file, as if they had come over HTTP.
func (a *app) receive(cmd *cobra.Command, path string) error {
	in := cmd.InOrStdin()
	if path != "-" {
		file, err := os.Open(path)
		if err != nil {
			return fmt.Errorf("--event: %w", err)
		}
		defer file.Close()
		in = file
	}
	read, lines, err := inLines(in)
	if err != nil {
		return fmt.Errorf("--event: %w", err)
	}
	f, err := a.load()
	if err != nil {
		return err
	}
	return a.withService(cmd.Context(), f, func(svc *illumicode.Service, _ *slog.Logger) error {
		if lines {
			return a.receiveList(cmd.Context(), svc, read)
		}
		raw, err := io.ReadAll(io.LimitReader(read, 64<<20))
		if err != nil {
			return fmt.Errorf("--event: %w", err)
		}
		all, err := events.Parse("", raw)
		if err != nil {
			return err
		}
		if err := svc.Receive(cmd.Context(), all...); err != nil {
			return err
		}
		return a.print(map[string]int{"taken": len(all)}, func() {
			a.line("Events taken: %d. Their letters are in the outbox: `illumicode outbox list`.", len(all))
		})
	})
}

// inLines reports whether an event is followed by its recipients: its first line is a JSON object, and there are more.
func inLines(in io.Reader) (again io.Reader, yes bool, err error) {
	head := bufio.NewReaderSize(in, events.MaxData+2*events.MaxLine)
	begin, err := head.Peek(head.Size())
	if err != nil && !errors.Is(err, io.EOF) {
		return nil, false, err
	}
	first, rest, _ := bytes.Cut(bytes.TrimSpace(begin), []byte("\n"))
	return head, len(bytes.TrimSpace(rest)) > 0 && bytes.HasPrefix(first, []byte("{")) && json.Valid(first), nil
}

func (a *app) receiveList(ctx context.Context, svc *illumicode.Service, in io.Reader) error {
	n, err := svc.ReceiveList(ctx, in)
	if err != nil {
		return err
	}
	return a.print(map[string]int{"taken": 1, "recipients": n}, func() {
		a.line("Event taken, with %d recipients. Their letters are in the outbox: `illumicode outbox list`.", n)
	})
}

// tellEnd waits until the delivery has had its attempt, and says what became of it. The error is
// that it has not been sent.
func (a *app) tellEnd(ctx context.Context, svc *illumicode.Service, id string, wait time.Duration) error {
	st := flow.Of(svc).Store
	deadline := time.Now().Add(wait)
	d, err := st.Delivery(ctx, id)
	if err != nil {
		return err
	}
	for d.State == store.Claimed && time.Now().Before(deadline) {
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(100 * time.Millisecond):
		}
		if d, err = st.Delivery(ctx, id); err != nil {
			return err
		}
	}
	attempts, err := st.Attempts(ctx, d.ID)
	if err != nil {
		return err
	}
	pauses, err := st.Pauses(ctx)
	if err != nil {
		return err
	}
	v := deliveryOf(d)
	for _, at := range attempts {
		v.Tried = append(v.Tried, attemptOf(at))
	}
	err = a.print(v, func() {
		a.line("Delivery %s", d.ID)
		for _, at := range attempts {
			a.line("%s said, after %d ms: %s", at.Provider, at.Ended.Sub(at.Begun).Milliseconds(), at.Reply)
		}
		if d.Ended.IsZero() {
			a.line("It is %s. Next: %s.", d.State, next(d, pauses))
		} else {
			a.line("It is %s.", d.State)
		}
	})
	if err == nil && d.State != store.Sent {
		err = fmt.Errorf("the letter was not sent; it is %s", d.State)
	}
	return err
}
