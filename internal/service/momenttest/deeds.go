package momenttest

import (
	"context"

	"undersail/internal/accounts"
	"undersail/internal/proposing"
)

// deed is something that somebody does.
type deed struct {
	name string
	// in are the states of the stack that it is done in, the best first; nil is any.
	in []string
	do func(ctx context.Context, w *world) error
}

var deeds = []deed{
	{"apply", []string{healthy, failed, fresh, parked}, func(ctx context.Context, w *world) error {
		if w.state == failed && w.proposal.ID == 0 {
			return nil
		}
		p, err := w.s.Proposing.Show(ctx, w.proposal.ID)
		if err != nil {
			return err
		}
		return w.carry(ctx, p)
	}},
	{"accept", []string{healthy, failed, fresh, parked}, func(ctx context.Context, w *world) error {
		_, err := w.s.Proposing.Accept(ctx, w.admin(), w.proposal.ID, nil, "")
		return err
	}},
	{"refuse", []string{healthy, failed, fresh, parked}, func(ctx context.Context, w *world) error {
		_, err := w.s.Proposing.Refuse(ctx, w.admin(), w.proposal.ID, "not now")
		return err
	}},
	{"continue", []string{failed, parked}, func(ctx context.Context, w *world) error {
		p, err := w.s.Proposing.Continue(ctx, w.admin(), w.stack())
		if err != nil || p.State == proposing.Nothing {
			return err
		}
		return w.carry(ctx, p)
	}},
	{"undo", []string{failed, healthy, parked}, func(ctx context.Context, w *world) error {
		p, err := w.s.Proposing.Undo(ctx, w.admin(), w.run)
		if err != nil {
			return err
		}
		return w.carry(ctx, p)
	}},
	{"retry", []string{failed, parked}, func(ctx context.Context, w *world) error {
		run, err := w.s.Stacks.Retry(ctx, w.admin(), w.run, "")
		if err == nil {
			w.await(run.ID)
		}
		return err
	}},
	{"stop", []string{parked, failed}, func(ctx context.Context, w *world) error {
		_, err := w.s.Stacks.Stop(ctx, w.admin(), w.run)
		return err
	}},
	{"retire", []string{healthy, failed, parked}, func(ctx context.Context, w *world) error {
		if w.retiring.ID != 0 {
			return w.carry(ctx, w.retiring)
		}
		p, err := w.s.Proposing.Retire(ctx, w.admin(), w.stack())
		if err != nil {
			return err
		}
		return w.carry(ctx, p)
	}},
	{"take over", nil, func(ctx context.Context, w *world) error { return w.carry(ctx, w.taking) }},
	{"kept remove", nil, func(ctx context.Context, w *world) error { return w.carry(ctx, w.removing) }},
	{"kept move", nil, func(ctx context.Context, w *world) error {
		_, err := w.s.Proposing.MoveKept(ctx, w.admin(), w.taker()+"/hold", w.moved()+"/hold")
		return err
	}},
	{"task again", []string{healthy}, func(ctx context.Context, w *world) error { return w.carry(ctx, w.proposal) }},
	{"give", []string{parked}, func(ctx context.Context, w *world) error {
		run, err := w.s.Proposing.Give(ctx, w.admin(), w.stack(), map[string]any{"serial": "7"})
		if err == nil {
			w.await(run.ID)
		}
		return err
	}},
	{"bound account", nil, func(ctx context.Context, w *world) error {
		yes := true
		_, err := w.s.Accounts.Bound(ctx, w.admin(), "saltmere-lab", accounts.Bounds{SecondPerson: &yes})
		return err
	}},
	{"renew credentials", nil, func(ctx context.Context, w *world) error {
		_, err := w.s.Accounts.Renew(ctx, w.admin(), "saltmere-lab", nil)
		return err
	}},
	{"close account", nil, func(ctx context.Context, w *world) error {
		_, err := w.s.Accounts.Close(ctx, w.admin(), "saltmere-lab", "over", false)
		return err
	}},
	{"read", []string{healthy}, func(ctx context.Context, w *world) error { return w.carry(ctx, w.reading) }},
}

// losing takes the rights of whoever does the first deed away: it meets those alone that ask
// for them in the moment of their effect, and is no deed of the pairs.
var losing = deed{"lose rights", nil, func(_ context.Context, w *world) error {
	w.exec("UPDATE users SET roles = '{viewer}' WHERE name = $1", w.admin().Name)
	return nil
}}

// meets gives the state of the stack in which two deeds meet.
func meets(a, b deed) string {
	if a.name == "close account" || b.name == "close account" {
		other := a
		if a.name == "close account" {
			other = b
		}
		for _, s := range other.in {
			if s == fresh {
				return fresh
			}
		}
	}
	best := func(x, y deed) string {
		for _, s := range x.in {
			if y.in == nil {
				return s
			}
			for _, t := range y.in {
				if s == t {
					return s
				}
			}
		}
		return ""
	}
	switch {
	case a.in == nil && b.in == nil:
		return fresh
	case a.in == nil:
		return best(b, a)
	}
	if s := best(a, b); s != "" {
		return s
	}
	if b.name == "task again" {
		return b.in[0]
	}
	return a.in[0] // one of them is refused
}
