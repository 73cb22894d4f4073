package engine

import (
	"context"
	"regexp"
	"slices"
	"strings"
	"time"

	"undersail/internal/cloud"
	"undersail/internal/store"
)

// complaint is how a line of a machine's log looks that tells of something wrong.
var complaint = regexp.MustCompile(`(?i)^e: |\b(errors?|fail(ed|ure|s)?|fatal|panic|denied|unable|cannot)\b`)

// How much of a log is told, in lines and in characters, and how long it is waited for.
const (
	logLines   = 3
	logLetters = 400
	logPatient = 10 * time.Second
)

// machineSays gives what a machine's own log says went wrong, as the end of a sentence,
// or nothing: a log that cannot be read changes nothing of what failed.
func (x *execution) machineSays(ctx context.Context, s *store.Step) string {
	logger, can := x.adapter.(cloud.Logger)
	if !can || s.Action == ActionRemove || s.Resource == Whole {
		return ""
	}
	ctx, cancel := context.WithTimeout(ctx, logPatient)
	defer cancel()
	lines, err := logger.Log(ctx, x.ref(s))
	if err != nil {
		return ""
	}
	if row := x.records.named(s.Resource); row != nil && ToldSecret(row.Want) {
		return "; its log is not shown, since it was given a secret: read it on the machine"
	}
	lines = strings.Split(x.scrub(strings.Join(lines, "\n")), "\n") // before it is cut
	lines = slices.DeleteFunc(lines, func(line string) bool { return !complaint.MatchString(line) })
	lines = lines[max(0, len(lines)-logLines):]
	if len(lines) == 0 {
		return ""
	}
	text := strings.Join(lines, "; ")
	if letters := []rune(text); len(letters) > logLetters {
		text = "..." + string(letters[len(letters)-logLetters:])
	}
	return "; its log says: " + text
}
