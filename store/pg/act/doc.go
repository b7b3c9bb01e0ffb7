// Package act keeps events, and the news of them.
package act
