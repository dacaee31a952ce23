package process

import (
	"fmt"
	"strings"
)

// Words splits a command line into the words that a POSIX shell makes of it, at least one. It expands no variables and no
// patterns. It refuses what only a shell can do, as a pipe, instead of leaving it out.
//
//	./check --for "cold frost"    ./check, --for, cold frost
//	$HOME/check *.cfg             $HOME/check, *.cfg
//	./check | tee log             an error
func Words(line string) (words []string, err error) {
	var word strings.Builder
	quote, inWord := byte(0), false
	for i := 0; i < len(line); i++ {
		c := line[i]
		switch {
		case quote == '\'' && c != quote:
			word.WriteByte(c)
		case c == '\\':
			if i++; i == len(line) {
				return nil, fmt.Errorf("%q is not a command line: it ends with a backslash", line)
			}
			if inWord = true; quote == '"' && !strings.ContainsRune("$`\"\\\n", rune(line[i])) {
				word.WriteByte(c)
			}
			if line[i] != '\n' { // else the line goes on
				word.WriteByte(line[i])
			}
		case c == '`' || c == '$' && strings.HasPrefix(line[i:], "$("), quote == 0 && strings.IndexByte("|&;<>()", c) >= 0:
			return nil, fmt.Errorf("%q is not a command line: %q at byte %d needs a shell; quote it, or write sh -c '…'", line, c, i+1)
		case quote != 0 && c == quote:
			quote = 0
		case quote == 0 && (c == '"' || c == '\''):
			quote, inWord = c, true
		case quote == 0 && strings.IndexByte(" \t\r\n", c) >= 0:
			if inWord {
				words = append(words, word.String())
			}
			word.Reset()
			inWord = false
		default:
			word.WriteByte(c)
			inWord = true
		}
	}
	switch {
	case quote != 0:
		return nil, fmt.Errorf("%q is not a command line: its %c is never closed", line, quote)
	case inWord:
		words = append(words, word.String())
	}
	if len(words) == 0 {
		return nil, fmt.Errorf("%q is not a command line: it is empty", line)
	}
	return words, nil
}
