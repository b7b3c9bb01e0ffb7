// Package weights keeps what files of weights hold.
package weights
