package secretrule

import (
	"strings"
	"unicode"
)

// commonWords are what people choose when they are asked for a password, without the
// digits and signs that they put around it.
var commonWords = strings.Fields(`
	password passwort passw passwd pass secret topsecret geheim admin administrator adminadmin root rootroot toor letmein welcome welcometo login logon
	qwerty qwertz qwertyuiop qwertzuiop azerty asdf asdfgh asdfghjkl zxcvbn zxcvbnm abc abcd abcdef abcdefgh changeme changeit default guest user
	test tester testing testtest demo sample example temp temporary iloveyou love lovely dragon monkey football baseball soccer hockey master
	superman batman shadow sunshine princess flower summer winter spring autumn january february monday friday hello hallo hellohello freedom
	whatever trustno computer internet server database oracle postgres mysql cloud access manager operator service system support backup
	michael jennifer thomas charlie daniel jordan robert matthew andrew joshua starwars pokemon cheese chocolate coffee cookie banana orange
	killer ninja hunter ranger soldier mustang ferrari porsche harley yankees liverpool chelsea arsenal money million company office business
	blank none nothing unknown security secure private public letmeinnow opensesame`)

// spelled undoes the usual swaps of letters for digits and signs.
var spelled = strings.NewReplacer("0", "o", "1", "l", "3", "e", "4", "a", "5", "s", "7", "t", "8", "b", "9", "g", "@",
	"a", "$", "s", "!", "i", "+", "t")

// leftOver is how many letters besides a common word or a name make a secret its own.
const leftOver = 6

// letters are the letters of a text, small.
func letters(text string) string {
	return strings.Map(func(c rune) rune {
		if unicode.IsLetter(c) {
			return c
		}
		return -1
	}, strings.ToLower(text))
}

// isCommon tells whether nothing is left of a secret but common words, rows of
// neighbouring characters and a few others.
func isCommon(secret string) bool {
	different := map[rune]bool{}
	for _, c := range strings.ToLower(secret) {
		different[c] = true
	}
	if len(different) < 5 || inRow(secret)*3 > len(secret)*2 {
		return true
	}
	for _, text := range []string{letters(secret), letters(spelled.Replace(strings.ToLower(secret)))} {
		rest := text
		for again := true; again; {
			again = false
			longest := ""
			for _, word := range commonWords {
				if len(word) > len(longest) && strings.Contains(rest, word) {
					longest = word
				}
			}
			if longest != "" {
				rest, again = strings.Replace(rest, longest, "", 1), true
			}
		}
		if rest != text && len(rest) < leftOver && len(secret)-len(text) <= leftOver {
			return true
		}
	}
	return false
}

// inRow counts the characters that follow the one before them: 1234, dcba, aaaa.
func inRow(secret string) (n int) {
	step := 0
	for i := 1; i < len(secret); i++ {
		now := int(secret[i]) - int(secret[i-1])
		if now >= -1 && now <= 1 && (now == step || n == 0) {
			n++
		}
		step = now
	}
	return n
}

// derivesFrom gives the name that a secret is made of with little besides, or nothing.
func derivesFrom(secret string, names []string) string {
	for _, name := range names {
		own := letters(name)
		if len(own) < 4 {
			continue
		}
		for _, text := range []string{letters(secret), letters(spelled.Replace(strings.ToLower(secret)))} {
			if rest := strings.ReplaceAll(text, own, ""); rest != text && len(rest) < leftOver {
				return name
			}
		}
	}
	return ""
}
