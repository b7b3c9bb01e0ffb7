// Package subscriptions tells other systems what happens: who is told of what, the sending itself, and what the
// receivers report back. Each subscription is served by one process at a time. It has a place in the order of events;
// what was not taken is kept beside it and tried again, in order for each subject, while the rest goes on. Nothing is
// held in the database while a receiver is waited for.
package subscriptions
