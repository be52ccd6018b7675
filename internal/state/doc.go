// Package state is what Morvant remembers between runs, in one database: which builds are
// recorded, what each lane is held to, every change that was made, backups of saves, and notes of
// what has begun.
//
// Package game opens it, and puts it together again when it is damaged. Several processes may
// have it open; each call is one transaction.
package state
