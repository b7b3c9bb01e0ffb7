// Package subscriptions has the queries on who is told of events, and of what they were told.
package subscriptions
