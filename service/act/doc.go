// Package act is what every slice stands on: who acts and what they may, events, live news, the clock of the other
// side, addresses, pages of lists, and what of an error a caller is told. It knows no run and no checkpoint but by
// address, and imports no slice.
package act
