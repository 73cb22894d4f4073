package engine

import (
	"context"
	"log/slog"
	"time"

	"undersail/internal/cloud"
	"undersail/internal/fault"
)

// watch hears from a cloud that tells of changes by itself, and gives the steps
// whose resources changed. It is nil for a cloud that does not. What is told only
// moves the next look: a stream that breaks off costs no more than its notices.
func (x *execution) watch(ctx context.Context) <-chan int {
	w, tells := x.adapter.(cloud.Watcher)
	if !tells {
		return nil
	}
	byToken := map[string]int{}
	for i, s := range x.steps {
		byToken[s.Token] = i
	}
	noticed := make(chan int, 64)
	for _, region := range x.regions() {
		fault.Go(x.engine.Log, "hearing from a cloud", func() {
			cursor := ""
			for ctx.Err() == nil {
				cursor = x.hear(ctx, w, region, cursor, func(n cloud.Notice) {
					if step, ours := byToken[n.Token]; ours {
						select {
						case noticed <- step:
						case <-ctx.Done():
						}
					}
				})
				select {
				case <-ctx.Done():
				case <-time.After(time.Second):
				}
			}
		})
	}
	return noticed
}

// hear hands on what a cloud tells until its stream breaks off, and gives where it can be taken
// up again.
func (x *execution) hear(ctx context.Context, w cloud.Watcher, region, cursor string, tell func(cloud.Notice)) string {
	err := fault.Caught(func() error {
		for notice, err := range w.Watch(ctx, region, cursor) {
			if err != nil {
				break
			}
			cursor = notice.Cursor
			if tell(notice); ctx.Err() != nil {
				break
			}
		}
		return nil
	})
	if err != nil {
		fault.Log(x.engine.Log, slog.LevelError, "hearing from a cloud", err, "run", x.run.ID, "region", region)
	}
	return cursor
}
