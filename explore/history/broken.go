package history

import (
	"context"
	"fmt"

	"github.com/illumicode/illumicode/explore/model"
)

// breaks does a call during which a fault happens. What it does must be done as a whole or not at all; what its caller
// was told must be true; a letter that was tried ends, waits, or is known to have perhaps been sent.
func (p *player) breaks(ctx context.Context) error {
	c, ok := resolve(p.m, p.h.Calls[0])
	if !ok {
		return nil
	}
	answer, at := p.w.Faulty(ctx, &c, *p.h.Fault)
	if at == "" {
		return nil
	}
	p.m.Covered["fault: "+string(at)+", "+string(c.Verb)]++
	p.say("%10v  %s: %s", p.m.Now, Say(c), answer)
	p.say("            the fault: %s; the process ends: %t", at, p.h.Fault.Killed)
	if c.Verb == model.Deliver {
		return p.recovered(ctx, c)
	}
	before := p.m.Clone()
	want := p.m.Do(c)
	if c.Verb == model.Care || c.Verb == model.EndRecall { // many transactions, which go on when it is done again
		if _, err := do(ctx, p.w, &c); err != nil {
			return p.fail("once more: " + err.Error())
		}
		before, answer, want = p.m, "", "once more"
	}
	state, err := p.w.State(ctx)
	if err != nil {
		return err
	}
	done, not := differ(p.m.State(), state), differ(before.State(), state)
	switch {
	case done == "" || plain(answer) != plain(want) && not == "":
		return nil
	case plain(answer) == plain(want):
		return p.fail("it was told that it is done:\n" + done)
	}
	return p.fail("it is neither done:\n" + done + "\nnor not done:\n" + not)
}

// recovered looks at a letter whose delivery broke, after another worker has recovered it.
func (p *player) recovered(ctx context.Context, c model.Call) error {
	if err := p.w.Recover(ctx); err != nil {
		return err
	}
	state, attempts, left, err := p.w.Letter(ctx, c.Letter)
	switch {
	case err != nil:
		return p.fail(fmt.Sprintf("letter %d is lost: %v", c.Letter, err))
	case state == "claimed":
		return p.fail(fmt.Sprintf("letter %d stays claimed", c.Letter))
	case left && attempts == 0:
		return p.fail(fmt.Sprintf("letter %d left, and no attempt is on record", c.Letter))
	case !left && state == "sent":
		return p.fail(fmt.Sprintf("letter %d is said to be sent, and is not", c.Letter))
	}
	return nil
}
