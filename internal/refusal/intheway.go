package refusal

import (
	"errors"
	"fmt"
	"strings"

	"undersail/internal/store"
)

// InTheWay says what somebody else did, or does, because of which something is not begun.
func InTheWay(err error, stack string, who string) error {
	var by *store.Excluded
	var reader *store.ErrReader
	switch {
	case errors.Is(err, store.ErrMoved):
		return err
	case errors.Is(err, store.ErrRights):
		return New(Forbidden, "look at what you may with: undersail whoami, and ask again",
			"the rights of %s were changed at this moment", who)
	case errors.As(err, &reader):
		return ReadBy(stack, reader.Stack)
	case errors.As(err, &by):
		remedy := fmt.Sprintf("wait for it with: undersail watch %d", by.Run)
		switch by.By {
		case store.ByReader:
			return New(Conflict, remedy, "run %d of stack %s reads the outputs of stack %s, and is not over", by.Run,
				by.Stack, stack)
		case store.ByTaking:
			return New(Conflict, remedy, "run %d takes something away from stack %s, whose outputs stack %s reads",
				by.Run, by.Stack, stack)
		case store.ByKept:
			return New(Conflict, remedy, "run %d of stack %s removes for good what was kept", by.Run, by.Stack)
		case store.ByStack:
		}
		return New(Conflict, remedy, "run %d of stack %s is not over", by.Run, stack)
	case errors.Is(err, store.ErrConflict):
		return New(Conflict, "look with: undersail runs --stack "+stack, "%s", conflictText(err))
	}
	return err
}

// conflictText is a conflict without the word.
func conflictText(err error) string {
	_, text, found := strings.Cut(err.Error(), store.ErrConflict.Error()+": ")
	if !found {
		return "something changed at this moment"
	}
	return text
}

// ReadBy says that a stack cannot be retired because another one reads its outputs.
func ReadBy(stack, other string) *Error {
	return New(Conflict, "retire "+other+" first, or let it read another stack", "stack %s reads the outputs of %s",
		other, stack)
}
