// Package people knows who there is: people, their passwords, tokens, sessions and sign-in links, and what ends when
// one of these does.
package people
