package guest

import (
	"context"
	"strconv"
	"strings"

	"mvdan.cc/sh/v3/syntax"
)

func wait(ctx context.Context, c *call) int {
	seconds, err := strconv.ParseFloat(c.last(), 64)
	if err != nil {
		return c.fail(1, "sleep: invalid time interval '%s'", c.last())
	}
	c.guest.sleep(ctx, seconds)
	return 0
}

// sh runs a script of its own: a text after -c, or a file. It has a number by which it
// is found while it runs.
func sh(ctx context.Context, c *call) int {
	args := c.args
	script, params := "", []string(nil)
	switch {
	case len(args) > 1 && args[0] == "-c":
		script = args[1]
		if len(args) > 3 {
			params = args[3:]
		}
	case len(args) > 0:
		text, ok := c.guest.read(c.at(args[0]))
		if !ok {
			return c.fail(127, "sh: %s: No such file or directory", args[0])
		}
		script, params = text, args[1:]
	default:
		script, _ = c.input("")
	}
	number := c.guest.begins()
	defer c.guest.ends(number)
	// The number of a shell is $$, which an interpreter inside another process has not.
	script = strings.ReplaceAll(script, "$$", strconv.Itoa(number))
	file, err := syntax.NewParser().Parse(strings.NewReader(script), "")
	if err != nil {
		return c.fail(2, "sh: %v", err)
	}
	return c.guest.interpret(ctx, file, c.user, c.env, c.in, c.out, c.err, params...)
}

// within runs the rest of the line as a command that outlives whoever began it.
func within(_ context.Context, c *call) int {
	args := c.args
	for len(args) > 0 && strings.HasPrefix(args[0], "-") {
		args = args[1:]
	}
	if len(args) == 0 {
		return 0
	}
	inner := *c
	inner.args = args[1:]
	return inner.do(c.guest.alive, args[0])
}

func kill(_ context.Context, c *call) int {
	number, err := strconv.Atoi(c.last())
	if err != nil || !c.guest.runs(number) {
		return c.fail(1, "kill: (%s) - No such process", c.last())
	}
	return 0
}

func processes(_ context.Context, c *call) int {
	for _, number := range c.guest.numbers() {
		c.say("%d sh", number)
	}
	return 0
}

// queue submits jobs to the pool of the network, tells of them, or waits until all are
// done.
func queue(ctx context.Context, c *call) int {
	if c.guest.Queue == nil || c.guest.spoilt("queue") {
		return c.fail(1, "tide-queue: no queue answers in this network")
	}
	verb := append(c.names(), "")[0]
	if verb == "submit" {
		n, err := strconv.Atoi(c.last())
		if err != nil || n < 1 {
			return c.fail(2, "tide-queue submit: how many jobs?")
		}
		pool, err := c.guest.Submit(n)
		if err != nil {
			return c.fail(1, "tide-queue: %v", err)
		}
		return c.say("%d jobs are queued for %s", n, pool)
	}
	for {
		queued, done, members := c.guest.Queue()
		if verb != "wait" || queued == 0 {
			return c.say("queued %d, done %d, members %d", queued, done, members)
		}
		if c.guest.sleep(ctx, 5); ctx.Err() != nil {
			return 130
		}
	}
}
