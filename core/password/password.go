// Package password says whether a password may be used.
//
// Rules about letters and digits make passwords that are written on notes. What
// counts is how many guesses it takes somebody who knows the lists that go
// round: of common passwords, words and names, keyboard rows, dates and
// repetitions. The estimate is that of zxcvbn (D. L. Wheeler, "zxcvbn:
// Low-Budget Password Strength Estimation", USENIX Security 2016), with the
// lists that its package ships.
package password

import (
	"errors"
	"fmt"
	"unicode/utf8"

	zxcvbn "github.com/ccojocar/zxcvbn-go"
)

// Limits of a password, in characters.
const (
	Least = 10
	Most  = 200
)

// looked is how much of a password is looked at: the estimate takes time that
// grows faster than its length, and nobody guesses so far.
const looked = 64

// leastScore of zxcvbn's 0 to 4: at least a million guesses.
const leastScore = 2

// Check returns nil if the password may be used, and else what is wrong with
// it. Known are words that somebody who guesses would try first, such as the
// person's name.
func Check(password string, known ...string) error {
	n := utf8.RuneCountInString(password)
	switch {
	case !utf8.ValidString(password):
		return errors.New("the password is not UTF-8")
	case n < Least:
		return fmt.Errorf("the password has fewer than %d characters", Least)
	case n > Most:
		return fmt.Errorf("the password has more than %d characters", Most)
	}
	head := string([]rune(password)[:min(n, looked)])
	if zxcvbn.PasswordStrength(head, known).Score < leastScore {
		return errors.New("the password would be among the first to be guessed: it is on the lists of common ones, " +
			"or made of their parts, a name, a date or a keyboard row; take some words that do not belong together")
	}
	return nil
}
