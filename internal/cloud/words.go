package cloud

import "regexp"

// Rules of firewalls in clouds have a note and no end: the note says until when a rule is
// meant.
var untilNote = regexp.MustCompile(`(?s)^(?:(.*) · )?until (\d{4}-\d{2}-\d{2})$`)

// RuleNote writes why a rule is there and until when into one text.
func RuleNote(about, until any) string {
	note, _ := about.(string)
	day, _ := until.(string)
	switch {
	case day == "":
		return note
	case note == "":
		return "until " + day
	}
	return note + " · until " + day
}

// ReadRuleNote takes such a text apart again, into the fields of a rule.
func ReadRuleNote(note string, rule map[string]any) {
	about := note
	if parts := untilNote.FindStringSubmatch(note); parts != nil {
		about, rule["until"] = parts[1], parts[2]
	}
	if about != "" {
		rule["about"] = about
	}
}
